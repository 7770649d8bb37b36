package route

import (
	"encoding/hex"
	"fmt"
	"slices"

	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
	"candidharbor/internal/transfer"
	"candidharbor/internal/volume/tree"
)

// partsOf reads the paths that a route carries.
func partsOf(in, out []string) (p tree.Parts, err error) {
	for _, list := range []struct {
		from []string
		to   *[]string
	}{{in, &p.In}, {out, &p.Out}} {
		for _, text := range list.from {
			rel, err := tree.CleanPath(phrase.RawPath(text))
			if err != nil {
				return p, refusal.Wrap(refusal.Misuse, err)
			}
			if rel == "" {
				return p, refusal.Badf("path %q is the whole volume: leave it out", text)
			}
			*list.to = append(*list.to, rel)
		}
		slices.Sort(*list.to)
		*list.to = slices.Compact(*list.to)
	}
	if void := p.Void(); void != "" {
		return p, refusal.Badf("path %q is to be carried and not to be", void)
	}
	return p, nil
}

func termParts(t catalog.Terms) tree.Parts { return tree.Parts{In: t.In, Out: t.Out} }

// derivedLineage is the history that parts of a volume's snapshots have.
func derivedLineage(whole object.LineageID, p tree.Parts) (id object.LineageID) {
	sum := object.Sum([]byte(fmt.Sprintf("candid harbor part\x00%x\x00%q\x00%q", whole, p.In, p.Out)))
	copy(id[:], sum[:])
	return id
}

// derive makes the part of a snapshot that a route carries, signed by this site, and what
// to send with it. It stays in the store as a base for the next one.
func (s *Service) derive(r *catalog.Route, row *catalog.Snapshot, id object.ID) (q transfer.CarryRequest,
	marks [][]byte, err error) {
	whole, _, err := s.Store.Root(id)
	if err != nil {
		return q, nil, err
	}
	parts := termParts(r.Terms.V)
	w := s.Store.NewWriter(s.Store.NewLease())
	defer w.Close()
	root, err := tree.Derive(s.Store.Get, w.Put, whole, parts)
	if err != nil {
		return q, nil, err
	}
	root.Derived = &object.Derived{From: id, In: parts.In, Out: parts.Out}
	root.Lineage = derivedLineage(whole.Lineage, parts)
	derived, err := w.Commit(root)
	if err != nil {
		return q, nil, err
	}
	all, _, err := s.Store.Marks(id)
	if err != nil {
		return q, nil, err
	}
	for _, m := range all {
		if !m.Kind.Travels() {
			continue
		}
		m.Root, m.Place = derived, s.Name() // it is what this site says of the part
		body, err := object.EncodeMark(m)
		if err != nil {
			return q, nil, err
		}
		raw, err := object.SignRecord(s.Identity().Key, "mark", body)
		if err != nil {
			return q, nil, err
		}
		marks = append(marks, raw)
	}
	q = transfer.CarryRequest{Lineage: root.Lineage, Root: derived}
	base, err := s.Catalog.Derived(r.Name, hex.EncodeToString(root.Lineage[:]))
	if err != nil {
		return q, nil, err
	}
	if last, err := object.ParseID(base); err == nil {
		q.Bases = []object.ID{last}
	}
	return q, marks, nil
}

// derivedArrived keeps the newest part that a route carried of a volume as what the next
// one is compared with, and takes others away: they can be made again.
func (s *Service) derivedArrived(r *catalog.Route, q *transfer.CarryRequest, newest bool) error {
	drop := q.Root
	if newest {
		if err := s.Catalog.PutDerived(r.Name, hex.EncodeToString(q.Lineage[:]), q.Root.String()); err != nil {
			return err
		}
		drop = object.ID{}
		if len(q.Bases) > 0 && q.Bases[0] != q.Root {
			drop = q.Bases[0]
		}
	} else if len(q.Bases) > 0 && q.Bases[0] == q.Root {
		return nil
	}
	if drop.IsZero() || !s.Store.HasRoot(drop) {
		return nil
	}
	return s.Store.RemoveRoots(drop)
}

// DropDerived takes parts away that no route compares with any more.
func (s *Service) DropDerived(roots []object.ID) (rest []object.ID, err error) {
	routes, err := s.Catalog.Routes()
	if err != nil {
		return nil, err
	}
	var drop []object.ID
	for _, id := range roots {
		root, _, err := s.Store.Root(id)
		if err != nil || root.Derived == nil || root.Origin != s.Name() {
			rest = append(rest, id)
			continue
		}
		used := slices.ContainsFunc(routes, func(r *catalog.Route) bool {
			base, err := s.Catalog.Derived(r.Name, hex.EncodeToString(root.Lineage[:]))
			return err != nil || base == id.String()
		})
		if !used {
			drop = append(drop, id)
		}
	}
	if len(drop) == 0 {
		return rest, nil
	}
	return rest, s.Store.RemoveRoots(drop...)
}
