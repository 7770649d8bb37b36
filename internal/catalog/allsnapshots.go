package catalog

import (
	"cmp"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/jmoiron/sqlx"
)

// AllFilter narrows a list of the snapshots of all volumes; what is empty narrows nothing.
type AllFilter struct {
	SnapshotFilter
	Volume string // its name
	Text   string // is in the volume's name, the note, the reason to keep or the name of its set
	Cause  string
	Label  [2]string // key and value
	Which  string    // kept, grace, marked (to keep), end (of its own), turn (out of it), here (alone)
	Site   string    // only those that were carried to it
	Sort   Sorting
}

// Sorting is the order of a list of snapshots.
type Sorting string

// The orders; SortOwn is one of figures that the catalogue does not have.
const (
	SortNewest Sorting = "newest"
	SortOldest Sorting = "oldest"
	SortVolume Sorting = "volume"
	SortNew    Sorting = "new"
	SortSize   Sorting = "size"
	SortOwn    Sorting = "own"
)

// key is a column of an order.
type key struct {
	column string
	down   bool
}

func (k key) order() string {
	if k.down {
		return k.column + " DESC"
	}
	return k.column
}

func (k key) after() string {
	if k.down {
		return "<"
	}
	return ">"
}

var sortings = map[Sorting][]key{
	SortNewest: {{"began", true}, {"id", false}},
	SortOldest: {{"began", false}, {"id", false}},
	SortVolume: {{"volume", false}, {"began", true}, {"id", false}},
	SortNew:    {{"stored", true}, {"id", false}},
	SortSize:   {{"bytes", true}, {"id", false}},
}

// The choices of AllFilter.Which.
var whichSnapshots = map[string]string{"": "", "kept": ` AND grace_until=0`, "grace": ` AND grace_until>0`,
	"marked": ` AND keep_why<>''`, "end": ` AND own_end>0`, "turn": ` AND out_of_turn<>''`,
	"here": ` AND NOT EXISTS (SELECT 1 FROM carried WHERE carried.snapshot=snapshots.id)`}

// KnowsWhich reports whether snapshots can be narrowed so.
func KnowsWhich(which string) bool {
	_, ok := whichSnapshots[which]
	return ok
}

func (f *AllFilter) where(place string) (where string, args []any) {
	where, args = ` WHERE place=? AND hidden=0`, []any{place}
	add := func(is bool, sql string, more ...any) {
		if is {
			where, args = where+sql, append(args, more...)
		}
	}
	add(f.Volume != "", ` AND volume=?`, f.Volume)
	add(f.Text != "", ` AND instr(lower(volume||char(10)||note||char(10)||keep_why||char(10)||set_name),?)>0`,
		strings.ToLower(f.Text))
	add(f.Cause != "", ` AND cause=?`, f.Cause)
	add(f.Label[0] != "", ` AND EXISTS (SELECT 1 FROM json_each(labels) WHERE key=? AND value=?)`, f.Label[0], f.Label[1])
	add(f.Site != "", ` AND EXISTS (SELECT 1 FROM carried JOIN routes ON routes.name=carried.route
		WHERE carried.snapshot=snapshots.id AND routes.peer=?)`, f.Site)
	add(!f.From.IsZero(), ` AND began>=?`, At(f.From))
	add(!f.To.IsZero(), ` AND began<=?`, At(f.To))
	add(true, whichSnapshots[f.Which])
	return where, args
}

// AllSnapshots lists the snapshots of all volumes at a place, and the cursor of what follows; empty: nothing does.
func (c *Catalog) AllSnapshots(place string, f AllFilter) (rows []*Snapshot, next string, err error) {
	keys, ok := sortings[f.Sort]
	if !ok {
		return nil, "", fmt.Errorf("sorting %q: %w", f.Sort, ErrNone)
	}
	where, args := f.where(place)
	if f.After != "" {
		at, err := cursorOf(f.After, len(keys))
		if err != nil {
			return nil, "", err
		}
		after, more := behind(keys, at)
		where, args = where+after, append(args, more...)
	}
	order := make([]string, len(keys))
	for i, k := range keys {
		order[i] = k.order()
	}
	q := `SELECT * FROM snapshots` + where + ` ORDER BY ` + strings.Join(order, ", ")
	if f.Limit > 0 {
		q, args = q+` LIMIT ?`, append(args, f.Limit+1)
	}
	if err := c.db.Select(&rows, q, args...); err != nil {
		return nil, "", err
	}
	if f.Limit > 0 && len(rows) > f.Limit {
		rows = rows[:f.Limit]
		next = cursor(rows[f.Limit-1].values(keys))
	}
	return rows, next, nil
}

// AllSnapshotsBy is AllSnapshots in the order of a figure of each snapshot, the greatest first.
func (c *Catalog) AllSnapshotsBy(place string, f AllFilter, figure map[string]int64) (rows []*Snapshot, next string,
	err error) {
	where, args := f.where(place)
	var ids []string
	if err := c.db.Select(&ids, `SELECT id FROM snapshots`+where, args...); err != nil {
		return nil, "", err
	}
	order := func(a, b string) int { return cmp.Or(cmp.Compare(figure[b], figure[a]), strings.Compare(a, b)) }
	slices.SortFunc(ids, order)
	if f.After != "" {
		at, err := cursorOf(f.After, 2)
		if err != nil {
			return nil, "", err
		}
		n, isNumber := at[0].(int64)
		id, isText := at[1].(string)
		if !isNumber || !isText {
			return nil, "", fmt.Errorf("cursor %q %w", f.After, ErrCursor)
		}
		i, found := slices.BinarySearchFunc(ids, id, func(a, _ string) int {
			return cmp.Or(cmp.Compare(n, figure[a]), strings.Compare(a, id))
		})
		if found {
			i++
		}
		ids = ids[i:]
	}
	if f.Limit > 0 && len(ids) > f.Limit {
		ids = ids[:f.Limit]
		next = cursor([]any{figure[ids[f.Limit-1]], ids[f.Limit-1]})
	}
	for part := range slices.Chunk(ids, 500) {
		q, args, err := sqlx.In(`SELECT * FROM snapshots WHERE place=? AND id IN (?)`, place, part)
		if err != nil {
			return nil, "", err
		}
		var some []*Snapshot
		if err := c.db.Select(&some, q, args...); err != nil {
			return nil, "", err
		}
		rows = append(rows, some...)
	}
	slices.SortFunc(rows, func(a, b *Snapshot) int { return order(a.ID, b.ID) })
	return rows, next, nil
}

// behind is the condition that a row comes after one with given values, in an order of keys.
func behind(keys []key, at []any) (where string, args []any) {
	args = []any{at[0]}
	var ways []string
	for i, k := range keys {
		var way []string
		for j := range i {
			way, args = append(way, keys[j].column+`=?`), append(args, at[j])
		}
		ways, args = append(ways, strings.Join(append(way, k.column+k.after()+`?`), ` AND `)), append(args, at[i])
	}
	// The first term lets an index begin there, however deep the page.
	return ` AND ` + keys[0].column + keys[0].after() + `=? AND (` + strings.Join(ways, ` OR `) + `)`, args
}

func (s *Snapshot) values(keys []key) []any {
	of := map[string]any{"began": s.Began.UnixNano(), "id": s.ID, "volume": s.Volume, "stored": s.Stored, "bytes": s.Bytes}
	out := make([]any, len(keys))
	for i, k := range keys {
		out[i] = of[k.column]
	}
	return out
}

func cursor(at []any) string {
	raw, _ := json.Marshal(at) // of numbers and texts alone
	return base64.RawURLEncoding.EncodeToString(raw)
}

func cursorOf(text string, keys int) (at []any, err error) {
	wrong := fmt.Errorf("cursor %q %w", text, ErrCursor)
	raw, err := base64.RawURLEncoding.DecodeString(text)
	if err != nil {
		return nil, wrong
	}
	d := json.NewDecoder(strings.NewReader(string(raw)))
	d.UseNumber()
	if d.Decode(&at) != nil || len(at) != keys {
		return nil, wrong
	}
	for i, v := range at {
		switch v := v.(type) {
		case json.Number:
			if at[i], err = v.Int64(); err != nil {
				return nil, wrong
			}
		case string:
		default:
			return nil, wrong
		}
	}
	return at, nil
}
