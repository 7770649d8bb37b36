package pairing

import (
	"context"
	"crypto/ed25519"
	"encoding/hex"
	"encoding/pem"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/datadir"
	"candidharbor/internal/phrase"
	"candidharbor/internal/policy"
	"candidharbor/internal/refusal"
	"candidharbor/internal/run"
	"candidharbor/internal/store"
	"candidharbor/internal/transfer"
)

const (
	grantOffer     = "offer"
	GrantRead      = "read"
	grantSee       = "see"
	grantConfigure = "configure"
	GrantTakeOver  = "take-over"
	grantNothing   = "nothing"
)

// setGrants switches grants by their names.
func setGrants(g *catalog.Grants, names []string, on bool) error {
	for _, n := range names {
		switch n {
		case grantOffer:
			g.Offer = on
		case GrantRead:
			g.Read = on
			if !on {
				g.Volumes = catalog.Selection{}
			}
		case grantSee:
			g.See = on
		case grantConfigure:
			g.Configure = on
		case GrantTakeOver:
			g.TakeOver = on
		default:
			return refusal.Badf("a grant is %s, %s, %s, %s or %s, not %q", grantOffer, GrantRead, grantSee, grantConfigure,
				GrantTakeOver, n)
		}
	}
	return nil
}

// FirstGrants are those of a new pairing.
func FirstGrants(names []string) (g catalog.Grants, err error) {
	switch {
	case len(names) == 0:
		names = []string{grantOffer, grantSee}
	case slices.Contains(names, grantNothing):
		if len(names) > 1 {
			return g, refusal.Badf("grant nothing, or name what is granted, not both")
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
			what = "volumes with " + phrase.LabelWords(g.Volumes.Labels)
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
	if g.TakeOver {
		parts = append(parts, "take volumes over")
	}
	if len(parts) == 0 {
		return "do nothing"
	}
	return strings.Join(parts, ", ")
}

func grantsView(g catalog.Grants) api.Grants {
	return api.Grants{Offer: g.Offer, Read: g.Read, See: g.See, Configure: g.Configure, TakeOver: g.TakeOver,
		Labels: g.Volumes.Labels,
		Names:  g.Volumes.Names, Words: grantWords(g)}
}

// Grant lets a paired site do more here.
func (s *Service) Grant(ctx context.Context, name string, ask api.GrantAsk) (*api.Peer, error) {
	p, err := s.Catalog.Peer(name)
	if err != nil {
		return nil, err
	}
	g := p.Grants.V
	if len(ask.Grants) == 0 {
		return nil, refusal.Badf("nothing is granted: name %s, %s, %s, %s or %s", grantOffer, GrantRead, grantSee,
			grantConfigure, GrantTakeOver)
	}
	if err := setGrants(&g, ask.Grants, true); err != nil {
		return nil, err
	}
	reads := slices.Contains(ask.Grants, GrantRead)
	if chosen := len(ask.Labels)+len(ask.Names) > 0; chosen && !reads {
		return nil, refusal.Badf("volumes are chosen for %s only", GrantRead)
	} else if len(ask.Labels) > 0 && len(ask.Names) > 0 {
		return nil, refusal.Badf("choose volumes by labels, or by names")
	}
	if reads {
		g.Volumes = catalog.Selection{Labels: ask.Labels, Names: ask.Names}
		for _, n := range ask.Names {
			if _, err := s.Catalog.Volume(n); err != nil {
				return nil, err
			}
		}
	}
	if ask.QuotaBytes != 0 {
		if !g.Offer {
			return nil, refusal.Badf("a quota bounds what %s brings, and it may not bring anything: grant %s too", name,
				grantOffer)
		}
		if err := s.setQuota(name, ask.QuotaBytes); err != nil {
			return nil, err
		}
	}
	return s.regrant(ctx, p, g)
}

func (s *Service) regrant(ctx context.Context, p *catalog.Peer, g catalog.Grants) (*api.Peer, error) {
	if err := s.Catalog.SetGrants(p.Name, g); err != nil {
		return nil, err
	}
	p.Grants.V = g
	if err := s.onGrants(); err != nil {
		return nil, err
	}
	if s.Up(p.Name) { // it learns now what it may, else when it next asks
		ctx, end := context.WithTimeout(ctx, 5*time.Second)
		defer end()
		if _, _, _, err := s.Greet(ctx, p); err != nil {
			s.Log.Info("a site could not be told what it is granted", "site", p.Name, "error", err)
		}
	}
	s.run.Changed("sites")
	view := s.peerView(p)
	return &view, nil
}

// Revoke takes grants back; without names it ends the pairing.
func (s *Service) Revoke(ctx context.Context, name string, names []string) (string, error) {
	p, err := s.Catalog.Peer(name)
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
	routes, err := s.Catalog.Routes()
	if err != nil {
		return "", err
	}
	n := 0
	for _, r := range routes {
		if r.Peer == name {
			n++
		}
	}
	if err := s.Catalog.RemovePeer(name); err != nil {
		return "", err
	}
	if err := s.end(name); err != nil {
		return "", err
	}
	s.mu.Lock()
	lines := s.linesTo(name)
	delete(s.paces, name)
	s.mu.Unlock()
	for _, l := range lines {
		l.Close()
	}
	s.run.Changed("sites")
	words := fmt.Sprintf("The pairing with %s has ended: its key lets it do nothing here any more. Snapshots that it "+
		"brought stay.", name)
	if n > 0 {
		words += fmt.Sprintf(" With it went %s.", phrase.Many(n, "route"))
	}
	return words, nil
}

const endedSetting = "pairings ended"

// Ended are the sites of which a person has ended the pairing.
func (s *Service) Ended() []string {
	raw, err := s.Catalog.Setting(endedSetting)
	if err != nil || raw == "" {
		return nil
	}
	return strings.Fields(raw)
}

func (s *Service) end(name string) error {
	if ended := s.Ended(); !slices.Contains(ended, name) {
		if err := s.Catalog.Set(endedSetting, strings.Join(append(ended, name), " ")); err != nil {
			return err
		}
	}
	return s.onGrants()
}

type rekey struct {
	Key []byte `cbor:"1,keyasint"`
	Sig []byte `cbor:"2,keyasint"` // by the new key, over the old one
}

func rekeyText(old ed25519.PublicKey) []byte {
	return append([]byte("candid harbor rekey\x00"), old...)
}

func (s *Service) nextKeyPath() string { return filepath.Join(s.Path, "keys", "site-next.pem") }

// Rotate gives the site a new key. It first announces the new key to every paired site, under the old one; when
// one cannot be reached the old key stays in use, unless force is set.
func (s *Service) Rotate(ctx context.Context, force bool) (string, error) {
	release, err := s.run.Hold(ctx, run.KeyRotation.Of(""))
	if err != nil {
		return "", err
	}
	defer release()
	next, err := s.nextKey()
	if err != nil {
		return "", err
	}
	old := s.Identity()
	peers, err := s.Catalog.Peers()
	if err != nil {
		return "", err
	}
	var told, missed []string
	q := rekey{Key: next.Public().(ed25519.PublicKey), Sig: ed25519.Sign(next, rekeyText(old.Public()))}
	for _, p := range peers {
		if strings.HasPrefix(strings.Join(p.Addresses.V, " "), PlaceAddress) {
			continue // a place of this site learns it when it is attached, or below
		}
		link, _, err := s.Link(ctx, p)
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
		return "", refusal.Wrap(refusal.Elsewhere, fmt.Errorf("the old key stays in use, because not every paired site "+
			"knows the new one yet: %s. Run candid site rotate again when they answer, or with --force, after which those "+
			"must be paired anew", strings.Join(missed, "; ")))
	}
	id, err := transfer.NewIdentity(next)
	if err != nil {
		return "", err
	}
	block := pem.EncodeToMemory(&pem.Block{Type: "CANDID HARBOR SITE KEY", Bytes: next.Seed()})
	if err := s.Catalog.PutFormerKey(transfer.KeyText(old.Public()), s.Clock.Now()); err != nil {
		return "", err
	}
	if err := store.ReplaceFile(datadir.KeyPath(s.Path), block); err != nil {
		return "", err
	}
	if err := os.Remove(s.nextKeyPath()); err != nil {
		return "", err
	}
	s.Store.SetKey(next)
	s.SetIdentity(id)
	if err := s.onGrants(); err != nil {
		return "", err
	}
	s.mu.Lock() // after: a line that still shows the old key is in the list
	links := s.allLines()
	s.mu.Unlock()
	paths, err := s.Catalog.Places()
	if err != nil {
		return "", err
	}
	for name, p := range s.Attached() {
		if err := s.pairPlace(p.Peers, name, paths[name]); err != nil {
			return "", err
		}
	}
	for _, l := range links { // the next line shows the new key
		l.Close()
	}
	s.run.Changed("sites")
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
func (s *Service) nextKey() (ed25519.PrivateKey, error) {
	next, err := datadir.LoadKey(s.nextKeyPath())
	if err != nil || !s.Identity().Public().Equal(next.Public()) {
		return next, err
	}
	if err := os.Remove(s.nextKeyPath()); err != nil { // a crash left it after it came into use
		return nil, err
	}
	return datadir.LoadKey(s.nextKeyPath())
}

func (s *Service) serveRekey(peer *catalog.Peer, body []byte, st *transfer.Stream) error {
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
	if other, err := s.Catalog.PeerByKey(hex.EncodeToString(q.Key)); err != nil {
		return err
	} else if other != nil && other.Name != peer.Name {
		return &transfer.Refusal{What: "the new key is another site's", Final: true}
	}
	if known, err := s.Catalog.AnnounceKey(peer.Name, peer.Key, hex.EncodeToString(q.Key)); err != nil {
		return err
	} else if !known {
		return &transfer.Refusal{What: "the key that announces another one is not the site's any more"}
	}
	return st.Reply(struct{}{})
}

// CheckVolumes finds what is wrong with a choice of volumes.
func (s *Service) CheckVolumes(labels map[string]string, names []string) error {
	if (len(labels) == 0) == (len(names) == 0) {
		return refusal.Badf("a route needs volumes: choose them by labels, or by names")
	}
	for _, n := range names {
		if err := policy.CheckName("volume", strings.SplitN(n, "@", 2)[0]); err != nil {
			return refusal.Wrap(refusal.Misuse, err)
		}
	}
	return nil
}
