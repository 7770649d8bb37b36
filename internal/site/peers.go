package site

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/policy"
	"candidharbor/internal/transfer"

	"github.com/fxamacker/cbor/v2"
)

// invitation is what an invitation's text holds.
type invitation struct {
	Name      string   `cbor:"1,keyasint"`
	Key       []byte   `cbor:"2,keyasint"`
	Secret    []byte   `cbor:"3,keyasint"`
	Addresses []string `cbor:"4,keyasint"`
	Ends      int64    `cbor:"5,keyasint"`
}

const (
	invitationPrefix = "harbor-invitation:"
	invitationLasts  = time.Hour
)

// addresses are how other sites reach this one.
func (s *Site) addresses() []string {
	if len(s.cfg.PeerAddresses) > 0 {
		return s.cfg.PeerAddresses
	}
	return []string{s.peerAddress()}
}

// Invite makes an invitation that another site can use once.
func (s *Site) Invite(grants []string) (api.Invitation, error) {
	g, err := firstGrants(grants)
	if err != nil {
		return api.Invitation{}, err
	}
	secret := make([]byte, 20)
	rand.Read(secret)
	now := s.clock.Now()
	inv := invitation{Name: s.Name(), Key: s.identity().Public(), Secret: secret, Addresses: s.addresses(), Ends: now.Add(invitationLasts).Unix()}
	raw, err := cbor.Marshal(inv)
	if err != nil {
		return api.Invitation{}, err
	}
	if err := s.cat.PutInvitation(object.Sum(secret).String(), now, now.Add(invitationLasts), g); err != nil {
		return api.Invitation{}, err
	}
	return api.Invitation{Text: invitationPrefix + base64.RawURLEncoding.EncodeToString(raw), Ends: now.Add(invitationLasts)}, nil
}

type pairRequest struct {
	Secret    []byte   `cbor:"1,keyasint"`
	Name      string   `cbor:"2,keyasint"`
	Addresses []string `cbor:"3,keyasint"`
	// Grants are what the inviting site may do at the other.
	Grants catalog.Grants `cbor:"4,keyasint"`
}

type pairReply struct {
	Name   string         `cbor:"1,keyasint"`
	Grants catalog.Grants `cbor:"2,keyasint"`
}

// readInvitation reads an invitation that may be used here now.
func (s *Site) readInvitation(text string) (inv invitation, err error) {
	text = strings.Join(strings.Fields(text), "")
	raw, err := base64.RawURLEncoding.DecodeString(strings.TrimPrefix(text, invitationPrefix))
	if !strings.HasPrefix(text, invitationPrefix) || err != nil || cbor.Unmarshal(raw, &inv) != nil || len(inv.Key) != ed25519.PublicKeySize {
		return inv, bad("this is not an invitation, or a part of it is missing: paste the whole line that candid site invite printed, beginning with %s", invitationPrefix)
	}
	if err := policy.CheckName("site", inv.Name); err != nil {
		return inv, &Error{Misuse, err}
	}
	if inv.Name == s.Name() {
		return inv, conflict("the invitation comes from a site of the same name, %s: two paired sites need different names", s.Name())
	}
	if s.clock.Now().Unix() > inv.Ends {
		return inv, &Error{Conflict, catalog.ErrInvitationLate}
	}
	return inv, nil
}

// Pair uses an invitation: both sites then know each other's name, key and addresses, and
// what they may do at each other's.
func (s *Site) Pair(ctx context.Context, text string, grants []string) (*api.Peer, error) {
	g, err := firstGrants(grants)
	if err != nil {
		return nil, err
	}
	inv, err := s.readInvitation(text)
	if err != nil {
		return nil, err
	}
	var errs []error
	for _, addr := range inv.Addresses {
		link, err := transfer.Dial(ctx, addr, s.identity(), inv.Key)
		if err != nil {
			errs = append(errs, fmt.Errorf("%s: %w", addr, err))
			continue
		}
		var reply pairReply
		err = link.Ask("pair", pairRequest{Secret: inv.Secret, Name: s.Name(), Addresses: s.addresses(), Grants: g}, &reply)
		link.Close()
		if err != nil {
			return nil, &Error{Conflict, fmt.Errorf("%s refused to pair: %w", inv.Name, err)}
		}
		p := &catalog.Peer{Name: inv.Name, Key: hex.EncodeToString(inv.Key), Addresses: catalog.JSON[[]string]{V: inv.Addresses},
			Paired: catalog.At(s.clock.Now()), Seen: catalog.At(s.clock.Now()), Grants: catalog.JSON[catalog.Grants]{V: g}, Granted: catalog.JSON[catalog.Grants]{V: reply.Grants}}
		if err := s.sameKeyAs(inv.Name, p.Key); err != nil {
			return nil, err
		}
		if err := s.cat.PutPeer(p); err != nil {
			return nil, err
		}
		s.changed("sites")
		view := s.peerView(p)
		return &view, nil
	}
	return nil, &Error{Elsewhere, fmt.Errorf("the site %s cannot be reached: %w; check that its service runs and that this address is open", inv.Name, errors.Join(errs...))}
}

// sameKeyAs refuses a second site of a name that is paired with another key, and a second name
// of a site that is paired.
func (s *Site) sameKeyAs(name, key string) error {
	if old, err := s.cat.PeerByKey(key); err != nil {
		return err
	} else if old != nil && old.Name != name {
		return conflict("this key is paired here already, as the site %s: end that pairing first, with candid site revoke %s", old.Name, old.Name)
	}
	if old, err := s.cat.Peer(name); err == nil && old.Key != key {
		return conflict("another site named %s is paired here already, with another key: end that pairing first, with candid site revoke %s", name, name)
	}
	return nil
}

func (s *Site) peerView(p *catalog.Peer) api.Peer {
	return api.Peer{Name: p.Name, Key: p.Key, Addresses: p.Addresses.V, Paired: p.Paired.Time, Seen: p.Seen.Ptr(), Up: s.up(p.Name),
		Grants: grantsView(p.Grants.V), Granted: grantsView(p.Granted.V), Pace: s.paceView(p)}
}

// Peers lists the paired sites.
func (s *Site) Peers() ([]api.Peer, error) {
	rows, err := s.cat.Peers()
	out := make([]api.Peer, len(rows))
	for i, p := range rows {
		out[i] = s.peerView(p)
	}
	return out, err
}

func (s *Site) servePair(key ed25519.PublicKey, from string, body []byte, st *transfer.Stream) error {
	var q pairRequest
	if err := transfer.Decode(body, &q); err != nil {
		return err
	}
	if err := policy.CheckName("site", q.Name); err != nil {
		return err
	}
	// Who has no invitation learns neither which sites are paired nor, by trying, of a secret.
	host, _, err := net.SplitHostPort(from)
	if err != nil {
		host = from
	}
	if wait := s.signing.count("pair "+host, freeTries, mostWait); wait > 0 {
		return tooMany(wait)
	}
	secret := object.Sum(q.Secret).String()
	if err := s.cat.Invited(secret, s.clock.Now()); err != nil {
		return err
	}
	s.signing.tries.Remove("pair " + host)
	if q.Name == s.Name() {
		return fmt.Errorf("this site is named %s too: two paired sites need different names", q.Name)
	}
	if err := s.sameKeyAs(q.Name, hex.EncodeToString(key)); err != nil {
		return err
	}
	if len(q.Addresses) > mostAddresses {
		return fmt.Errorf("%d addresses are too many", len(q.Addresses))
	}
	g, err := s.cat.UseInvitation(secret, q.Name, s.clock.Now())
	if err != nil {
		return err
	}
	p := &catalog.Peer{Name: q.Name, Key: hex.EncodeToString(key), Addresses: catalog.JSON[[]string]{V: q.Addresses},
		Paired: catalog.At(s.clock.Now()), Seen: catalog.At(s.clock.Now()), Grants: catalog.JSON[catalog.Grants]{V: g}, Granted: catalog.JSON[catalog.Grants]{V: q.Grants}}
	if err := s.cat.PutPeer(p); err != nil {
		return err
	}
	s.changed("sites")
	return st.Reply(pairReply{Name: s.Name(), Grants: g})
}
