package catalog

import (
	"maps"
	"time"
)

// LastState is the newest state of a volume at a place.
type LastState struct {
	Lineage   string `db:"lineage"`
	Began     Time   `db:"began"`
	SeenUntil Time   `db:"seen_until"`
	Files     int64  `db:"files"`
	Bytes     int64  `db:"bytes"`
}

// Newest is up to when the state is known.
func (l *LastState) Newest() time.Time {
	if l.SeenUntil.After(l.Began.Time) {
		return l.SeenUntil.Time
	}
	return l.Began.Time
}

// Looks is what a look at volumes needs of other records than theirs, fetched at once.
type Looks struct {
	Counts    map[string][2]int // kept and in grace, by volume
	Last      map[string]*LastState
	OutOfTurn map[string]int
	Reports   map[string][]*Report
	Gaps      map[string]*Gap // the last of each volume
	Groups    []*Group
	Routes    []*Route
	ByGroup   map[string]*Group // by volume
}

// Look fetches what a look at one volume of a place needs, or at all: nil.
func (c *Catalog) Look(place string, now time.Time, of *Volume) (*Looks, error) {
	out := &Looks{Counts: map[string][2]int{}, Last: map[string]*LastState{}, OutOfTurn: map[string]int{},
		Reports: map[string][]*Report{}, Gaps: map[string]*Gap{}, ByGroup: map[string]*Group{}}
	name, lineage := "", ""
	if of != nil {
		name, lineage = of.Name, of.Lineage
	}
	var counts []struct {
		Volume      string
		Kept, Grace int
	}
	var turns []struct {
		Volume string
		N      int
	}
	var last []*LastState
	var reports []*Report
	var gaps []*Gap
	for _, q := range []struct {
		into  any
		query string
		args  []any
	}{
		{&counts, `SELECT volume, SUM(grace_until=0) AS kept, SUM(grace_until>0) AS grace FROM snapshots
			WHERE place=? AND hidden=0` + also(of, ` AND volume=?`) + ` GROUP BY volume`, args(of, name, place)},
		{&turns, `SELECT volume, COUNT(*) AS n FROM snapshots
			WHERE place=? AND out_of_turn<>'' AND left_until=0 AND hidden=0` + also(of, ` AND volume=?`) +
			` GROUP BY volume`, args(of, name, place)},
		// CROSS JOIN: SQLite otherwise goes through the snapshots, for each through the volumes.
		{&last, `SELECT s.lineage,s.began,s.seen_until,s.files,s.bytes FROM volumes v CROSS JOIN snapshots s
			ON s.place=? AND s.id=(SELECT id FROM snapshots WHERE lineage=v.lineage AND place=? AND hidden=0 AND left_until=0
			ORDER BY term DESC, sequence DESC LIMIT 1)` + also(of, ` WHERE v.lineage=?`),
			args(of, lineage, place, place)},
		{&gaps, `SELECT g.volume, g.due, g.cause FROM volumes v CROSS JOIN gaps g ON g.volume=v.name AND g.due=
			(SELECT MAX(due) FROM gaps WHERE volume=v.name AND due<=?)` + also(of, ` WHERE v.name=?`),
			args(of, name, At(now))},
		{&reports, `SELECT * FROM reports` + also(of, ` WHERE lineage=?`) + ` ORDER BY peer`, args(of, lineage)},
		{&out.Groups, `SELECT * FROM groups ORDER BY name`, nil},
		{&out.Routes, `SELECT * FROM routes ORDER BY name`, nil},
	} {
		if err := c.db.Select(q.into, q.query, q.args...); err != nil {
			return nil, err
		}
	}
	for _, x := range counts {
		out.Counts[x.Volume] = [2]int{x.Kept, x.Grace}
	}
	for _, x := range turns {
		out.OutOfTurn[x.Volume] = x.N
	}
	for _, x := range last {
		out.Last[x.Lineage] = x
	}
	for _, x := range gaps {
		out.Gaps[x.Volume] = x
	}
	for _, x := range reports {
		out.Reports[x.Lineage] = append(out.Reports[x.Lineage], x)
	}
	for _, g := range out.Groups {
		for _, m := range g.Members.V {
			if out.ByGroup[m] == nil {
				out.ByGroup[m] = g
			}
		}
	}
	return out, nil
}

func also(of *Volume, where string) string {
	if of == nil {
		return ""
	}
	return where
}

func args(of *Volume, one any, first ...any) []any {
	if of == nil {
		return first
	}
	return append(first, one)
}

// Clone returns a look of which volumes can be replaced.
func (l *Looks) Clone() *Looks {
	out := *l
	out.Counts, out.Last, out.OutOfTurn = maps.Clone(l.Counts), maps.Clone(l.Last), maps.Clone(l.OutOfTurn)
	out.Reports, out.Gaps = maps.Clone(l.Reports), maps.Clone(l.Gaps)
	return &out
}

// Replace takes over what another look says of a volume, and of groups and routes.
func (l *Looks) Replace(v *Volume, one *Looks) {
	l.Groups, l.Routes, l.ByGroup = one.Groups, one.Routes, one.ByGroup
	replace(l.Counts, v.Name, one.Counts)
	replace(l.OutOfTurn, v.Name, one.OutOfTurn)
	replace(l.Gaps, v.Name, one.Gaps)
	replace(l.Last, v.Lineage, one.Last)
	replace(l.Reports, v.Lineage, one.Reports)
}

func replace[V any](into map[string]V, key string, from map[string]V) {
	if x, ok := from[key]; ok {
		into[key] = x
	} else {
		delete(into, key)
	}
}
