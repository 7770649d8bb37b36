package pairing

import (
	"context"
	"crypto/ed25519"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
	"candidharbor/internal/transfer"
)

// keysOf are the keys that a peer may show: its own, and one it announced.
func keysOf(p *catalog.Peer) ([]ed25519.PublicKey, error) {
	var keys []ed25519.PublicKey
	for _, text := range []string{p.Key, p.NextKey} {
		if text == "" {
			continue
		}
		k, err := hex.DecodeString(text)
		if err != nil || len(k) != ed25519.PublicKeySize {
			return nil, fmt.Errorf("the key of site %s in the catalogue is damaged; pair again", p.Name)
		}
		keys = append(keys, k)
	}
	return keys, nil
}

// Link returns a link to a peer that answers, whoever dialled it, dialling when there is
// none.
func (s *Service) Link(ctx context.Context, p *catalog.Peer) (*transfer.Link, string, error) {
	s.mu.Lock()
	l, cut := s.links[p.Name], s.cut
	s.mu.Unlock()
	if cut {
		return nil, "", refusal.Wrap(refusal.Elsewhere, fmt.Errorf("site %s cannot be reached: the line is down", p.Name))
	}
	p, err := s.Catalog.Peer(p.Name) // its key may have changed since the caller read it, or its pairing ended
	if err != nil {
		return nil, "", err
	}
	keys, err := keysOf(p)
	if err != nil {
		return nil, "", err
	}
	id := s.Identity()
	if l != nil && l.Alive() {
		if l.Own.Equal(id.Public()) && slices.ContainsFunc(keys, func(k ed25519.PublicKey) bool { return k.Equal(l.Key) }) {
			return l, l.Address, nil
		}
		l.Close() // one of both has another key since
	}
	if s.IsPlace {
		return nil, "", refusal.Wrap(refusal.Elsewhere, fmt.Errorf("site %s cannot be reached from a place: only the site that it is attached to calls, and that calls it", p.Name))
	}
	var errs []error
	for _, addr := range p.Addresses.V {
		var l *transfer.Link
		var err error
		if dir, within := strings.CutPrefix(addr, placeAddress); within {
			l, err = s.dialPlace(ctx, p.Name, dir, keys)
		} else {
			l, err = transfer.Dial(ctx, addr, id, keys...)
		}
		if err == nil && !s.TakeLink(p.Name, l, true) {
			l.Close()
			err = errNewKey
		}
		if err != nil {
			errs = append(errs, fmt.Errorf("%s: %w", addr, err))
			continue
		}
		s.serveLink(l, p.Name, func() {})
		s.run.Tell("sites")
		return l, addr, s.Catalog.SawPeer(p.Name, s.Clock.Now())
	}
	return nil, "", refusal.Wrap(refusal.Elsewhere, fmt.Errorf("site %s cannot be reached: %w", p.Name, errors.Join(errs...)))
}

var errNewKey = errors.New("this site has a new key since; try again")

// TakeLink makes a link the one to a peer, or leaves a living one when the new one is not to
// replace it. It reports false when the link shows a key that the site has given up: then it
// is not to be used.
func (s *Service) TakeLink(peer string, l *transfer.Link, replace bool) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !l.Own.Equal(s.Identity().Public()) {
		return false
	}
	if old := s.links[peer]; replace || old == nil || !old.Up() {
		s.links[peer] = l
	}
	return true
}

// serveLink answers what the other end of a link asks, until it ends.
func (s *Service) serveLink(l *transfer.Link, peer string, ended func()) {
	if s.run.Context().Err() != nil {
		ended()
		l.Close()
		return
	}
	s.run.Go(func(ctx context.Context) {
		defer ended()
		err := l.Serve(ctx, s.serveStream)
		s.mu.Lock()
		if s.links[peer] == l {
			delete(s.links, peer)
		}
		s.mu.Unlock()
		if err != nil {
			s.Log.Info("the line to a peer ended", "peer", peer, "address", l.Address, "error", err)
		}
		s.run.Tell("sites")
	})
}

// Up reports whether there is a line to a peer.
func (s *Service) Up(peer string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	l := s.links[peer]
	return l != nil && l.Up()
}

// CloseLines ends the lines to all peers.
func (s *Service) CloseLines() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, l := range s.links {
		l.Close()
	}
}

// PeerAddress is where other sites connect to.
func (s *Service) PeerAddress() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.peerAddr != nil {
		return s.peerAddr.String()
	}
	return s.Conf.PeerListen
}

// CutLine makes all peers unreachable until it is mended, as an outage does.
func (s *Service) CutLine(cut bool) {
	s.mu.Lock()
	s.cut = cut
	var links []*transfer.Link
	for _, l := range s.links {
		links = append(links, l)
	}
	s.mu.Unlock()
	if cut {
		for _, l := range links {
			l.Close()
		}
	}
}

// ServePeers accepts other sites until the site closes.
func (s *Service) ServePeers(l net.Listener) {
	s.mu.Lock()
	s.peerAddr = l.Addr()
	s.mu.Unlock()
	stop := context.AfterFunc(s.run.Context(), func() { l.Close() })
	defer stop()
	for {
		c, err := l.Accept()
		if err != nil {
			if s.run.Context().Err() == nil && !errors.Is(err, net.ErrClosed) {
				s.Log.Error("other sites cannot connect any more", "error", err)
			}
			return
		}
		s.run.Go(func(context.Context) {
			if err := s.accept(c); err != nil {
				s.Log.Info("a connection from outside ended", "from", c.RemoteAddr(), "error", err)
			}
		})
	}
}

func (s *Service) accept(c net.Conn) error {
	s.mu.Lock()
	cut := s.cut
	s.mu.Unlock()
	if cut {
		return c.Close()
	}
	welcome, ok := s.stranger(c.RemoteAddr())
	if !ok {
		return errors.Join(errTooManyStrangers, c.Close())
	}
	defer welcome() // until it is known who calls
	l, err := transfer.Accept(s.run.Context(), c, s.Identity(), func(key ed25519.PublicKey) bool {
		p, err := s.Catalog.PeerByKey(hex.EncodeToString(key))
		return err == nil && p != nil
	})
	if err != nil {
		return err
	}
	peer, err := s.resolvePeer(l.Key)
	if err != nil {
		l.Close()
		return err
	}
	if peer == nil || l.Stranger {
		ctx, cancel := context.WithTimeout(s.run.Context(), strangerStays)
		defer cancel()
		return l.Serve(ctx, s.serveStream) // it may want to pair
	}
	leave, ok := s.lines.Enter(peer.Name)
	if !ok {
		return errors.Join(fmt.Errorf("%s has %d lines open already", peer.Name, mostLines), l.Close())
	}
	if !s.TakeLink(peer.Name, l, false) {
		leave()
		l.Close()
		return errNewKey
	}
	s.serveLink(l, peer.Name, leave)
	s.run.Tell("sites")
	return nil
}

// resolvePeer finds the peer that a key belongs to, or nil. A peer that shows the key it
// announced uses that one from now on.
func (s *Service) resolvePeer(key ed25519.PublicKey) (*catalog.Peer, error) {
	text := hex.EncodeToString(key)
	p, err := s.Catalog.PeerByKey(text)
	if err != nil || p == nil || p.Key == text {
		return p, err
	}
	if changed, err := s.Catalog.ChangeKey(p, text); err != nil {
		return nil, err
	} else if changed {
		s.Log.Info("a site shows the key that it announced; the one before counts no more", "site", p.Name)
	}
	return s.Catalog.PeerByKey(text) // as it is now: it may have been revoked, or another request was first
}

// serveStream answers one request of a peer. Only pairing is open to keys not known.
func (s *Service) serveStream(ctx context.Context, l *transfer.Link, st *transfer.Stream) {
	op, body, err := st.Request()
	if err != nil {
		return
	}
	if op == "pair" {
		if err := s.servePair(l.Key, l.Address, body, st); err != nil {
			st.Refuse(&transfer.Refusal{What: err.Error(), Final: true})
		}
		return
	}
	peer, err := s.resolvePeer(l.Key)
	if err == nil && peer == nil {
		err = &transfer.Refusal{What: fmt.Sprintf("the site %s does not know this key: pair first", s.Name()), Final: true}
	}
	if err == nil {
		_ = s.Catalog.SawPeer(peer.Name, s.Clock.Now())
		err = s.serveRequest(ctx, &Request{peer, l, op, body, st})
	}
	if err != nil && ctx.Err() == nil {
		s.Log.Warn("a peer's request failed", "request", op, "error", err)
		st.Refuse(err)
	}
}

// Request is what a peer asks.
type Request struct {
	Peer   *catalog.Peer
	Link   *transfer.Link
	Op     string
	Body   []byte
	Stream *transfer.Stream
}

// need is a grant without which a request is refused.
type need struct {
	has   func(catalog.Grants) bool
	what  string // it cannot do then
	grant string // that would let it
}

var (
	NeedsNothing = need{has: func(catalog.Grants) bool { return true }}
	NeedsOffer   = need{func(g catalog.Grants) bool { return g.Offer }, "bring snapshots there", grantOffer}
	NeedsRead    = need{func(g catalog.Grants) bool { return g.Read }, "read its snapshots", GrantRead}
	needsSee     = need{func(g catalog.Grants) bool { return g.See || g.Configure }, "look at it", grantSee}
	NeedsAny     = need{func(g catalog.Grants) bool { return g.Offer || g.Read || g.See }, "look at it", grantSee}
)

type handler struct {
	need
	answer func(ctx context.Context, q *Request) error
}

// Handle has requests of one kind answered, of peers that were granted what they need.
func (s *Service) Handle(op string, needs need, answer func(ctx context.Context, q *Request) error) {
	s.handlers[op] = handler{needs, answer}
}

// answerPeers has requests answered that are about the pairing itself.
func (s *Service) answerPeers() {
	s.handlers = map[string]handler{}
	s.Handle("hello", NeedsNothing, func(_ context.Context, q *Request) error { return s.serveHello(q.Peer, q.Body, q.Stream) })
	s.Handle("rekey", NeedsNothing, func(_ context.Context, q *Request) error { return s.serveRekey(q.Peer, q.Body, q.Stream) })
	s.Handle("desk", needsSee, func(ctx context.Context, q *Request) error { return s.serveRemote(ctx, q.Peer, q.Stream) })
}

func (s *Service) serveRequest(ctx context.Context, q *Request) error {
	h, ok := s.handlers[q.Op]
	if !ok {
		return &transfer.Refusal{What: fmt.Sprintf("this site does not know the request %q: bring both to the same release", q.Op), Final: true}
	}
	if !h.has(q.Peer.Grants.V) {
		return &transfer.Refusal{What: fmt.Sprintf("%s does not let %s %s: a person there can, with candid site grant %s %s",
			s.Name(), q.Peer.Name, h.what, q.Peer.Name, h.grant), Final: true}
	}
	return h.answer(ctx, q)
}

type Hello struct {
	Name   string          `cbor:"1,keyasint"`
	Now    int64           `cbor:"2,keyasint"`
	Grants *catalog.Grants `cbor:"3,keyasint,omitempty"` // what the other end may do here
	// Recipient is for whom crates for the site are sealed.
	Recipient string `cbor:"4,keyasint,omitempty"`
	// Addresses are how the site is reached at present.
	Addresses []string `cbor:"5,keyasint,omitempty"`
	// Head is what the ledger came to, and Seen what who answers had seen of the asker's
	// before.
	Head *ledgerHead `cbor:"6,keyasint,omitempty"`
	Seen *ledgerHead `cbor:"7,keyasint,omitempty"`
	// Starts are the latest starts of the site, and SeenStarts those of the other end's that it
	// saw before.
	Starts     []startNumber `cbor:"8,keyasint,omitempty"`
	SeenStarts []startNumber `cbor:"9,keyasint,omitempty"`
	// NoStandby says that copies are laid out there only where a person names a directory.
	NoStandby bool `cbor:"10,keyasint,omitempty"`
}

func (s *Service) serveHello(peer *catalog.Peer, body []byte, st *transfer.Stream) error {
	var h Hello
	if err := transfer.Decode(body, &h); err != nil {
		return err
	}
	if h.Grants != nil {
		if err := s.learn(peer, h); err != nil {
			return err
		}
	}
	out := Hello{Name: s.Name(), Now: s.Clock.Now().UnixNano(), Grants: &peer.Grants.V, Recipient: s.Sealing.Recipient().String(), Addresses: s.Addresses(), NoStandby: s.Conf.Standby == ""}
	if h.Head != nil {
		seen, err := s.witness(peer.Name, *h.Head)
		if err != nil {
			return err
		}
		out.Seen = &seen
	}
	head, err := s.ledgerHead()
	if err != nil {
		return err
	}
	out.Head = &head
	if out.Starts, err = s.starts(); err != nil { // before what the peer saw counts as known
		return err
	}
	if err := s.seenOfUs(peer, h.SeenStarts); err != nil {
		return err
	}
	if out.SeenStarts, err = s.seeStarts(peer, h.Starts); err != nil {
		return err
	}
	return st.Reply(out)
}

// learn notes what a peer says of itself: what this site may do there, for whom to seal,
// and where it is now.
func (s *Service) learn(p *catalog.Peer, h Hello) error {
	defer s.run.Tell("sites")
	if err := s.Catalog.Granted(p.Name, *h.Grants, recipientOf(h)); err != nil {
		return err
	}
	within := len(p.Addresses.V) > 0 && strings.HasPrefix(p.Addresses.V[0], placeAddress)
	if within || len(h.Addresses) == 0 || len(h.Addresses) > mostAddresses || slices.Equal(h.Addresses, p.Addresses.V) {
		return nil
	}
	for _, a := range h.Addresses {
		if _, _, err := net.SplitHostPort(a); err != nil {
			return nil
		}
	}
	return s.Catalog.SetAddresses(p.Name, h.Addresses)
}

// mostAddresses is how many addresses a peer may have.
const mostAddresses = 16

// Greet asks a peer who it is and tells it what it may do here.
func (s *Service) Greet(ctx context.Context, p *catalog.Peer) (h Hello, addr string, rtt time.Duration, err error) {
	link, addr, err := s.Link(ctx, p)
	if err != nil {
		return h, addr, 0, err
	}
	if !link.Dialled {
		addr = ""
	}
	head, err := s.ledgerHead()
	if err != nil {
		return h, addr, 0, err
	}
	starts, err := s.starts()
	if err != nil {
		return h, addr, 0, err
	}
	seen, err := s.readStarts(seenStarts + p.Name)
	if err != nil {
		return h, addr, 0, err
	}
	begin := time.Now()
	if err := link.Ask("hello", Hello{Name: s.Name(), Grants: &p.Grants.V, Recipient: s.Sealing.Recipient().String(), Addresses: s.Addresses(), Head: &head,
		Starts: starts, SeenStarts: seen}, &h); err != nil {
		return h, addr, 0, refusal.Wrap(refusal.Elsewhere, fmt.Errorf("site %s: %w", p.Name, err))
	}
	rtt = time.Since(begin)
	s.mu.Lock()
	s.headReported[p.Name] = head.N
	s.mu.Unlock()
	if h.Head != nil {
		if _, err := s.witness(p.Name, *h.Head); err != nil {
			return h, addr, rtt, err
		}
	}
	if _, err := s.seeStarts(p, h.Starts); err != nil {
		return h, addr, rtt, err
	}
	if err := s.seenOfUs(p, h.SeenStarts); err != nil {
		return h, addr, rtt, err
	}
	if h.Grants != nil {
		err = s.learn(p, h)
	}
	return h, addr, rtt, err
}

// CheckPeer tests whether a peer is reachable, is who it was, and how its clock goes.
func (s *Service) CheckPeer(ctx context.Context, name string) (*api.PeerCheck, error) {
	p, err := s.Catalog.Peer(name)
	if err != nil {
		return nil, err
	}
	h, addr, rtt, err := s.Greet(ctx, p)
	if err != nil {
		return nil, err
	}
	skew := time.Unix(0, h.Now).Sub(s.Clock.Now().Add(-rtt / 2))
	c := &api.PeerCheck{Name: h.Name, Address: addr, RoundTripSeconds: rtt.Seconds(), ClockSkewSeconds: skew.Seconds()}
	where := "at " + addr
	if addr == "" {
		where = "over the line that it dialled"
	}
	c.Sentence = fmt.Sprintf("%s answers %s with the paired key, in %s.", h.Name, where, rtt.Round(10*time.Microsecond))
	if h.Grants != nil {
		c.Sentence += fmt.Sprintf(" It lets this site %s.", grantWords(*h.Grants))
	}
	if skew.Abs() > time.Minute {
		c.Sentence += fmt.Sprintf(" Its clock differs by %s: set both clocks by NTP.", phrase.Ago(skew))
	}
	return c, nil
}

const (
	lineTry  = time.Minute // between tries to reach a peer that no line leads to
	lineMost = time.Hour   // between tries when they fail for long
)

// KeepLines holds a line to every peer that can be dialled, so that the ones which cannot
// be dialled from there can ask too, until ctx ends.
func (s *Service) KeepLines(ctx context.Context) {
	next, wait := map[string]time.Time{}, map[string]time.Duration{}
	for {
		peers, err := s.Catalog.Peers()
		if err != nil {
			s.Log.Error("the paired sites cannot be listed", "error", err)
		}
		for _, p := range peers {
			if s.Up(p.Name) {
				delete(wait, p.Name)
				if s.headNew(p.Name) { // so that it is a witness of what was done since
					if _, _, _, err := s.Greet(ctx, p); err != nil {
						s.Log.Debug("a peer could not be told what the ledger came to", "peer", p.Name, "error", err)
					}
				}
				continue
			}
			if now := s.Clock.Now(); !now.Before(next[p.Name]) {
				if _, _, _, err := s.Greet(ctx, p); err != nil {
					s.Log.Debug("no line to a peer", "peer", p.Name, "error", err)
				}
				wait[p.Name] = min(lineMost, max(lineTry, 2*wait[p.Name]))
				next[p.Name] = s.Clock.Now().Add(wait[p.Name])
			}
		}
		select {
		case <-s.Clock.Until(s.Clock.Now().Add(lineTry)):
		case <-ctx.Done():
			return
		}
	}
}

// headNew reports whether the ledger has more than a peer was told.
func (s *Service) headNew(peer string) bool {
	head, err := s.ledgerHead()
	s.mu.Lock()
	defer s.mu.Unlock()
	return err == nil && head.N > s.headReported[peer]
}

// Signers tells whether a key may have signed what a peer took, now or before.
func Signers(p *catalog.Peer) []string {
	return slices.DeleteFunc(append([]string{p.Key, p.NextKey}, p.Former.V...), func(k string) bool { return k == "" })
}
