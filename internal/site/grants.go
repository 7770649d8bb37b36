package site

import (
	"context"
	"crypto/ed25519"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/policy"
	"candidharbor/internal/store"
	"candidharbor/internal/transfer"
)

const (
	grantOffer     = "offer"
	grantRead      = "read"
	grantSee       = "see"
	grantConfigure = "configure"
	grantNothing   = "nothing"
)

// setGrants switches grants by their names.
func setGrants(g *catalog.Grants, names []string, on bool) error {
	for _, n := range names {
		switch n {
		case grantOffer:
			g.Offer = on
		case grantRead:
			g.Read = on
			if !on {
				g.Volumes = catalog.Selection{}
			}
		case grantSee:
			g.See = on
		case grantConfigure:
			g.Configure = on
		default:
			return bad("a grant is %s, %s, %s or %s, not %q", grantOffer, grantRead, grantSee, grantConfigure, n)
		}
	}
	return nil
}

// firstGrants are those of a new pairing.
func firstGrants(names []string) (g catalog.Grants, err error) {
	switch {
	case len(names) == 0:
		names = []string{grantOffer, grantSee}
	case slices.Contains(names, grantNothing):
		if len(names) > 1 {
			return g, bad("grant nothing, or name what is granted, not both")
		}
		names = nil
	}
	return g, setGrants(&g, names, true)
}

func grantWords(g catalog.Grants) string {
	var parts []string
	if g.Offer {
		parts = append(parts, "bring snapshots")
	}
	if g.Read {
		what := "all volumes"
		if len(g.Volumes.Labels) > 0 {
			what = "volumes with " + labelWords(g.Volumes.Labels)
		} else if len(g.Volumes.Names) > 0 {
			what = strings.Join(g.Volumes.Names, ", ")
		}
		parts = append(parts, "read "+what)
	}
	if g.Configure {
		parts = append(parts, "configure it")
	} else if g.See {
		parts = append(parts, "look at it")
	}
	if len(parts) == 0 {
		return "do nothing"
	}
	return strings.Join(parts, ", ")
}

func grantsView(g catalog.Grants) api.Grants {
	return api.Grants{Offer: g.Offer, Read: g.Read, See: g.See, Configure: g.Configure, Labels: g.Volumes.Labels, Names: g.Volumes.Names, Words: grantWords(g)}
}

// Grant lets a paired site do more here.
func (s *Site) Grant(ctx context.Context, name string, ask api.GrantAsk) (*api.Peer, error) {
	p, err := s.cat.Peer(name)
	if err != nil {
		return nil, err
	}
	g := p.Grants.V
	if len(ask.Grants) == 0 {
		return nil, bad("nothing is granted: name %s, %s, %s or %s", grantOffer, grantRead, grantSee, grantConfigure)
	}
	if err := setGrants(&g, ask.Grants, true); err != nil {
		return nil, err
	}
	reads := slices.Contains(ask.Grants, grantRead)
	if chosen := len(ask.Labels)+len(ask.Names) > 0; chosen && !reads {
		return nil, bad("volumes are chosen for %s only", grantRead)
	} else if len(ask.Labels) > 0 && len(ask.Names) > 0 {
		return nil, bad("choose volumes by labels, or by names")
	}
	if reads {
		g.Volumes = catalog.Selection{Labels: ask.Labels, Names: ask.Names}
		for _, n := range ask.Names {
			if _, err := s.cat.Volume(n); err != nil {
				return nil, err
			}
		}
	}
	if ask.QuotaBytes != 0 {
		if !g.Offer {
			return nil, bad("a quota bounds what %s brings, and it may not bring anything: grant %s too", name, grantOffer)
		}
		if err := s.setQuota(name, ask.QuotaBytes); err != nil {
			return nil, err
		}
	}
	return s.regrant(ctx, p, g)
}

func (s *Site) regrant(ctx context.Context, p *catalog.Peer, g catalog.Grants) (*api.Peer, error) {
	if err := s.cat.SetGrants(p.Name, g); err != nil {
		return nil, err
	}
	p.Grants.V = g
	if s.up(p.Name) { // it learns now what it may, else when it next asks
		ctx, end := context.WithTimeout(ctx, 5*time.Second)
		defer end()
		if _, _, _, err := s.greet(ctx, p); err != nil {
			s.log.Info("a site could not be told what it is granted", "site", p.Name, "error", err)
		}
	}
	s.changed("sites")
	view := s.peerView(p)
	return &view, nil
}

// Revoke takes grants back; without names it ends the pairing.
func (s *Site) Revoke(ctx context.Context, name string, names []string) (string, error) {
	p, err := s.cat.Peer(name)
	if err != nil {
		return "", err
	}
	if len(names) > 0 {
		g := p.Grants.V
		if err := setGrants(&g, names, false); err != nil {
			return "", err
		}
		if _, err := s.regrant(ctx, p, g); err != nil {
			return "", err
		}
		return fmt.Sprintf("%s may now %s here.", name, grantWords(g)), nil
	}
	routes, err := s.cat.Routes()
	if err != nil {
		return "", err
	}
	n := 0
	for _, r := range routes {
		if r.Peer == name {
			n++
		}
	}
	if err := errors.Join(s.cat.RemovePeer(name), s.cat.Set(witnessSetting+name, ""), s.cat.Set(seenStarts+name, ""),
		s.cat.Set(putBackSetting+name, ""), s.cat.Set(twoSitesSetting+name, "")); err != nil {
		return "", err
	}
	s.linesMu.Lock()
	l := s.links[name]
	delete(s.paces, name)
	s.linesMu.Unlock()
	if l != nil {
		l.Close()
	}
	s.changed("sites")
	words := fmt.Sprintf("The pairing with %s has ended: its key lets it do nothing here any more. Snapshots that it brought stay.", name)
	if n > 0 {
		words += fmt.Sprintf(" With it went %s.", many(n, "route"))
	}
	return words, nil
}

type rekey struct {
	Key []byte `cbor:"1,keyasint"`
	Sig []byte `cbor:"2,keyasint"` // by the new key, over the old one
}

func rekeyText(old ed25519.PublicKey) []byte {
	return append([]byte("candid harbor rekey\x00"), old...)
}

func (s *Site) nextKeyPath() string { return filepath.Join(s.dir, "keys", "site-next.pem") }

// Rotate gives the site a new key. Every paired site is told first, by the old one; when
// one cannot be reached the old key stays in use, unless force is set.
func (s *Site) Rotate(ctx context.Context, force bool) (string, error) {
	release, err := s.hold(ctx, "rotate")
	if err != nil {
		return "", err
	}
	defer release()
	next, err := s.nextKey()
	if err != nil {
		return "", err
	}
	old := s.identity()
	peers, err := s.cat.Peers()
	if err != nil {
		return "", err
	}
	var told, missed []string
	q := rekey{Key: next.Public().(ed25519.PublicKey), Sig: ed25519.Sign(next, rekeyText(old.Public()))}
	for _, p := range peers {
		if strings.HasPrefix(strings.Join(p.Addresses.V, " "), placeAddress) {
			continue // a place of this site learns it when it is attached, or below
		}
		link, _, err := s.link(ctx, p)
		if err == nil {
			err = link.Ask("rekey", q, &struct{}{})
		}
		if err != nil {
			missed = append(missed, fmt.Sprintf("%s (%v)", p.Name, err))
		} else {
			told = append(told, p.Name)
		}
	}
	if len(missed) > 0 && !force {
		return "", &Error{Elsewhere, fmt.Errorf("the old key stays in use, because not every paired site knows the new one yet: %s. Run candid site rotate again when they answer, or with --force, after which those must be paired anew", strings.Join(missed, "; "))}
	}
	id, err := transfer.NewIdentity(next)
	if err != nil {
		return "", err
	}
	block := pem.EncodeToMemory(&pem.Block{Type: "CANDID HARBOR SITE KEY", Bytes: next.Seed()})
	if err := s.cat.Set(formerKey+transfer.KeyText(old.Public()), s.clock.Now().Format(time.RFC3339)); err != nil {
		return "", err
	}
	if err := store.ReplaceFile(keyPath(s.dir), block); err != nil {
		return "", err
	}
	if err := os.Remove(s.nextKeyPath()); err != nil {
		return "", err
	}
	s.store.SetKey(next)
	s.id.Store(id)
	s.linesMu.Lock() // after: a line that still shows the old key is in the list
	var links []*transfer.Link
	for _, l := range s.links {
		links = append(links, l)
	}
	s.linesMu.Unlock()
	paths, err := s.placePaths()
	if err != nil {
		return "", err
	}
	for name, p := range s.attached() {
		if err := s.acquaint(p.peers, name, paths[name]); err != nil {
			return "", err
		}
	}
	for _, l := range links { // the next line shows the new key
		l.Close()
	}
	s.changed("sites")
	words := fmt.Sprintf("The site has a new key, %.16s…, and the old one is gone.", hex.EncodeToString(id.Public()))
	if len(told) > 0 {
		words += fmt.Sprintf(" %s know it.", strings.Join(told, ", "))
	}
	if len(missed) > 0 {
		words += fmt.Sprintf(" Pair anew with: %s.", strings.Join(missed, "; "))
	}
	return words, nil
}

// nextKey returns the key that a rotation announces, making it the first time.
func (s *Site) nextKey() (ed25519.PrivateKey, error) {
	next, err := loadKey(s.nextKeyPath())
	if err != nil || !s.identity().Public().Equal(next.Public()) {
		return next, err
	}
	if err := os.Remove(s.nextKeyPath()); err != nil { // a crash left it after it came into use
		return nil, err
	}
	return loadKey(s.nextKeyPath())
}

func (s *Site) serveRekey(peer *catalog.Peer, body []byte, st *transfer.Stream) error {
	var q rekey
	if err := transfer.Decode(body, &q); err != nil {
		return err
	}
	old, err := hex.DecodeString(peer.Key)
	if err != nil {
		return err
	}
	if len(q.Key) != ed25519.PublicKeySize || !ed25519.Verify(q.Key, rekeyText(old), q.Sig) {
		return &transfer.Refusal{What: "the new key is not proven by a signature with it", Final: true}
	}
	if other, err := s.cat.PeerByKey(hex.EncodeToString(q.Key)); err != nil {
		return err
	} else if other != nil && other.Name != peer.Name {
		return &transfer.Refusal{What: "the new key is another site's", Final: true}
	}
	if known, err := s.cat.AnnounceKey(peer.Name, peer.Key, hex.EncodeToString(q.Key)); err != nil {
		return err
	} else if !known {
		return &transfer.Refusal{What: "the key that announces another one is not the site's any more"}
	}
	return st.Reply(struct{}{})
}

// checkVolumes finds what is wrong with a choice of volumes.
func (s *Site) checkVolumes(labels map[string]string, names []string) error {
	if (len(labels) == 0) == (len(names) == 0) {
		return bad("a route needs volumes: choose them by labels, or by names")
	}
	for _, n := range names {
		if err := policy.CheckName("volume", strings.SplitN(n, "@", 2)[0]); err != nil {
			return &Error{Misuse, err}
		}
	}
	return nil
}
