package catalog

import (
	"cmp"
	"context"
	"encoding/binary"
	"encoding/json"
	"slices"
	"strings"
	"sync"

	"github.com/jmoiron/sqlx"
)

// keptSnapshots are the rows of snapshots of large volumes in memory, those asked for last. The database numbers each
// change of a row, whoever makes it, so that only what changed is read anew.
type keptSnapshots struct {
	mu    sync.Mutex
	lists []*keptList // the one asked for last is the last
}

// keptList is of one volume at one place; neither it nor what it leads to is changed.
type keptList struct {
	place, volume string
	rows          []*Snapshot // newest first
	marks         []uint64    // of their ids, to find one without looking at each row
	seen          int64       // the last change that is in rows
}

// markOf is the end of an id, which is a hash.
func markOf(id string) uint64 {
	var b [8]byte
	copy(b[:], id[max(0, len(id)-8):])
	return binary.LittleEndian.Uint64(b[:])
}

func (k *keptList) put(rows ...*Snapshot) {
	for _, r := range rows {
		k.rows, k.marks = append(k.rows, r), append(k.marks, markOf(r.ID))
	}
}

// copyOf puts a stretch of another list.
func (k *keptList) copyOf(o *keptList, from, to int) {
	k.rows, k.marks = append(k.rows, o.rows[from:to]...), append(k.marks, o.marks[from:to]...)
}

const mostKept = 150_000 // rows in all, about 100 MB

var worthKeeping = 2_000 // fewer rows are read in no time; a test has few

// KeptSnapshots lists a volume's snapshots at a place, newest first, as Snapshots does. The rows are shared, and not to
// be changed.
func (c *Catalog) KeptSnapshots(place, volume string) ([]*Snapshot, error) {
	if c.tx != nil { // what it sees may never come to be
		return c.Snapshots(place, volume, SnapshotFilter{})
	}
	if old := c.snaps.of(place, volume); old != nil {
		fresh, err := c.changedSince(old)
		if err != nil {
			return nil, err
		}
		if fresh != nil {
			c.snaps.keep(fresh)
			return fresh.rows, nil
		}
	}
	fresh := &keptList{place: place, volume: volume}
	// The number comes first: what changes while the rows are read is read once more the next time.
	err := c.db.Get(&fresh.seen, `SELECT COALESCE(MAX(number), 0) FROM snapshot_changes`)
	if err == nil {
		var rows []*Snapshot
		rows, err = c.Snapshots(place, volume, SnapshotFilter{})
		fresh.put(rows...)
	}
	if err != nil {
		return nil, err
	}
	c.snaps.keep(fresh)
	return fresh.rows, nil
}

// changedSince returns a list as it is now; nil where so much changed that all rows are better read.
func (c *Catalog) changedSince(old *keptList) (*keptList, error) {
	var fresh *keptList
	err := c.atOneMoment(func(db sqlx.QueryerContext) error {
		var first, last int64
		err := db.QueryRowxContext(context.Background(),
			`SELECT COALESCE((SELECT MIN(number) FROM snapshot_changes), 0),
				COALESCE((SELECT MAX(number) FROM snapshot_changes), 0)`).Scan(&first, &last)
		if err != nil || first > old.seen+1 {
			return err
		}
		if fresh, err = old.changed(db); fresh != nil {
			fresh.seen = last
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	return fresh, nil
}

// changed returns the list as it is now; nil where so much changed that all rows are better read.
func (k *keptList) changed(db sqlx.QueryerContext) (*keptList, error) {
	var ids []string
	err := sqlx.SelectContext(context.Background(), db, &ids,
		`SELECT DISTINCT id FROM snapshot_changes WHERE number>? AND place=? AND volume=?`, k.seen, k.place, k.volume)
	if err != nil || len(ids) > len(k.rows)/4 {
		return nil, err
	}
	out := &keptList{place: k.place, volume: k.volume}
	if len(ids) == 0 {
		out.rows, out.marks = k.rows, k.marks
		return out, nil
	}
	list, err := json.Marshal(ids)
	if err != nil {
		return nil, err
	}
	fresh, err := scanSnapshots(db, `SELECT * FROM snapshots WHERE place=? AND id IN (SELECT value FROM json_each(?))
		AND volume=? AND hidden=0`, k.place, string(list), k.volume)
	if err != nil {
		return nil, err
	}
	gone, marks := make(map[string]bool, len(ids)), make(map[uint64]bool, len(ids))
	for _, id := range ids {
		gone[id], marks[markOf(id)] = true, true
	}
	slices.SortFunc(fresh, NewestFirst)
	out.rows, out.marks = make([]*Snapshot, 0, len(k.rows)+len(fresh)), make([]uint64, 0, len(k.rows)+len(fresh))
	done := 0             // so many of the old rows are dealt with
	upTo := func(i int) { // old rows and new ones before place i
		for len(fresh) > 0 {
			at, _ := slices.BinarySearchFunc(k.rows[done:i], fresh[0], NewestFirst)
			if at == i-done && i < len(k.rows) {
				break // it comes behind this place
			}
			out.copyOf(k, done, done+at)
			out.put(fresh[0])
			done, fresh = done+at, fresh[1:]
		}
		out.copyOf(k, done, i)
		done = i
	}
	for i, m := range k.marks {
		if marks[m] && gone[k.rows[i].ID] {
			upTo(i)
			done = i + 1
		}
	}
	upTo(len(k.rows))
	return out, nil
}

// NewestFirst is the order of lists of snapshots.
func NewestFirst(a, b *Snapshot) int {
	return cmp.Or(b.Began.Compare(a.Began.Time), strings.Compare(a.ID, b.ID))
}

func (k *keptSnapshots) of(place, volume string) *keptList {
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, l := range k.lists {
		if l.place == place && l.volume == volume {
			return l
		}
	}
	return nil
}

// keep puts a list in the place of an older one of the same volume, and lets those go that nobody asked for longest.
func (k *keptSnapshots) keep(fresh *keptList) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.lists = slices.DeleteFunc(k.lists, func(l *keptList) bool {
		if l.place != fresh.place || l.volume != fresh.volume {
			return false
		}
		if l.seen > fresh.seen { // another reader was later
			fresh = l
		}
		return true
	})
	if len(fresh.rows) >= worthKeeping {
		k.lists = append(k.lists, fresh)
	}
	total := 0
	for _, l := range k.lists {
		total += len(l.rows)
	}
	for total > mostKept {
		total -= len(k.lists[0].rows)
		k.lists[0] = nil
		k.lists = k.lists[1:]
	}
}
