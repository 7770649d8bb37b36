package route

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"

	"candidharbor/core/object"
	"candidharbor/core/space"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/records"
	"candidharbor/internal/run"
	"candidharbor/internal/store"

	"github.com/RoaringBitmap/roaring/v2"
)

// Heal puts damaged objects and records of snapshots back from other sites that have them.
// It tells what it did in words, and whether anything was put back.
func (s *Service) Heal(ctx context.Context, j *run.Job, res *store.VerifyResult) (words string, healed bool,
	err error) {
	var left []object.ID
	for _, d := range res.Damage {
		if !d.Object.IsZero() { // also what nothing is known to need: what leads to it may be damaged too
			left = append(left, d.Object)
		}
	}
	var roots []object.ID
	for _, r := range res.Records {
		if r.Root {
			roots = append(roots, r.Snapshot)
		}
	}
	if healed, err = s.healMarks(j, res.Records); err != nil {
		return "", healed, err
	}
	peers, err := s.Catalog.Peers()
	if err != nil || len(left)+len(roots) == 0 || len(peers) == 0 {
		return "", healed, err
	}
	all := len(left) + len(roots)
	var from []string
	for _, p := range peers {
		if len(left)+len(roots) == 0 {
			break
		}
		j.Say("asking " + p.Name)
		before := len(left) + len(roots)
		if roots, err = s.healRoots(ctx, j, p, roots); err == nil {
			var got store.HealResult
			if got, err = s.Store.Heal(ctx, left, func(ctx context.Context, ids []object.ID) ([][]byte, error) {
				return s.AskObjects(ctx, p, ids)
			}); err == nil {
				left = got.Left
			}
		}
		if err != nil {
			if ctx.Err() != nil {
				return "", false, ctx.Err()
			}
			j.Logf("%s could not be asked for what is damaged: %v", p.Name, err)
		}
		if n := before - len(left) - len(roots); n > 0 {
			from = append(from, p.Name)
			j.Logf("%s put back from %s", phrase.Many(n, "damaged part"), p.Name)
			s.Log.Info("what was damaged was put back", "objects and records", n, "from", p.Name)
		}
	}
	if len(from) == 0 {
		return "no other site has what is damaged", healed, nil
	}
	s.run.Changed("snapshots")
	if n := len(left) + len(roots); n > 0 {
		return fmt.Sprintf("%d of %d were put back from %s", all-n, all, strings.Join(from, ", ")), true, nil
	}
	return "all of them were put back from " + strings.Join(from, ", "), true, nil
}

// healRoots asks a peer for the records of snapshots, and returns those that it did not
// have.
func (s *Service) healRoots(ctx context.Context, j *run.Job, p *catalog.Peer, roots []object.ID) (left []object.ID,
	err error) {
	if len(roots) == 0 {
		return nil, nil
	}
	for i, id := range roots {
		var raw []byte
		err := s.pairing.AskPeer(ctx, p, "root", RootAsk{Root: id}, &raw)
		if err == nil {
			var got object.ID
			if got, err = s.Store.HealRoot(raw); err == nil && got != id {
				err = fmt.Errorf("the record of %s came instead", got)
			}
		}
		if ctx.Err() != nil {
			return append(left, roots[i:]...), ctx.Err()
		}
		if err != nil {
			j.Logf("%s did not give the record of snapshot %s: %v", p.Name, id.String()[:12], err)
			left = append(left, id)
		}
	}
	return left, nil
}

// healMarks writes the marks of snapshots anew of which some are damaged, from what the
// catalogue knows. It reports whether any was written.
func (s *Service) healMarks(j *run.Job, records []store.BadRecord) (healed bool, err error) {
	for _, r := range records {
		if r.Root {
			continue
		}
		row, err := s.Catalog.Snapshot(r.Snapshot.String())
		if errors.Is(err, catalog.ErrNone) {
			continue
		}
		if err == nil {
			err = s.MarksFromRow(row)
		}
		if err == nil {
			err = s.Store.SetMarkAside(r.File)
		}
		if err != nil {
			return healed, err
		}
		healed = true
		j.Logf("%s: the marks of snapshot %s were written anew from the catalogue", r.File, row.ID[:12])
	}
	return healed, nil
}

// MarksFromRow puts the marks that say what a row says.
func (s *Service) MarksFromRow(row *catalog.Snapshot) error {
	id, err := object.ParseID(row.ID)
	if err != nil {
		return err
	}
	at := s.Clock.Now().UnixNano()
	if !row.Marked.IsZero() {
		at = max(at, row.Marked.UnixNano()+1)
	}
	var marks []object.Mark
	add := func(is bool, m object.Mark) {
		if is {
			m.Root, m.At, m.Place = id, at, s.Place()
			marks = append(marks, m)
		}
	}
	until := func(t catalog.Time) int64 {
		if t.IsZero() {
			return 0
		}
		return t.UnixNano()
	}
	add(row.KeepWhy != "", object.Mark{Kind: object.MarkKeep, Text: row.KeepWhy, Until: until(row.KeepUntil)})
	add(row.Note != "", object.Mark{Kind: object.MarkNote, Text: row.Note})
	add(len(row.Labels.V) > 0, object.Mark{Kind: object.MarkLabels, Labels: row.Labels.V})
	add(!row.OwnEnd.IsZero(), object.Mark{Kind: object.MarkEnd, Until: until(row.OwnEnd)})
	add(!row.SeenUntil.IsZero(), object.Mark{Kind: object.MarkSighting, Until: until(row.SeenUntil),
		Watched: until(row.WatchedUntil)})
	add(!row.GraceUntil.IsZero(), object.Mark{Kind: object.MarkExpiry, Until: until(row.GraceUntil), Text: row.LetGo,
		Cause: object.MarkCause(row.LetGoCause)})
	add(!row.RecalledUntil.IsZero(), object.Mark{Kind: object.MarkRecall, Until: until(row.RecalledUntil)})
	if !row.Arrived.IsZero() {
		add(true, object.Mark{Kind: object.MarkArrival, Text: row.OutOfTurn})
		marks[len(marks)-1].At = row.Arrived.UnixNano()
	}
	for i := range marks {
		if err := s.Store.PutMark(&marks[i]); err != nil {
			return err
		}
	}
	return nil
}

// AskObjects asks a peer for objects; those it does not give are nil.
func (s *Service) AskObjects(ctx context.Context, p *catalog.Peer, ids []object.ID) ([][]byte, error) {
	link, _, err := s.pairing.Link(ctx, p)
	if err != nil {
		return nil, err
	}
	var out [][]byte
	for len(ids) > 0 {
		n := min(len(ids), MostObjects)
		st, err := link.Open("objects", ObjectsAsk{IDs: ids[:n]})
		if err != nil {
			return nil, err
		}
		for range n {
			var raw []byte
			if err := st.Answer(&raw); err != nil {
				st.Close()
				return nil, err
			}
			if len(raw) > 0 {
				out = append(out, raw)
			}
		}
		st.Close()
		ids = ids[n:]
	}
	return out, nil
}

// HeldFor is the set of objects of all histories that a peer may have.
func (s *Service) HeldFor(peer *catalog.Peer) (*roaring.Bitmap, error) {
	vols, err := s.Catalog.Volumes()
	if err != nil {
		return nil, err
	}
	routes, err := s.Catalog.Routes()
	if err != nil {
		return nil, err
	}
	may := map[string]bool{}
	if peer.Grants.V.Read {
		readable, err := s.mayRead(peer)
		if err != nil {
			return nil, err
		}
		for _, v := range readable {
			may[v.Name] = true
		}
	}
	held := roaring.New()
	for _, v := range vols {
		ok := may[v.Name] || s.bound(peer, v)
		for _, r := range routes {
			if r.Peer != peer.Name || !s.Carries(r, v) {
				continue
			}
			if parts := termParts(r.Terms.V); !parts.Whole() { // what it leaves out stays here
				if err := s.heldOfPart(held, r, derivedLineage(records.LineageOf(v.Lineage), parts)); err != nil {
					return nil, err
				}
				continue
			}
			ok = true
		}
		if !ok {
			continue
		}
		rows, err := s.Catalog.Snapshots(s.Place(), v.Name, catalog.SnapshotFilter{})
		if err != nil {
			return nil, err
		}
		for _, row := range rows {
			id, err := object.ParseID(row.ID)
			if err != nil {
				return nil, err
			}
			census, err := s.Store.Census(id)
			if err != nil {
				continue // damaged here too: the rest may be whole
			}
			space.Include(held, census)
		}
	}
	return held, nil
}

// heldOfPart adds the objects of the newest part that a route carried.
func (s *Service) heldOfPart(held *roaring.Bitmap, r *catalog.Route, lineage object.LineageID) error {
	base, err := s.Catalog.Derived(r.Name, hex.EncodeToString(lineage[:]))
	if err != nil {
		return err
	}
	if id, err := object.ParseID(base); err == nil {
		if census, err := s.Store.Census(id); err == nil {
			space.Include(held, census)
		}
	}
	return nil
}
