package pairing

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
	"candidharbor/internal/refusal"
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

// Addresses are how other sites reach this one.
func (s *Service) Addresses() []string {
	if len(s.Conf.PeerAddresses) > 0 {
		return s.Conf.PeerAddresses
	}
	return []string{s.PeerAddress()}
}

// Invite makes an invitation that another site can use once.
func (s *Service) Invite(grants []string) (api.Invitation, error) {
	g, err := FirstGrants(grants)
	if err != nil {
		return api.Invitation{}, err
	}
	secret := make([]byte, 20)
	rand.Read(secret)
	now := s.Clock.Now()
	inv := invitation{Name: s.Name(), Key: s.Identity().Public(), Secret: secret, Addresses: s.Addresses(),
		Ends: now.Add(invitationLasts).Unix()}
	raw, err := cbor.Marshal(inv)
	if err != nil {
		return api.Invitation{}, err
	}
	if err := s.Catalog.PutInvitation(object.Sum(secret).String(), now, now.Add(invitationLasts), g); err != nil {
		return api.Invitation{}, err
	}
	return api.Invitation{Text: invitationPrefix + base64.RawURLEncoding.EncodeToString(raw),
		Ends: now.Add(invitationLasts)}, nil
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

// ReadInvitation reads an invitation that may be used here now.
func (s *Service) ReadInvitation(text string) (inv invitation, err error) {
	text = strings.Join(strings.Fields(text), "")
	raw, err := base64.RawURLEncoding.DecodeString(strings.TrimPrefix(text, invitationPrefix))
	if !strings.HasPrefix(text, invitationPrefix) || err != nil || cbor.Unmarshal(raw, &inv) != nil ||
		len(inv.Key) != ed25519.PublicKeySize {
		return inv, refusal.Badf("this is not an invitation, or a part of it is missing: paste the whole line that candid "+
			"site invite printed, beginning with %s", invitationPrefix)
	}
	if err := policy.CheckName("site", inv.Name); err != nil {
		return inv, refusal.Wrap(refusal.Misuse, err)
	}
	if inv.Name == s.Name() {
		return inv, refusal.Conflictf("the invitation comes from a site of the same name, %s: two paired sites need "+
			"different names", s.Name())
	}
	if s.Clock.Now().Unix() > inv.Ends {
		return inv, refusal.Wrap(refusal.Conflict, catalog.ErrInvitationLate)
	}
	return inv, nil
}

// Pair uses an invitation: both sites then know each other's name, key and addresses, and
// what they may do at each other's.
func (s *Service) Pair(ctx context.Context, text string, grants []string) (*api.Peer, error) {
	g, err := FirstGrants(grants)
	if err != nil {
		return nil, err
	}
	inv, err := s.ReadInvitation(text)
	if err != nil {
		return nil, err
	}
	var errs []error
	for _, addr := range inv.Addresses {
		link, err := transfer.Dial(ctx, addr, s.Identity(), inv.Key)
		if err != nil {
			errs = append(errs, fmt.Errorf("%s: %w", addr, err))
			continue
		}
		var reply pairReply
		err = link.Ask("pair", pairRequest{Secret: inv.Secret, Name: s.Name(), Addresses: s.Addresses(), Grants: g}, &reply)
		link.Close()
		if err != nil {
			return nil, refusal.Wrap(refusal.Conflict, fmt.Errorf("%s refused to pair: %w", inv.Name, err))
		}
		p := &catalog.Peer{Name: inv.Name, Key: hex.EncodeToString(inv.Key),
			Addresses: catalog.JSON[[]string]{V: inv.Addresses},
			Paired:    catalog.At(s.Clock.Now()), Seen: catalog.At(s.Clock.Now()), Grants: catalog.JSON[catalog.Grants]{V: g},
			Granted: catalog.JSON[catalog.Grants]{V: reply.Grants}}
		if err := s.SameKeyAs(inv.Name, p.Key); err != nil {
			return nil, err
		}
		if err := errors.Join(s.Catalog.PutPeer(p), s.onGrants()); err != nil {
			return nil, err
		}
		s.run.Changed("sites")
		view := s.peerView(p)
		return &view, nil
	}
	return nil, refusal.Wrap(refusal.Elsewhere, fmt.Errorf("the site %s cannot be reached: %w; check that its service "+
		"runs and that this address is open", inv.Name, errors.Join(errs...)))
}

// SameKeyAs refuses a second site of a name that is paired with another key, and a second name
// of a site that is paired.
func (s *Service) SameKeyAs(name, key string) error {
	if old, err := s.Catalog.PeerByKey(key); err != nil {
		return err
	} else if old != nil && old.Name != name {
		return refusal.Conflictf("this key is paired here already, as the site %s: end that pairing first, with candid "+
			"site revoke %s", old.Name, old.Name)
	}
	if old, err := s.Catalog.Peer(name); err == nil && old.Key != key {
		return refusal.Conflictf("another site named %s is paired here already, with another key: end that pairing first, "+
			"with candid site revoke %s", name, name)
	}
	return nil
}

func (s *Service) peerView(p *catalog.Peer) api.Peer {
	h, err := s.Catalog.PeerHistory(p.Name)
	if err != nil {
		s.Log.Error("what was seen of a site cannot be read", "site", p.Name, "error", err)
	}
	said, err := s.Catalog.Descriptions(catalog.DescribedSite)
	if err != nil {
		s.Log.Error("descriptions cannot be read", "error", err)
	}
	s.mu.Lock()
	free := s.rooms[p.Name]
	s.mu.Unlock()
	return api.Peer{Name: p.Name, Key: p.Key, Addresses: p.Addresses.V, Paired: p.Paired.Time, Seen: p.Seen.Ptr(),
		Up: s.Up(p.Name), Release: h.Release, FreeBytes: free, Description: said[p.Name], Line: s.Line(p.Name),
		OwnAddresses: p.OwnAddresses.V,
		Grants:       grantsView(p.Grants.V), Granted: grantsView(p.Granted.V), Pace: s.paceView(p)}
}

// Peers lists the paired sites.
func (s *Service) Peers() ([]api.Peer, error) {
	rows, err := s.Catalog.Peers()
	out := make([]api.Peer, len(rows))
	for i, p := range rows {
		out[i] = s.peerView(p)
	}
	return out, err
}

func (s *Service) servePair(key ed25519.PublicKey, from string, body []byte, st *transfer.Stream) error {
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
	if err := s.access.CountTry("pair " + host); err != nil {
		return err
	}
	secret := object.Sum(q.Secret).String()
	if err := s.Catalog.Invited(secret, s.Clock.Now()); err != nil {
		return err
	}
	s.access.ForgetTries("pair " + host)
	if q.Name == s.Name() {
		return fmt.Errorf("this site is named %s too: two paired sites need different names", q.Name)
	}
	if err := s.SameKeyAs(q.Name, hex.EncodeToString(key)); err != nil {
		return err
	}
	if len(q.Addresses) > mostAddresses {
		return fmt.Errorf("%d addresses are too many", len(q.Addresses))
	}
	g, err := s.Catalog.UseInvitation(secret, q.Name, s.Clock.Now())
	if err != nil {
		return err
	}
	p := &catalog.Peer{Name: q.Name, Key: hex.EncodeToString(key), Addresses: catalog.JSON[[]string]{V: q.Addresses},
		Paired: catalog.At(s.Clock.Now()), Seen: catalog.At(s.Clock.Now()), Grants: catalog.JSON[catalog.Grants]{V: g},
		Granted: catalog.JSON[catalog.Grants]{V: q.Grants}}
	if err := errors.Join(s.Catalog.PutPeer(p), s.onGrants()); err != nil {
		return err
	}
	s.run.Changed("sites")
	return st.Reply(pairReply{Name: s.Name(), Grants: g})
}
