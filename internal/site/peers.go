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
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.peerAddr != nil {
		return []string{s.peerAddr.String()}
	}
	return []string{s.cfg.PeerListen}
}

// Invite makes an invitation that another site can use once.
func (s *Site) Invite() (api.Invitation, error) {
	secret := make([]byte, 20)
	rand.Read(secret)
	now := s.clock.Now()
	inv := invitation{Name: s.Name(), Key: s.id.Public(), Secret: secret, Addresses: s.addresses(), Ends: now.Add(invitationLasts).Unix()}
	raw, err := cbor.Marshal(inv)
	if err != nil {
		return api.Invitation{}, err
	}
	if err := s.cat.PutInvitation(object.Sum(secret).String(), now, now.Add(invitationLasts)); err != nil {
		return api.Invitation{}, err
	}
	return api.Invitation{Text: invitationPrefix + base64.RawURLEncoding.EncodeToString(raw), Ends: now.Add(invitationLasts)}, nil
}

type pairRequest struct {
	Secret    []byte   `cbor:"1,keyasint"`
	Name      string   `cbor:"2,keyasint"`
	Addresses []string `cbor:"3,keyasint"`
}

type pairReply struct {
	Name string `cbor:"1,keyasint"`
}

// Pair uses an invitation: both sites then know each other's name, key and addresses.
func (s *Site) Pair(ctx context.Context, text string) (*api.Peer, error) {
	text = strings.Join(strings.Fields(text), "")
	raw, err := base64.RawURLEncoding.DecodeString(strings.TrimPrefix(text, invitationPrefix))
	var inv invitation
	if !strings.HasPrefix(text, invitationPrefix) || err != nil || cbor.Unmarshal(raw, &inv) != nil || len(inv.Key) != ed25519.PublicKeySize {
		return nil, bad("this is not an invitation, or a part of it is missing: paste the whole line that candid site invite printed, beginning with %s", invitationPrefix)
	}
	if err := policy.CheckName("site", inv.Name); err != nil {
		return nil, &Error{Misuse, err}
	}
	if inv.Name == s.Name() {
		return nil, conflict("the invitation comes from a site of the same name, %s: two paired sites need different names", s.Name())
	}
	if s.clock.Now().Unix() > inv.Ends {
		return nil, &Error{Conflict, catalog.ErrInvitationLate}
	}
	var errs []error
	for _, addr := range inv.Addresses {
		link, err := transfer.Dial(ctx, addr, s.id, inv.Key)
		if err != nil {
			errs = append(errs, fmt.Errorf("%s: %w", addr, err))
			continue
		}
		var reply pairReply
		err = link.Ask("pair", pairRequest{Secret: inv.Secret, Name: s.Name(), Addresses: s.addresses()}, &reply)
		link.Close()
		if err != nil {
			return nil, &Error{Conflict, fmt.Errorf("%s refused to pair: %w", inv.Name, err)}
		}
		p := &catalog.Peer{Name: inv.Name, Key: hex.EncodeToString(inv.Key), Addresses: catalog.JSON[[]string]{V: inv.Addresses},
			Paired: catalog.At(s.clock.Now()), Seen: catalog.At(s.clock.Now())}
		if err := s.cat.PutPeer(p); err != nil {
			return nil, err
		}
		s.changed("sites")
		view := peerView(p)
		return &view, nil
	}
	return nil, &Error{Elsewhere, fmt.Errorf("the site %s cannot be reached: %w; check that its service runs and that this address is open", inv.Name, errors.Join(errs...))}
}

func peerView(p *catalog.Peer) api.Peer {
	return api.Peer{Name: p.Name, Key: p.Key, Addresses: p.Addresses.V, Paired: p.Paired.Time, Seen: timePtr(p.Seen)}
}

// Peers lists the paired sites.
func (s *Site) Peers() ([]api.Peer, error) {
	rows, err := s.cat.Peers()
	out := make([]api.Peer, len(rows))
	for i, p := range rows {
		out[i] = peerView(p)
	}
	return out, err
}

type hello struct {
	Name string `cbor:"1,keyasint"`
	Now  int64  `cbor:"2,keyasint"`
}

// CheckPeer tests whether a peer is reachable, is who it was, and how its clock goes.
func (s *Site) CheckPeer(ctx context.Context, name string) (*api.PeerCheck, error) {
	p, err := s.cat.Peer(name)
	if err != nil {
		return nil, err
	}
	link, addr, err := s.link(ctx, p)
	if err != nil {
		return nil, err
	}
	begin := time.Now()
	var h hello
	if err := link.Ask("hello", hello{Name: s.Name()}, &h); err != nil {
		return nil, &Error{Elsewhere, fmt.Errorf("site %s: %w", name, err)}
	}
	rtt := time.Since(begin)
	skew := time.Unix(0, h.Now).Sub(s.clock.Now().Add(-rtt / 2))
	c := &api.PeerCheck{Name: h.Name, Address: addr, RoundTripSeconds: rtt.Seconds(), ClockSkewSeconds: skew.Seconds()}
	c.Sentence = fmt.Sprintf("%s answers at %s with the paired key, in %s.", h.Name, addr, rtt.Round(10*time.Microsecond))
	if skew.Abs() > time.Minute {
		c.Sentence += fmt.Sprintf(" Its clock differs by %s: set both clocks by NTP.", ago(skew))
	}
	return c, nil
}

// link returns a link to a peer that answers, dialling when there is none.
func (s *Site) link(ctx context.Context, p *catalog.Peer) (*transfer.Link, string, error) {
	s.mu.Lock()
	l, cut := s.links[p.Name], s.cut
	s.mu.Unlock()
	if cut {
		return nil, "", &Error{Elsewhere, fmt.Errorf("site %s cannot be reached: the line is down", p.Name)}
	}
	if l != nil && l.Alive() {
		return l, l.Address, nil
	}
	key, err := hex.DecodeString(p.Key)
	if err != nil {
		return nil, "", err
	}
	var errs []error
	for _, addr := range p.Addresses.V {
		l, err := transfer.Dial(ctx, addr, s.id, key)
		if err != nil {
			errs = append(errs, fmt.Errorf("%s: %w", addr, err))
			continue
		}
		s.mu.Lock()
		s.links[p.Name] = l
		s.mu.Unlock()
		return l, addr, s.cat.SawPeer(p.Name, s.clock.Now())
	}
	return nil, "", &Error{Elsewhere, fmt.Errorf("site %s cannot be reached: %w", p.Name, errors.Join(errs...))}
}

// CutLine makes all peers unreachable until it is mended, as an outage does.
func (s *Site) CutLine(cut bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.cut = cut
	if cut {
		for k, l := range s.links {
			l.Close()
			delete(s.links, k)
		}
	}
}

// ServePeers accepts other sites until the site closes.
func (s *Site) ServePeers(l net.Listener) {
	s.mu.Lock()
	s.peerAddr = l.Addr()
	s.mu.Unlock()
	stop := context.AfterFunc(s.ctx, func() { l.Close() })
	defer stop()
	for {
		c, err := l.Accept()
		if err != nil {
			if s.ctx.Err() == nil && !errors.Is(err, net.ErrClosed) {
				s.log.Error("other sites cannot connect any more", "error", err)
			}
			return
		}
		s.jobs.Add(1)
		go func() {
			defer s.jobs.Done()
			if err := transfer.Accept(s.ctx, c, s.id, s.serveStream); err != nil {
				s.log.Info("a peer's connection ended", "from", c.RemoteAddr(), "error", err)
			}
		}()
	}
}

// serveStream answers one request of a peer. Only pairing is open to keys not known.
func (s *Site) serveStream(ctx context.Context, key ed25519.PublicKey, st *transfer.Stream) {
	op, body, err := st.Request()
	if err != nil {
		return
	}
	if op == "pair" {
		if err := s.servePair(key, body, st); err != nil {
			st.Refuse(&transfer.Refusal{What: err.Error(), Final: true})
		}
		return
	}
	peer, err := s.cat.PeerByKey(hex.EncodeToString(key))
	if err == nil && peer == nil {
		err = &transfer.Refusal{What: fmt.Sprintf("the site %s does not know this key: pair first", s.Name()), Final: true}
	}
	if err == nil {
		_ = s.cat.SawPeer(peer.Name, s.clock.Now())
		switch op {
		case "hello":
			err = st.Reply(hello{Name: s.Name(), Now: s.clock.Now().UnixNano()})
		case transfer.OpCarry:
			err = s.serveCarry(ctx, peer, key, body, st)
		default:
			err = &transfer.Refusal{What: fmt.Sprintf("this site does not know the request %q: bring both to the same release", op), Final: true}
		}
	}
	if err != nil {
		s.log.Warn("a peer's request failed", "request", op, "error", err)
		st.Refuse(err)
	}
}

func (s *Site) servePair(key ed25519.PublicKey, body []byte, st *transfer.Stream) error {
	var q pairRequest
	if err := transfer.Decode(body, &q); err != nil {
		return err
	}
	if err := policy.CheckName("site", q.Name); err != nil {
		return err
	}
	if q.Name == s.Name() {
		return fmt.Errorf("this site is named %s too: two paired sites need different names", q.Name)
	}
	if old, err := s.cat.Peer(q.Name); err == nil && old.Key != hex.EncodeToString(key) {
		return fmt.Errorf("another site named %s is paired here already, with another key", q.Name)
	}
	if len(q.Addresses) > 16 {
		return fmt.Errorf("%d addresses are too many", len(q.Addresses))
	}
	if err := s.cat.UseInvitation(object.Sum(q.Secret).String(), q.Name, s.clock.Now()); err != nil {
		return err
	}
	p := &catalog.Peer{Name: q.Name, Key: hex.EncodeToString(key), Addresses: catalog.JSON[[]string]{V: q.Addresses},
		Paired: catalog.At(s.clock.Now()), Seen: catalog.At(s.clock.Now())}
	if err := s.cat.PutPeer(p); err != nil {
		return err
	}
	s.changed("sites")
	return st.Reply(pairReply{Name: s.Name()})
}

// serveCarry takes in a snapshot that a peer brings.
func (s *Site) serveCarry(ctx context.Context, peer *catalog.Peer, key ed25519.PublicKey, body []byte, st *transfer.Stream) error {
	var q transfer.CarryRequest
	if err := transfer.Decode(body, &q); err != nil {
		return err
	}
	if q.Origin == s.Name() || policy.CheckName("site", q.Origin) != nil || policy.CheckName("volume", q.Volume) != nil {
		return &transfer.Refusal{What: fmt.Sprintf("a volume %q of the site %q cannot be taken in here", q.Volume, q.Origin), Final: true}
	}
	if q.Origin != peer.Name {
		return &transfer.Refusal{What: fmt.Sprintf("%s may bring its own volumes only, not those of %s", peer.Name, q.Origin), Final: true}
	}
	known, err := s.cat.VolumeOfLineage(hex.EncodeToString(q.Lineage[:]))
	if err == nil && known.Origin != q.Origin {
		return &transfer.Refusal{What: fmt.Sprintf("the history that %s brings as %s belongs to %s here", peer.Name, q.Volume, known.Name), Final: true}
	} else if err != nil && !errors.Is(err, catalog.ErrNone) {
		return err
	}
	asked := known
	if err != nil { // the first of its history
		asked = &catalog.Volume{Name: q.Volume + "@" + q.Origin, Origin: q.Origin}
	}
	if !s.store.HasRoot(q.Root) { // marks of what is here come in all the same
		if why, err := s.full(asked); err != nil {
			return err
		} else if why != "" {
			return &transfer.Refusal{What: "nothing more is taken in: " + why}
		}
	}
	release, err := s.hold(ctx, "lineage "+hex.EncodeToString(q.Lineage[:]))
	if err != nil {
		return err
	}
	defer release()
	if err := s.proposed(&q); err != nil {
		return err
	}
	rc := &transfer.Receiver{Store: s.store, Peer: key, Meter: &transfer.Meter{},
		Trusted: func(_ *object.Root, signer ed25519.PublicKey) error {
			if !signer.Equal(key) {
				return errors.New("the root is not signed by the site that took it")
			}
			return nil
		},
		Arrived: func(id object.ID, stored int64) (int64, error) { return s.arrived(id, stored, q.SetOf) },
	}
	if err := rc.Run(ctx, st, &q); err != nil {
		return err
	}
	s.changed("snapshots", q.Volume+"@"+q.Origin)
	return s.proposed(&q)
}

// proposed stores the rules that the origin proposes for its volume's copies here. A
// document that cannot be used is refused as a whole.
func (s *Site) proposed(q *transfer.CarryRequest) error {
	if q.Rules != "" {
		for _, body := range strings.Split(q.Rules, "\n---\n") {
			if _, err := policy.Parse(body); err != nil {
				return &transfer.Refusal{What: "the proposed rules: " + err.Error(), Final: true}
			}
		}
	}
	v, err := s.cat.VolumeOfLineage(hex.EncodeToString(q.Lineage[:]))
	if err != nil {
		return nil // not known before its first snapshot arrived; asked again after that
	}
	proposed, offered, err := s.weigh(v, q.Rules)
	if err != nil || (v.Proposed == proposed && v.Offered == offered) {
		return err
	}
	if err := s.cat.SetRules(v.Name, proposed, offered); err != nil {
		return err
	}
	s.changed("policies")
	return nil
}

// arrived enters a snapshot that is whole and verified into the catalogue. It stays hidden
// while not all setOf snapshots of its set are there.
func (s *Site) arrived(id object.ID, stored int64, setOf uint32) (int64, error) {
	root, _, err := s.store.Root(id)
	if err != nil {
		return 0, err
	}
	now := s.clock.Now()
	if _, err := s.cat.VolumeOfLineage(hex.EncodeToString(root.Lineage[:])); errors.Is(err, catalog.ErrNone) {
		v := s.volumeOf(root)
		if err := s.cat.PutVolume(v); err != nil {
			return 0, err
		}
		s.changed("volumes")
	} else if err != nil {
		return 0, err
	}
	row, err := s.rowOf(id, root)
	if err != nil {
		return 0, err
	}
	old, err := s.cat.Snapshot(row.ID)
	if errors.Is(err, catalog.ErrNone) && old == nil {
		m := &object.Mark{Kind: object.MarkArrival, Root: id, At: now.UnixNano(), Place: s.Place()}
		if m.Text, err = s.outOfTurn(row); err != nil {
			return 0, err
		}
		if err := s.store.PutMark(m); err != nil {
			return 0, err
		}
		applyMark(row, m, s.Place())
		if m.Text != "" {
			s.log.Warn("a snapshot arrived out of turn; it stays and stands for nothing until it is admitted", "snapshot", row.ID, "volume", row.Volume, "why", m.Text)
		}
	} else if err != nil && !errors.Is(err, catalog.ErrNone) {
		return 0, err
	}
	row.Stored = stored
	if old != nil && old.Place == s.Place() {
		row.Stored = old.Stored
	}
	if row.SetID == "" || setOf < 2 {
		s.reached(row.Volume, s.Place(), newestState(row))
		return now.UnixNano(), s.cat.PutSnapshot(row)
	}
	row.Hidden = old == nil || old.Hidden
	if err := s.cat.PutSnapshot(row); err != nil {
		return 0, err
	}
	if !row.Hidden {
		s.reached(row.Volume, s.Place(), newestState(row))
	}
	return now.UnixNano(), s.unveil(row, setOf)
}
