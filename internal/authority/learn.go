package authority

import (
	"context"
	"crypto/ed25519"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"candidharbor/core/authority"
	"candidharbor/core/object"
	"candidharbor/internal/access"
	"candidharbor/internal/catalog"
	"candidharbor/internal/pairing"
	"candidharbor/internal/records"
	"candidharbor/internal/transfer"
)

// Of what is told at once.
const (
	mostTops    = 20000
	mostRecords = 4000
	mostBytes   = 4 << 20
	mostTold    = 1000 // records that do not count
)

// top is which record of a history holds at who tells it.
type top struct {
	_       struct{} `cbor:",toarray"`
	Lineage object.LineageID
	Record  object.ID
}

// told is what one site tells another of who is active, and what it would hear.
type told struct {
	Tops    []top              `cbor:"1,keyasint,omitempty"` // that hold here; all of which the other may know
	Records [][]byte           `cbor:"2,keyasint,omitempty"`
	Want    []object.LineageID `cbor:"3,keyasint,omitempty"` // of which other records hold there
}

func (s *Service) answer() {
	s.pairing.Handle("authority", pairing.NeedsNothing, func(_ context.Context, q *pairing.Request) error {
		var t told
		if err := transfer.Decode(q.Body, &t); err != nil {
			return err
		}
		out, err := s.hear(q.Peer, &t)
		if err != nil {
			return err
		}
		return q.Stream.Reply(out)
	})
}

// shown are the volumes of which a peer may know who is active: its own, those that it may take over, and those that
// it was active of.
func (s *Service) shown(peer string) (map[object.LineageID]*catalog.Volume, error) {
	vols, err := s.Catalog.Volumes()
	if err != nil {
		return nil, err
	}
	out := map[object.LineageID]*catalog.Volume{}
	for _, v := range vols {
		s.with(v, func(c *authority.Chain) {
			if c.Top() != nil && (v.Origin == peer || slices.ContainsFunc(c.All(), func(r *authority.Record) bool {
				return r.May(peer)
			})) {
				out[c.Lineage] = v
			}
		})
	}
	return out, nil
}

// hear takes in what a peer tells, and answers what it does not know, and what is not known here.
func (s *Service) hear(peer *catalog.Peer, t *told) (*told, error) {
	if len(t.Tops) > mostTops || len(t.Records) > mostRecords || len(t.Want) > mostTops {
		return nil, fmt.Errorf("%s tells more at once than is heard", peer.Name)
	}
	if err := s.Learn(peer.Name, t.Records); err != nil {
		return nil, err
	}
	shown, err := s.shown(peer.Name)
	if err != nil {
		return nil, err
	}
	out := &told{}
	asked := map[object.LineageID]bool{}
	for _, x := range t.Tops {
		asked[x.Lineage] = true
		v := shown[x.Lineage]
		if v == nil {
			continue
		}
		s.with(v, func(c *authority.Chain) {
			if c.Top().ID == x.Record {
				return
			}
			if !c.Has(x.Record) {
				out.Want = append(out.Want, x.Lineage)
			}
			s.say(out, c)
		})
	}
	for id, v := range shown {
		if !asked[id] && len(t.Tops) > 0 || slices.Contains(t.Want, id) {
			s.with(v, func(c *authority.Chain) { s.say(out, c) })
		}
	}
	return out, nil
}

// say adds the records of a chain, while there is room; the rest is told the next time.
func (s *Service) say(t *told, c *authority.Chain) {
	size := 0
	for _, r := range t.Records {
		size += len(r)
	}
	for _, r := range c.All() {
		if len(t.Records) >= mostRecords || size+len(r.Raw) > mostBytes {
			return
		}
		if !slices.ContainsFunc(t.Records, func(o []byte) bool { return &o[0] == &r.Raw[0] }) {
			t.Records, size = append(t.Records, r.Raw), size+len(r.Raw)
		}
	}
}

// exchange tells a peer what is known here, and learns what is known there. It is called whenever one was greeted.
func (s *Service) exchange(ctx context.Context, peer *catalog.Peer) error {
	if s.IsPlace {
		return nil
	}
	if err := s.compare(ctx, peer); err != nil {
		return err
	}
	return s.answered()
}

// answered ends the wait for another site after a start.
func (s *Service) answered() error {
	s.mu.Lock()
	was := s.alone
	s.alone = false
	s.mu.Unlock()
	if !was {
		return nil
	}
	return s.settle()
}

// settle brings the catalogue in line with what is known.
func (s *Service) settle() error {
	vols, err := s.Catalog.Volumes()
	if err != nil {
		return err
	}
	s.acts.Lock()
	moved, err := s.set(vols, nil)
	s.acts.Unlock()
	s.tell(moved)
	return err
}

func (s *Service) compare(ctx context.Context, peer *catalog.Peer) error {
	shown, err := s.shown(peer.Name)
	if err != nil {
		return err
	}
	t := &told{}
	for id, v := range shown {
		s.with(v, func(c *authority.Chain) { t.Tops = append(t.Tops, top{Lineage: id, Record: c.Top().ID}) })
	}
	t.Tops = t.Tops[:min(len(t.Tops), mostTops)]
	if len(t.Tops) == 0 { // nothing is known here, and may be there
		t.Tops = []top{{}}
	}
	for range 3 {
		var answer told
		if err := s.pairing.AskPeer(ctx, peer, "authority", t, &answer); err != nil {
			return err
		}
		if err := s.Learn(peer.Name, answer.Records); err != nil {
			return err
		}
		if len(answer.Want) == 0 {
			return nil
		}
		t = &told{}
		for _, id := range answer.Want {
			if v := shown[id]; v != nil {
				s.with(v, func(c *authority.Chain) { s.say(t, c) })
			}
		}
	}
	return nil
}

// Exchange asks a paired site who is active, and tells it.
func (s *Service) Exchange(ctx context.Context, site string) error {
	p, err := s.Catalog.Peer(site)
	if err != nil {
		return err
	}
	return s.exchange(ctx, p)
}

// Learn takes in records that a site brought, those that count. What does not is left out and told in the ledger.
func (s *Service) Learn(from string, raw [][]byte) error {
	var fresh []*authority.Record
	for _, b := range raw {
		r, err := authority.Read(b)
		if err != nil {
			return &transfer.Refusal{What: "a record of authority: " + err.Error(), Final: true}
		}
		fresh = append(fresh, r)
	}
	if len(fresh) == 0 {
		return nil
	}
	s.acts.Lock()
	moved, err := s.learn(from, fresh)
	s.acts.Unlock()
	s.tell(moved)
	return err
}

func (s *Service) learn(from string, fresh []*authority.Record) (all []Moved, err error) {
	refused := map[object.ID]error{}
	for again := true; again; { // each record after the one that it stands on
		again = false
		for _, r := range fresh {
			var of []*catalog.Volume
			for _, m := range r.Moves {
				v, err := s.Catalog.VolumeOfLineage(hex.EncodeToString(m.Lineage[:]))
				if errors.Is(err, catalog.ErrNone) {
					continue // nothing is known here of that history
				} else if err != nil {
					return all, err
				}
				var why error
				has := false
				s.with(v, func(c *authority.Chain) {
					if has = c.Has(r.ID); !has {
						why = c.Check(r, s.vouch(v))
					}
				})
				if why == nil && !has {
					of = append(of, v)
				} else if why != nil {
					refused[r.ID] = fmt.Errorf("of %s: %w", v.Name, why)
				}
			}
			if len(of) == 0 {
				continue
			}
			delete(refused, r.ID)
			moved, err := s.accept(r, of, false)
			all = append(all, moved...)
			if err != nil {
				return all, err
			}
			again = true
		}
	}
	for id, why := range refused {
		if s.told[id] || len(s.told) >= mostTold { // whoever repeats it fills no ledger
			continue
		}
		s.told[id] = true
		s.Log.Warn("a record of authority does not count", "record", id, "brought by", from, "why", why)
		if _, err := s.access.Record(access.Caller{Name: from, Via: "line"}, "authority", id.String(),
			"refused: "+why.Error()); err != nil {
			return all, err
		}
	}
	return all, nil
}

// putBack is called when a paired site has seen a start of this one that it does not know, or when two sites show this
// one's key. Of what that one may have taken over it is not known any more who is active; of the rest its word
// counts for
// nothing.
func (s *Service) putBack(peer string, two bool) error {
	cause := CausePutBack
	if two {
		cause = CauseTwoSites
	}
	s.acts.Lock()
	moved, err := s.doubt(cause, peer)
	s.acts.Unlock()
	s.tell(moved)
	return err
}

func (s *Service) doubt(cause Cause, peer string) ([]Moved, error) {
	vols, err := s.Catalog.Volumes()
	if err != nil {
		return nil, err
	}
	var mine []*catalog.Volume
	for _, v := range vols {
		id := object.LineageID(records.LineageOf(v.Lineage))
		may := false
		s.with(v, func(c *authority.Chain) { may = c.Top() != nil && c.Active() == s.Name() && c.Top().May(peer) })
		if !may {
			continue
		}
		if err := s.Catalog.PutAuthorityDoubt(&catalog.AuthorityDoubt{Lineage: v.Lineage, Since: catalog.At(s.Clock.Now()),
			Cause: string(cause)}); err != nil {
			return nil, err
		}
		s.mu.Lock()
		s.doubts[id] = cause
		s.mu.Unlock()
		mine = append(mine, v)
	}
	return s.set(mine, nil)
}

// Doubt is why it is not known who is active of a volume; empty: it is.
func (s *Service) Doubt(v *catalog.Volume) Cause {
	s.mu.Lock()
	defer s.mu.Unlock()
	c := s.chain(v)
	if d := s.doubts[c.Lineage]; d != "" {
		return d
	}
	if s.alone && s.contested(c) && c.Active() == s.Name() {
		return CauseAlone
	}
	return ""
}

// GoOn is a person's word that this site is the active one of a volume of which that is not known. It is said in a
// record of a term of its own, which others learn. Nothing is done where another site is active by all that is known.
func (s *Service) GoOn(v *catalog.Volume, from *catalog.Snapshot, why string) error {
	s.acts.Lock()
	moved, err := s.goOn(v, from, why)
	s.acts.Unlock()
	s.tell(moved)
	return err
}

func (s *Service) goOn(v *catalog.Volume, from *catalog.Snapshot, why string) ([]Moved, error) {
	var holds string
	s.with(v, func(c *authority.Chain) { holds = c.Active() })
	if holds != s.Name() {
		return nil, s.NotActive(v)
	}
	_, moved, err := s.move(s.Name(), []Going{{v, from}}, [16]byte{}, why)
	return moved, err
}

// Start asks other sites who is active before this one serves anything that they may have taken over.
func (s *Service) Start(ctx context.Context) error {
	if s.IsPlace {
		return nil
	}
	answered, err := s.AskAll(ctx)
	if err != nil || len(answered) > 0 || s.Conf.StartAlone == nil || *s.Conf.StartAlone {
		return err
	}
	s.mu.Lock()
	s.alone = true
	s.mu.Unlock()
	return s.settle()
}

// greetWithin bounds how long other sites are asked at a start before this one serves.
const greetWithin = 5 * time.Second

// AskAll asks all paired sites that may have taken something over who is active, side by side and not for long. It
// returns those that answered.
func (s *Service) AskAll(ctx context.Context) (answered []string, err error) {
	peers, err := s.Catalog.Peers()
	if err != nil {
		return nil, err
	}
	ctx, end := context.WithTimeout(ctx, greetWithin)
	defer end()
	type result struct {
		site string
		err  error
	}
	results, asked := make(chan result, len(peers)), 0
	for _, p := range peers {
		shown, err := s.shown(p.Name)
		if err != nil {
			return nil, err
		}
		if len(shown) == 0 && !p.Grants.V.TakeOver || strings.HasPrefix(strings.Join(p.Addresses.V, " "),
			pairing.PlaceAddress) {
			continue
		}
		asked++
		go func() {
			_, _, _, err := s.pairing.Greet(ctx, p)
			results <- result{p.Name, err}
		}()
	}
	for range asked {
		if r := <-results; r.err == nil {
			answered = append(answered, r.site)
		} else {
			s.Log.Info("a site could not be asked who is active", "site", r.site, "error", r.err)
		}
	}
	slices.Sort(answered)
	return answered, nil
}

// Foresee reads the records of a history that is not known here yet: by the keys of the site that it began at, or,
// where that is not paired, by the one that signed the first record, which it returns.
func (s *Service) Foresee(of object.LineageID, origin string, keys []string, raw [][]byte) (*authority.Chain,
	ed25519.PublicKey, error) {
	c := authority.NewChain(of, origin)
	var all []*authority.Record
	for _, b := range raw {
		r, err := authority.Read(b)
		if err != nil {
			return nil, nil, &transfer.Refusal{What: "a record of authority: " + err.Error(), Final: true}
		}
		all = append(all, r)
	}
	var first ed25519.PublicKey
	for _, r := range all {
		if m := r.Of(of); m != nil && m.Before.IsZero() && r.Site == origin {
			first = r.Signer
			break
		}
	}
	v := &catalog.Volume{Origin: origin}
	if len(keys) == 0 {
		v.Signer = hex.EncodeToString(first)
	} else {
		first = nil
	}
	for again := true; again; {
		again = false
		for _, r := range all {
			if had := c.Has(r.ID); !had {
				if _, err := c.Add(r, s.vouch(v)); err == nil {
					again = true
				}
			}
		}
	}
	return c, first, nil
}

// Foreseen reports whether, by records that do not count here yet, a site may have taken a snapshot.
func (s *Service) Foreseen(c *authority.Chain, term uint64, site string, key ed25519.PublicKey) bool {
	return c.MayHaveTaken(term, site, key, s.vouch(&catalog.Volume{Origin: c.Origin}))
}
