package authority

import (
	"crypto/ed25519"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"sync"

	"candidharbor/core/authority"
	"candidharbor/core/lineage"
	"candidharbor/core/object"
	"candidharbor/internal/access"
	"candidharbor/internal/catalog"
	"candidharbor/internal/datadir"
	"candidharbor/internal/pairing"
	"candidharbor/internal/records"
	"candidharbor/internal/refusal"
	"candidharbor/internal/run"
	"candidharbor/internal/store"
)

// Service knows who is active.
type Service struct {
	*datadir.Dir
	run     *run.Engine
	access  *access.Service
	pairing *pairing.Service

	moved []func(all []Moved)

	acts   sync.Mutex // signing and learning
	mu     sync.RWMutex
	chains map[object.LineageID]*authority.Chain
	kept   map[object.ID]*store.Authority // by record
	doubts map[object.LineageID]Cause
	gates  map[object.LineageID]*sync.RWMutex
	told   map[object.ID]bool        // records that do not count and were told of
	alone  bool                      // waits for another site to answer
	frozen map[object.LineageID]bool // are being handed over: nothing more is taken of them
}

// Moved tells of a history that another site is active of than before, or the same one in a later term.
type Moved struct {
	Volume *catalog.Volume
	From   string // the site that was active
	To     string // the site that is; empty: that is not known
	Term   uint64
	Record *authority.Record // that says so; nil: nobody knows
}

// Cause is why it is not known who is active.
type Cause string

// The causes of doubt.
const (
	CausePutBack  Cause = "put-back"  // this site was put back to an earlier state
	CauseTwoSites Cause = "two-sites" // two sites show this site's key
	CauseDamaged  Cause = "damaged"   // a record of authority cannot be read
	CauseAlone    Cause = "alone"     // nobody answered since the start, and site.yaml says to wait for one
)

// Nobody stands for the active site where that is not known.
const Nobody = "(not known)"

// New works in a data directory.
func New(dir *datadir.Dir, run *run.Engine, access *access.Service, pairing *pairing.Service) *Service {
	s := &Service{Dir: dir, run: run, access: access, pairing: pairing}
	s.forget()
	s.answer()
	s.witness()
	pairing.OnGrants(s.membersChanged)
	pairing.OnGreeted(s.exchange)
	pairing.OnPutBack(s.putBack)
	return s
}

func (s *Service) forget() {
	s.chains, s.kept = map[object.LineageID]*authority.Chain{}, map[object.ID]*store.Authority{}
	s.doubts, s.gates = map[object.LineageID]Cause{}, map[object.LineageID]*sync.RWMutex{}
	s.frozen, s.told = map[object.LineageID]bool{}, map[object.ID]bool{}
}

// OnMoved has a function called with histories of which another site is active than before, after that is durable.
func (s *Service) OnMoved(f func(all []Moved)) { s.moved = append(s.moved, f) }

// Load reads the records, and brings the catalogue in line with them.
func (s *Service) Load() error {
	s.acts.Lock()
	defer s.acts.Unlock()
	all, lost, err := s.Store.Authorities()
	if err != nil {
		return err
	}
	doubts, err := s.Catalog.AuthorityDoubts()
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.forget()
	for _, d := range doubts {
		s.doubts[records.LineageOf(d.Lineage)] = Cause(d.Cause)
	}
	for i := range all {
		s.kept[all[i].ID] = &all[i]
	}
	for _, l := range lost {
		if _, known := s.doubts[l]; known {
			continue
		}
		s.doubts[l] = CauseDamaged
		if err := s.Catalog.PutAuthorityDoubt(&catalog.AuthorityDoubt{Lineage: hex.EncodeToString(l[:]),
			Since: catalog.At(s.Clock.Now()), Cause: string(CauseDamaged)}); err != nil {
			return err
		}
	}
	vols, err := s.Catalog.Volumes()
	if err != nil {
		return err
	}
	for _, v := range vols {
		if active := s.activeNow(s.chain(v)); active != v.Active {
			if err := s.Catalog.SetActive(v.Lineage, active); err != nil {
				return err
			}
		}
	}
	return nil
}

// chain is the chain of a volume's history. The caller holds mu for writing.
func (s *Service) chain(v *catalog.Volume) *authority.Chain {
	id := object.LineageID(records.LineageOf(v.Lineage))
	if c := s.chains[id]; c != nil {
		return c
	}
	c := authority.NewChain(id, v.Origin)
	var mine []*authority.Record
	for _, r := range s.kept {
		if slices.Contains(r.Of, id) {
			mine = append(mine, r.Record)
		}
	}
	c.Restore(mine)
	s.chains[id] = c
	return c
}

// activeNow is the site that is active by a chain. The caller holds mu.
func (s *Service) activeNow(c *authority.Chain) string {
	if _, doubt := s.doubts[c.Lineage]; (doubt || s.alone && s.contested(c)) && c.Active() == s.Name() {
		return Nobody
	}
	return c.Active()
}

// contested reports whether another site may have taken a history over.
func (s *Service) contested(c *authority.Chain) bool { return c.Top() != nil && len(c.Top().Next) > 1 }

// with calls a function with the chain of a volume, which it only reads.
func (s *Service) with(v *catalog.Volume, f func(c *authority.Chain)) {
	s.mu.Lock()
	defer s.mu.Unlock()
	f(s.chain(v))
}

// Within does something that only the active site may, so that a record that makes another one active waits for its
// end. It is refused where this site is not the active one.
func (s *Service) Within(v *catalog.Volume, do func(term uint64) error) error {
	id := object.LineageID(records.LineageOf(v.Lineage))
	gate := s.gate(id)
	gate.RLock()
	defer gate.RUnlock()
	var active string
	var term uint64
	s.with(v, func(c *authority.Chain) { active, term = s.activeNow(c), c.Term() })
	if active != s.Name() {
		return s.NotActive(v)
	}
	s.mu.RLock()
	frozen := s.frozen[id]
	s.mu.RUnlock()
	if frozen {
		return refusal.Conflictf("%s is being handed over to another site: nothing more is taken of it here", v.Name)
	}
	return do(term)
}

// Freeze has nothing more taken of a volume that is being handed over, or is again.
func (s *Service) Freeze(v *catalog.Volume, frozen bool) {
	id := object.LineageID(records.LineageOf(v.Lineage))
	gate := s.gate(id)
	gate.Lock()
	defer gate.Unlock()
	s.mu.Lock()
	defer s.mu.Unlock()
	if frozen {
		s.frozen[id] = true
	} else {
		delete(s.frozen, id)
	}
}

func (s *Service) gate(id object.LineageID) *sync.RWMutex {
	s.mu.Lock()
	defer s.mu.Unlock()
	g := s.gates[id]
	if g == nil {
		g = &sync.RWMutex{}
		s.gates[id] = g
	}
	return g
}

// NotActive is the refusal of what only the active site may do.
func (s *Service) NotActive(v *catalog.Volume) error {
	active, _ := s.Active(v)
	return elsewhere(v, active, "ask there")
}

// Elsewhere is the refusal of what only the active site of a volume may do, by what the catalogue says, with the way
// out where another site is it.
func Elsewhere(v *catalog.Volume, hint string) error { return elsewhere(v, v.ActiveSite(), hint) }

func elsewhere(v *catalog.Volume, active, hint string) error {
	if active == Nobody {
		return refusal.Conflictf("it is not known whether this site is still the active one of %s: candid authority show %s "+
			"says why and what to do", v.Name, v.Name)
	}
	return refusal.Conflictf("%s is active at the site %s: %s", v.Name, active, hint)
}

// Active is the site that is active of a volume, and since which term.
func (s *Service) Active(v *catalog.Volume) (site string, term uint64) {
	s.with(v, func(c *authority.Chain) { site, term = s.activeNow(c), c.Term() })
	return site, term
}

// InLine reports whether a snapshot is part of what the active site goes on from.
func (s *Service) InLine(v *catalog.Volume, at lineage.Position, taker string) (in bool) {
	s.with(v, func(c *authority.Chain) { in = c.InLine(at, taker) })
	return in
}

// OwnTerm is the last term before another one in which this site was active of a volume, by whatever record.
func (s *Service) OwnTerm(v *catalog.Volume, before uint64) (term uint64) {
	s.with(v, func(c *authority.Chain) {
		if term = 0; c.Origin == s.Name() {
			term = 1
		}
		for _, r := range c.All() {
			if t := r.Of(c.Lineage).Term; r.Site == s.Name() && t < before {
				term = max(term, t)
			}
		}
	})
	return term
}

// Line are the records that the one that holds stands on, and it itself, the first first.
func (s *Service) Line(v *catalog.Volume) (line []*authority.Record) {
	s.with(v, func(c *authority.Chain) { line = slices.Clone(c.Line()) })
	return line
}

// Records are all records of a volume, each after the one that it stands on, for others.
func (s *Service) Records(v *catalog.Volume) (raw [][]byte) {
	s.with(v, func(c *authority.Chain) {
		for _, r := range c.All() {
			raw = append(raw, r.Raw)
		}
	})
	return raw
}

// MayHaveTaken reports whether a site may have taken and signed a snapshot of a term.
func (s *Service) MayHaveTaken(v *catalog.Volume, term uint64, site string, key ed25519.PublicKey) (may bool) {
	s.with(v, func(c *authority.Chain) { may = c.MayHaveTaken(term, site, key, s.vouch(v)) })
	return may
}

// vouch knows the keys of this site, of paired ones, and of who signed the first snapshot of a history.
func (s *Service) vouch(v *catalog.Volume) authority.Vouch {
	return func(site string, key ed25519.PublicKey) bool {
		text := hex.EncodeToString(key)
		switch {
		case site == s.Name():
			return s.ownKey(key)
		case site == v.Origin && v.Signer == text:
			return true
		}
		p, err := s.Catalog.Peer(site)
		if errors.Is(err, catalog.ErrNone) {
			return false
		}
		if err != nil {
			s.Log.Error("the key of a site cannot be looked up", "site", site, "error", err)
			return false
		}
		return slices.Contains(pairing.Signers(p), text)
	}
}

func (s *Service) ownKey(key ed25519.PublicKey) bool {
	if s.Identity().Public().Equal(key) {
		return true
	}
	former, err := s.Catalog.IsFormerKey(hex.EncodeToString(key))
	if err != nil {
		s.Log.Error("the former keys cannot be looked up", "error", err)
	}
	return former
}

// set notes of volumes who is active now, where that is another one than the catalogue says, and tells of it; also of
// those whose term has risen. The caller holds acts and nothing else.
func (s *Service) set(vols []*catalog.Volume, risen map[string]bool) ([]Moved, error) {
	var all []Moved
	for _, v := range vols {
		m := Moved{Volume: v, From: v.Active}
		s.with(v, func(c *authority.Chain) { m.To, m.Term, m.Record = s.activeNow(c), c.Term(), c.Top() })
		if m.To == m.From {
			if risen[v.Lineage] { // it goes on without what it had before
				all = append(all, m)
			}
			continue
		}
		if err := s.Catalog.SetActive(v.Lineage, m.To); err != nil {
			return all, err
		}
		v.Active = m.To
		s.Log.Warn("another site is active", "volume", v.Name, "site", m.To, "term", m.Term, "before", m.From)
		if _, err := s.access.Record(access.ByService, "authority", v.Name, fmt.Sprintf("%s is active in term %d, after %s",
			m.To, m.Term, m.From)); err != nil {
			s.Log.Error("the ledger could not be written", "error", err)
		}
		all = append(all, m)
	}
	return all, nil
}

// Enter brings a volume that was just entered in line with what is known of its history.
func (s *Service) Enter(v *catalog.Volume) error {
	s.acts.Lock()
	moved, err := s.set([]*catalog.Volume{v}, nil)
	s.acts.Unlock()
	s.tell(moved)
	return err
}

// tell tells of changes. The caller holds nothing.
func (s *Service) tell(all []Moved) {
	if len(all) == 0 {
		return
	}
	for _, f := range s.moved {
		f(all)
	}
	s.run.Changed("volumes")
	s.run.Wake()
}
