package pairing

import (
	"context"
	"crypto/ed25519"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"net"
	"slices"
	"strings"
	"time"

	"candidharbor/internal/catalog"
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

// Unreachable is the error of a site that no line leads to.
type Unreachable struct {
	Site string
	Err  error
}

func (u *Unreachable) Error() string {
	return fmt.Sprintf("site %s cannot be reached: %s", u.Site, u.Err)
}
func (u *Unreachable) Unwrap() error { return u.Err }

func unreachable(site string, why error) error {
	return refusal.Wrap(refusal.Elsewhere, &Unreachable{site, why})
}

// Link returns a link to a peer that answers, whoever dialled it, dialling when there is
// none.
func (s *Service) Link(ctx context.Context, p *catalog.Peer) (*transfer.Link, string, error) {
	s.mu.Lock()
	l, cut := s.links[p.Name], s.cut
	s.mu.Unlock()
	if cut {
		return nil, "", unreachable(p.Name, errors.New("the line is down"))
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
		return nil, "", unreachable(p.Name, errors.New("a place calls nobody: only the site that it is attached to "+
			"calls, and "+
			"that calls it"))
	}
	var errs []error
	all := p.Reach()
	for i, addr := range all {
		var l *transfer.Link
		var err error
		patience := time.Duration(0) // of the last one, as long as it takes
		if i < len(all)-1 {
			patience = addressPatience
		}
		if dir, within := strings.CutPrefix(addr, PlaceAddress); within {
			l, err = s.dialPlace(ctx, p.Name, dir, keys)
		} else {
			l, err = dialFor(ctx, patience, addr, id, keys)
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
	return nil, "", unreachable(p.Name, errors.Join(errs...))
}

// dialFor dials an address, and gives up after a while where there are others to try.
func dialFor(ctx context.Context, patience time.Duration, addr string, id *transfer.Identity,
	keys []ed25519.PublicKey) (*transfer.Link, error) {
	if patience > 0 {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(ctx, patience)
		defer cancel()
	}
	return transfer.Dial(ctx, addr, id, keys...)
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

// allLines are the links to all peers. s.mu is held.
func (s *Service) allLines() []*transfer.Link {
	all := slices.Collect(maps.Values(s.links))
	for _, by := range s.by {
		all = append(all, by.link)
	}
	return all
}

// linesTo are the links to one peer. s.mu is held.
func (s *Service) linesTo(peer string) (lines []*transfer.Link) {
	if l := s.links[peer]; l != nil {
		lines = append(lines, l)
	}
	for key, by := range s.by {
		if strings.HasPrefix(key, peer+" ") {
			lines = append(lines, by.link)
		}
	}
	return lines
}

// CloseLines ends the lines to all peers.
func (s *Service) CloseLines() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, l := range s.allLines() {
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
	links := s.allLines()
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

// askPatience is how long a site that does not answer is waited for.
const askPatience = 4 * time.Second

// AskPeer asks a peer one thing, with patience that ends.
func (s *Service) AskPeer(ctx context.Context, p *catalog.Peer, op string, body, into any) error {
	ctx, cancel := context.WithTimeout(ctx, askPatience)
	defer cancel()
	link, _, err := s.Link(ctx, p)
	if err != nil {
		return err
	}
	st, err := link.Open(op, body)
	if err != nil {
		return err
	}
	defer st.Close()
	stop := context.AfterFunc(ctx, func() { st.Close() })
	defer stop()
	if err := st.Answer(into); err != nil {
		if ctx.Err() != nil {
			err = fmt.Errorf("no answer within %s", askPatience)
		}
		return err
	}
	return nil
}
