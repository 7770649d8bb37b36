package pairing

import (
	"context"
	"crypto/ed25519"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
	"candidharbor/internal/transfer"
)

// addressPatience is how long an address that is tried may take to answer.
const addressPatience = 5 * time.Second

// CheckAddress finds what is wrong with an address for connections to another site.
func CheckAddress(a string) error {
	host, port, err := net.SplitHostPort(a)
	if err != nil || host == "" || port == "" {
		return refusal.Badf("address %q: write host:port, such as 10.2.0.2:7311", a)
	}
	return nil
}

// lineBy is a link over one address alone, for as long as anybody works over it.
type lineBy struct {
	link  *transfer.Link
	users int
}

// LinkBy returns a link to a peer over one of its addresses alone, for work that calls release at its end; without an
// address it is the link that all share.
func (s *Service) LinkBy(ctx context.Context, p *catalog.Peer, address string) (link *transfer.Link, release func(),
	err error) {
	if address == "" {
		link, _, err = s.Link(ctx, p)
		return link, func() {}, err
	}
	if s.isCut() {
		return nil, nil, unreachable(p.Name, errors.New("the line is down"))
	}
	if p, err = s.Catalog.Peer(p.Name); err != nil {
		return nil, nil, err
	}
	if !slices.Contains(p.Reach(), address) {
		return nil, nil, unreachable(p.Name, fmt.Errorf("it is not at %s any more: candid site addresses %s", address,
			p.Name))
	}
	keys, err := keysOf(p)
	if err != nil {
		return nil, nil, err
	}
	key := p.Name + " " + address
	if by := s.joinBy(key, nil); by != nil {
		if slices.ContainsFunc(keys, func(k ed25519.PublicKey) bool { return k.Equal(by.link.Key) }) {
			return by.link, func() { s.leaveBy(key, by) }, nil
		}
		s.leaveBy(key, by) // it has another key since
	}
	if link, err = transfer.Dial(ctx, address, s.Identity(), keys...); err != nil {
		return nil, nil, unreachable(p.Name, fmt.Errorf("by %s alone: %w", address, err))
	}
	s.serveLink(link, p.Name, func() {})
	by := s.joinBy(key, link)
	return link, func() { s.leaveBy(key, by) }, nil
}

// joinBy works over the link by an address that others work over too, or over a fresh one.
func (s *Service) joinBy(key string, fresh *transfer.Link) *lineBy {
	s.mu.Lock()
	defer s.mu.Unlock()
	by := s.by[key]
	if fresh != nil {
		by = &lineBy{link: fresh}
		s.by[key] = by
	} else if by == nil || !by.link.Up() || !by.link.Own.Equal(s.Identity().Public()) {
		return nil
	}
	by.users++
	return by
}

// leaveBy ends a link by an address when nobody works over it any more.
func (s *Service) leaveBy(key string, by *lineBy) {
	s.mu.Lock()
	by.users--
	over := by.users == 0
	if over && s.by[key] == by {
		delete(s.by, key)
	}
	s.mu.Unlock()
	if over {
		by.link.Close()
	}
}

func (s *Service) isCut() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.cut
}

// Line tells by which address a peer is spoken to at present; nil: there is no line.
func (s *Service) Line(peer string) *api.Line {
	s.mu.Lock()
	defer s.mu.Unlock()
	l := s.links[peer]
	if l == nil || !l.Up() || strings.HasPrefix(l.Address, PlaceAddress) {
		return nil
	}
	return &api.Line{Address: l.Address, Dialled: l.Dialled}
}

// Addresses tries every address of a peer, side by side.
func (s *Service) AddressesOf(ctx context.Context, name string) ([]api.SiteAddress, error) {
	p, err := s.Catalog.Peer(name)
	if err != nil {
		return nil, err
	}
	keys, err := keysOf(p)
	if err != nil {
		return nil, err
	}
	if len(p.Addresses.V) > 0 && strings.HasPrefix(p.Addresses.V[0], PlaceAddress) {
		return nil, refusal.Badf("%s is a place of this site: it has no address", name)
	}
	line := s.Line(name)
	out := make([]api.SiteAddress, len(p.Reach()))
	var all sync.WaitGroup
	for i, a := range p.Reach() {
		out[i] = api.SiteAddress{Address: a, Own: slices.Contains(p.OwnAddresses.V, a),
			InUse: line != nil && line.Dialled && line.Address == a}
		all.Go(func() {
			ctx, cancel := context.WithTimeout(ctx, addressPatience)
			defer cancel()
			began := time.Now()
			l, err := transfer.Dial(ctx, a, s.Identity(), keys...)
			if err != nil {
				out[i].Trouble = err.Error()
				return
			}
			out[i].Seconds = time.Since(began).Seconds()
			l.Close()
		})
	}
	all.Wait()
	routes, err := s.Catalog.Routes()
	for _, r := range routes {
		for i := range out {
			if r.Peer == name && r.Terms.V.By == out[i].Address {
				out[i].Routes = append(out[i].Routes, r.Name)
			}
		}
	}
	return out, err
}

// SetAddresses says where a peer is reached, beside what it says of itself.
func (s *Service) SetAddresses(name string, own []string) (string, error) {
	p, err := s.Catalog.Peer(name)
	if err != nil {
		return "", err
	}
	if len(p.Addresses.V) > 0 && strings.HasPrefix(p.Addresses.V[0], PlaceAddress) {
		return "", refusal.Badf("%s is a place of this site: it has no address", name)
	}
	if len(own) > mostAddresses {
		return "", refusal.Badf("%d addresses are too many: give %d at most", len(own), mostAddresses)
	}
	for i, a := range own {
		if err := CheckAddress(a); err != nil {
			return "", err
		}
		if slices.Contains(own[:i], a) {
			return "", refusal.Badf("the address %s is given twice", a)
		}
	}
	routes, err := s.Catalog.Routes()
	if err != nil {
		return "", err
	}
	for _, r := range routes {
		by := r.Terms.V.By
		if r.Peer == name && by != "" && !slices.Contains(own, by) && !slices.Contains(p.Addresses.V, by) {
			return "", refusal.Conflictf("route %s goes by %s alone: let it go by any first, with candid route edit %s --by any",
				r.Name, by, r.Name)
		}
	}
	if err := s.Catalog.SetOwnAddresses(name, own); err != nil {
		return "", err
	}
	s.run.Tell("sites")
	if len(own) == 0 {
		return fmt.Sprintf("%s is reached where it says itself: %s.", name, phrase.Names(p.Addresses.V, mostAddresses)), nil
	}
	return fmt.Sprintf("%s is reached by %s first, when there is no line, and then where it says itself.", name,
		phrase.Names(own, mostAddresses)), nil
}
