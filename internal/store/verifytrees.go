package store

import (
	"context"
	"slices"

	"candidharbor/core/object"
)

// compareTrees walks the tree of every snapshot, history by history so that each walk
// costs what changed, and compares it with the index and the census. It reports whether
// anything that a tree needs is missing.
func (v *verification) compareTrees(ctx context.Context) (lacking bool, err error) {
	histories := map[object.LineageID][]rootAt{}
	for _, id := range v.s.Roots() {
		if root, _, err := v.s.Root(id); err == nil {
			histories[root.Lineage] = append(histories[root.Lineage], rootAt{id, root.Term, root.Sequence})
		}
	}
	for _, all := range histories {
		slices.SortFunc(all, rootAt.compare)
		var c *edgeCounts
		for _, at := range all {
			if err := ctx.Err(); err != nil {
				return lacking, err
			}
			root, _, err := v.s.Root(at.id)
			if err != nil {
				continue
			}
			if c == nil {
				c = newCounts(v.s.stamp(at.id))
			}
			if err := v.s.moveCounts(c, at.id, root); err != nil {
				if passing(err) {
					return lacking, err
				}
				c = nil
				lacking = lacking || v.s.stillThere(at.id)
				continue
			}
			v.res.Snapshots++
			v.compareCensus(at.id, c)
		}
	}
	return lacking, nil
}

type rootAt struct {
	id             object.ID
	term, sequence uint64
}

func (a rootAt) compare(b rootAt) int {
	if a.term != b.term {
		return int(min(1, max(-1, int64(a.term)-int64(b.term))))
	}
	return int(min(1, max(-1, int64(a.sequence)-int64(b.sequence))))
}

func (v *verification) compareCensus(id object.ID, c *edgeCounts) {
	kept, current, err := v.s.loadCensus(id)
	if (err == nil && current && kept.Equals(c.ones)) || v.s.stamp(id) != (censusHead{Root: id, Epoch: c.epoch,
		Heals: c.heals}) {
		return
	}
	if err == nil && current {
		v.res.Censuses++
		v.s.log.Error("a census was not what the snapshot needs; it was made anew", "snapshot", id)
	}
	v.s.removal.Lock()
	defer v.s.removal.Unlock()
	if v.s.HasRoot(id) {
		v.s.keepCensus(censusHead{Root: id, Epoch: c.epoch, Heals: c.heals}, c.ones)
	}
}
