package authority

import (
	"bytes"
	"crypto/ed25519"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"candidharbor/core/authority"
	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/records"
	"candidharbor/internal/refusal"
	"candidharbor/internal/store"
)

// Going is a history that another site is to be active of, and the snapshot from which it goes on.
type Going struct {
	Volume *catalog.Volume
	From   *catalog.Snapshot
}

// Move signs that a site is active of histories from now on, in a term of its own, and makes that durable: this site,
// which takes over, or another one, to which it hands over what it is active of.
func (s *Service) Move(to string, all []Going, act [16]byte, why string) (*authority.Record, error) {
	s.acts.Lock()
	r, moved, err := s.move(to, all, act, why)
	s.acts.Unlock()
	s.tell(moved)
	return r, err
}

func (s *Service) move(to string, all []Going, act [16]byte, why string) (*authority.Record, []Moved, error) {
	rec := &authority.Record{Site: to, At: s.Clock.Now().UnixNano(), Act: act, Why: why}
	var vols []*catalog.Volume
	for i, g := range all {
		v, err := s.Catalog.Volume(g.Volume.Name) // as it is now
		if err != nil {
			return nil, nil, err
		}
		vols = append(vols, v)
		highest, _, err := s.Catalog.HighestPosition(v.Lineage)
		if err != nil {
			return nil, nil, err
		}
		h, err := s.Catalog.History(v.Lineage)
		if err != nil {
			return nil, nil, err
		}
		from, err := object.ParseID(g.From.ID)
		if err != nil {
			return nil, nil, err
		}
		var m authority.Move
		var top *authority.Record
		var active string
		s.with(v, func(c *authority.Chain) {
			m, top, active = c.Next(max(uint64(highest), h.Term)), c.Top(), s.activeNow(c)
		})
		switch {
		case top == nil || !top.May(s.Name()):
			return nil, nil, refusal.Conflictf("%s has not granted this site that it may take %s over: a person at %s "+
				"can, with candid site grant %s take-over", v.Origin, v.Name, v.Origin, s.Name())
		case to != s.Name() && active != s.Name():
			return nil, nil, s.NotActive(v)
		case to != s.Name() && !top.May(to):
			return nil, nil, refusal.Conflictf("%s may not take %s over: grant it with candid site grant %s take-over", to,
				v.Name, to)
		}
		m.From, m.FromTerm, m.FromSeq = from, uint64(g.From.Term), uint64(g.From.Sequence)
		rec.Moves = append(rec.Moves, m)
		next := s.fresh(top.Next)
		if i > 0 && !slices.EqualFunc(rec.Next, next, sameMember) {
			next = common(rec.Next, next)
		}
		rec.Next = next
	}
	slices.SortFunc(rec.Moves, func(a, b authority.Move) int { return bytes.Compare(a.Lineage[:], b.Lineage[:]) })
	r, err := authority.Sign(s.Store.SigningKey(), rec)
	if err != nil {
		return nil, nil, err
	}
	moved, err := s.accept(r, vols, true)
	return r, moved, err
}

func sameMember(a, b authority.Member) bool { return a.Site == b.Site && bytes.Equal(a.Key, b.Key) }

// common are the members of both lists: a record that moves several histories lets nobody take one over who might not
// before. Who is missed is listed again by the active site's next edition.
func common(a, b []authority.Member) []authority.Member {
	return slices.DeleteFunc(slices.Clone(a), func(m authority.Member) bool {
		return !slices.ContainsFunc(b, func(o authority.Member) bool { return sameMember(m, o) })
	})
}

func sortMembers(all []authority.Member) {
	slices.SortFunc(all, func(a, b authority.Member) int { return strings.Compare(a.Site, b.Site) })
}

// fresh are members with the keys that they show at present.
func (s *Service) fresh(all []authority.Member) []authority.Member {
	out := slices.Clone(all)
	for i, m := range out {
		if key := s.keyOf(m.Site); key != nil {
			out[i].Key = key
		}
	}
	return out
}

// keyOf is the key of this site or of a paired one; nil: it is not paired.
func (s *Service) keyOf(site string) ed25519.PublicKey {
	if site == s.Name() {
		return s.Identity().Public()
	}
	p, err := s.Catalog.Peer(site)
	if err != nil {
		return nil
	}
	key, err := hex.DecodeString(p.Key)
	if err != nil || len(key) != ed25519.PublicKeySize {
		return nil
	}
	return key
}

// accept makes a record durable for the volumes of which it counts, and lets it hold. fresh: it was signed here just
// now. One that this site signed and has to be told was lost when it was put back, with what it had of the volumes
// then. The caller holds acts.
func (s *Service) accept(r *authority.Record, vols []*catalog.Volume, fresh bool) ([]Moved, error) {
	var of []object.LineageID
	for _, v := range vols {
		of = append(of, records.LineageOf(v.Lineage))
	}
	slices.SortFunc(of, func(a, b object.LineageID) int { return bytes.Compare(a[:], b[:]) })
	for _, v := range vols { // what others would refuse is not signed
		var err error
		s.with(v, func(c *authority.Chain) { err = c.Check(r, s.vouch(v)) })
		if err != nil {
			return nil, fmt.Errorf("who is active of %s: %w", v.Name, err)
		}
	}
	for _, id := range of { // what is being acknowledged is, before another site is active
		gate := s.gate(id)
		gate.Lock()
		defer gate.Unlock()
	}
	forgot := !fresh && r.Site == s.Name() && s.ownKey(r.Signer)
	for _, v := range vols { // before the record holds, so that a power cut leaves no site that trusts itself
		s.mu.RLock()
		_, doubt := s.doubts[records.LineageOf(v.Lineage)]
		s.mu.RUnlock()
		if !forgot || doubt {
			continue
		}
		if err := s.Catalog.PutAuthorityDoubt(&catalog.AuthorityDoubt{Lineage: v.Lineage, Since: catalog.At(s.Clock.Now()),
			Cause: string(CausePutBack)}); err != nil {
			return nil, err
		}
	}
	if err := s.Store.PutAuthority(r, of...); err != nil {
		return nil, err
	}
	s.mu.Lock()
	k := s.kept[r.ID]
	if k == nil {
		k = &store.Authority{Record: r}
		s.kept[r.ID] = k
	}
	var known []*catalog.Volume
	risen := map[string]bool{}
	for _, v := range vols {
		c := s.chain(v)
		if !slices.Contains(k.Of, c.Lineage) {
			k.Of = append(k.Of, c.Lineage)
		}
		before := c.Term()
		c.Restore([]*authority.Record{r})
		_, doubt := s.doubts[c.Lineage]
		risen[v.Lineage] = c.Term() > before
		switch {
		case c.Active() != s.Name(), fresh && c.Term() > before:
			if doubt || forgot {
				delete(s.doubts, c.Lineage)
				known = append(known, v)
			}
		case forgot && !doubt:
			s.doubts[c.Lineage] = CausePutBack
		}
	}
	s.mu.Unlock()
	for _, v := range known {
		if err := s.Catalog.EndAuthorityDoubt(v.Lineage); err != nil {
			return nil, err
		}
	}
	return s.set(vols, risen)
}

// membersChanged brings the sites that may take over in line with what is granted.
func (s *Service) membersChanged() error {
	s.acts.Lock()
	vols, err := s.Catalog.Volumes()
	var moved []Moved
	if err == nil {
		moved, err = s.list(vols)
	}
	s.acts.Unlock()
	s.tell(moved)
	return err
}

// List signs, for each volume that this site is active of, which sites may take it over, where that is not what the
// last record says.
func (s *Service) List() error { return s.membersChanged() }

// ListOne is List for a volume that was just added.
func (s *Service) ListOne(name string) error {
	v, err := s.Catalog.Volume(name)
	if err != nil {
		return err
	}
	s.acts.Lock()
	moved, err := s.list([]*catalog.Volume{v})
	s.acts.Unlock()
	s.tell(moved)
	return err
}

func (s *Service) list(vols []*catalog.Volume) ([]Moved, error) {
	if s.IsPlace {
		return nil, nil
	}
	peers, err := s.Catalog.Peers()
	if err != nil {
		return nil, err
	}
	type edition struct {
		next []authority.Member
		vols []*catalog.Volume
	}
	var editions []*edition
	for _, v := range vols {
		if v.Active != s.Name() || v.Part != "" {
			continue
		}
		var top *authority.Record
		s.with(v, func(c *authority.Chain) { top = c.Top() })
		next := s.members(v, top, peers)
		if top == nil && len(next) < 2 || top != nil && slices.EqualFunc(top.Next, next, sameMember) {
			continue
		}
		i := slices.IndexFunc(editions, func(e *edition) bool {
			return slices.EqualFunc(e.next, next, sameMember) && len(e.vols) < authority.MaxMoves
		})
		if i < 0 {
			i = len(editions)
			editions = append(editions, &edition{next: next})
		}
		editions[i].vols = append(editions[i].vols, v)
	}
	var all []Moved
	for _, e := range editions {
		rec := &authority.Record{Site: s.Name(), Next: e.next, At: s.Clock.Now().UnixNano(), Why: "grants"}
		for _, v := range e.vols {
			s.with(v, func(c *authority.Chain) { rec.Moves = append(rec.Moves, c.NextEdition()) })
		}
		slices.SortFunc(rec.Moves, func(a, b authority.Move) int { return bytes.Compare(a.Lineage[:], b.Lineage[:]) })
		r, err := authority.Sign(s.Store.SigningKey(), rec)
		if err != nil {
			return all, err
		}
		moved, err := s.accept(r, e.vols, true)
		all = append(all, moved...)
		if err != nil {
			return all, err
		}
	}
	return all, nil
}

// members are the sites that may sign what follows: this one, the one of the origin, those that are granted it here,
// and those that were listed and are not paired with this one.
func (s *Service) members(v *catalog.Volume, top *authority.Record, peers []*catalog.Peer) []authority.Member {
	out := []authority.Member{{Site: s.Name(), Key: s.keyOf(s.Name())}}
	paired := map[string]bool{s.Name(): true}
	for _, p := range peers {
		paired[p.Name] = true
		if key := s.keyOf(p.Name); key != nil && (p.Grants.V.TakeOver || p.Name == v.Origin) {
			out = append(out, authority.Member{Site: p.Name, Key: key})
		}
	}
	if top != nil {
		for _, m := range top.Next {
			if !paired[m.Site] && !slices.Contains(s.pairing.Ended(), m.Site) {
				out = append(out, m)
			}
		}
	}
	sortMembers(out)
	return out
}
