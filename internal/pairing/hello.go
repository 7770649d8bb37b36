package pairing

import (
	"context"
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
	"candidharbor/internal/release"
	"candidharbor/internal/transfer"
	"candidharbor/internal/visible"

	"filippo.io/age"
)

// Hello is what two sites tell each other when one greets the other.
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
	// TwoSites says that two sites show the asker's key.
	TwoSites bool `cbor:"11,keyasint,omitempty"`
	// NoStandby says that copies are laid out there only where a person names a directory.
	NoStandby bool `cbor:"10,keyasint,omitempty"`
	// Release is the build that the site runs.
	Release string `cbor:"12,keyasint,omitempty"`
	// Free is the room where the store lies, told to who may bring snapshots.
	Free int64 `cbor:"13,keyasint,omitempty"`
}

// mostRelease bounds what a peer says of its build.
const mostRelease = 64

// noteRelease notes which build a peer runs, where that is another than before.
func (s *Service) noteRelease(peer, says string) error {
	says = visible.Line(says[:min(len(says), mostRelease)])
	was, err := s.Catalog.PeerHistory(peer)
	if err != nil || was.Release == says {
		return err
	}
	defer s.run.Tell("sites")
	return s.Catalog.SetRelease(peer, says)
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
	if err := s.noteRelease(peer.Name, h.Release); err != nil {
		return err
	}
	out := Hello{Name: s.Name(), Now: s.Clock.Now().UnixNano(), Grants: &peer.Grants.V, Release: release.Version(),
		Recipient: s.Sealing.Recipient().String(), Addresses: s.Addresses(), NoStandby: s.Conf.Standby == ""}
	if peer.Grants.V.Offer {
		out.Free = s.Store.Usage().FreeBytes
	}
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
	out.TwoSites = s.TwoSites(peer.Name) != nil
	if h.TwoSites {
		if err := s.onPutBack(peer.Name, true); err != nil {
			return err
		}
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
	within := len(p.Addresses.V) > 0 && strings.HasPrefix(p.Addresses.V[0], PlaceAddress)
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
	seen, err := s.peerStarts(p.Name)
	if err != nil {
		return h, addr, 0, err
	}
	begin := time.Now()
	if err := link.Ask("hello", Hello{Name: s.Name(), Grants: &p.Grants.V, Recipient: s.Sealing.Recipient().String(),
		Addresses: s.Addresses(), Head: &head, TwoSites: s.TwoSites(p.Name) != nil,
		Starts: starts, SeenStarts: seen, Release: release.Version()}, &h); err != nil {
		return h, addr, 0, refusal.Wrap(refusal.Elsewhere, fmt.Errorf("site %s: %w", p.Name, err))
	}
	rtt = time.Since(begin)
	if err := errors.Join(s.noteClock(p.Name, &h, rtt), s.noteRelease(p.Name, h.Release),
		s.Catalog.SawPeer(p.Name, s.Clock.Now())); err != nil {
		return h, addr, rtt, err
	}
	s.mu.Lock()
	s.headReported[p.Name], s.rooms[p.Name] = head.N, h.Free
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
	if h.TwoSites {
		if err := s.onPutBack(p.Name, true); err != nil {
			return h, addr, rtt, err
		}
	}
	if h.Grants != nil {
		err = s.learn(p, h)
	}
	for _, f := range s.onGreeted {
		if gerr := f(ctx, p); gerr != nil && ctx.Err() == nil { // an older release does not know the request
			s.Log.Warn("who is active could not be compared with a site", "site", p.Name, "error", gerr)
		}
	}
	return h, addr, rtt, err
}

// clockFine is a difference of clocks that is not worth a write.
const clockFine = 100 * time.Millisecond

// noteClock notes how a peer's clock goes, so that what it says of times can be set right when it is silent.
func (s *Service) noteClock(peer string, h *Hello, rtt time.Duration) error {
	was, err := s.Catalog.PeerHistory(peer)
	if err != nil {
		return err
	}
	ahead, within := time.Unix(0, h.Now).Sub(s.Clock.Now().Add(-rtt/2)), max(rtt/2, clockFine)
	if was.ClockWithin >= 0 && (ahead-time.Duration(was.ClockAhead)).Abs() <= within {
		return nil
	}
	return s.Catalog.SetClock(peer, ahead, within)
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

func recipientOf(h Hello) string {
	if _, err := age.ParseX25519Recipient(h.Recipient); err != nil {
		return ""
	}
	return h.Recipient
}
