package catalog

import "strings"

// AllFilter narrows a list of the snapshots of all volumes; what is empty narrows nothing.
type AllFilter struct {
	SnapshotFilter
	Volume string // its name
	Text   string // is in the volume's name, the note, the reason to keep or the name of its set
	Cause  string
	Label  [2]string // key and value
	Which  string    // kept, grace, marked (to keep), end (of its own), turn (out of it)
}

// The choices of AllFilter.Which.
var whichSnapshots = map[string]string{"": "", "kept": ` AND grace_until=0`, "grace": ` AND grace_until>0`,
	"marked": ` AND keep_why<>''`, "end": ` AND own_end>0`, "turn": ` AND out_of_turn<>''`}

// KnowsWhich reports whether snapshots can be narrowed so.
func KnowsWhich(which string) bool {
	_, ok := whichSnapshots[which]
	return ok
}

// AllSnapshots lists the snapshots of all volumes at a place, newest first.
func (c *Catalog) AllSnapshots(place string, f AllFilter) (rows []*Snapshot, err error) {
	where, args := ` WHERE place=? AND hidden=0`, []any{place}
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
	add(true, whichSnapshots[f.Which])
	q, more, err := narrowed(`SELECT * FROM snapshots`+where, f.SnapshotFilter)
	if err != nil {
		return nil, err
	}
	return rows, c.db.Select(&rows, q, append(args, more...)...)
}
