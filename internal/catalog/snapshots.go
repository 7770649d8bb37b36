package catalog

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"
)

// Snapshot is a row of snapshots: one copy at one place.
type Snapshot struct {
	ID            string       `db:"id"`
	Place         string       `db:"place"`
	Volume        string       `db:"volume"`
	Lineage       string       `db:"lineage"`
	Origin        string       `db:"origin"`
	Term          int64        `db:"term"`
	Sequence      int64        `db:"sequence"`
	Began         Time         `db:"began"`
	Ended         Time         `db:"ended"`
	SeenUntil     Time         `db:"seen_until"`
	Cause         string       `db:"cause"`
	Consistency   string       `db:"consistency"`
	Files         int64        `db:"files"`
	Dirs          int64        `db:"dirs"`
	Others        int64        `db:"others"`
	Bytes         int64        `db:"bytes"`
	Stored        int64        `db:"stored"`
	Remarks       int64        `db:"remarks"`
	Note          string       `db:"note"`
	Labels        JSON[Labels] `db:"labels"`
	OwnEnd        Time         `db:"own_end"`
	RecalledUntil Time         `db:"recalled_until"`
	Arrived       Time         `db:"arrived"`
	GraceUntil    Time         `db:"grace_until"`
	LetGo         string       `db:"let_go"`
	LetGoCause    string       `db:"let_go_cause"` // an object.MarkCause
	Branch        string       `db:"branch"`       // that it arrived of; empty: none
	KeepWhy       string       `db:"keep_why"`     // not empty: marked to keep
	KeepUntil     Time         `db:"keep_until"`
	Marked        Time         `db:"marked"` // newest mark that travels
	WatchedUntil  Time         `db:"watched_until"`
	SetID         string       `db:"set_id"`   // of a group's set, hexadecimal; empty: none
	SetName       string       `db:"set_name"` // the group's
	Hidden        bool         `db:"hidden"`   // waits for the rest of its set
	OutOfTurn     string       `db:"out_of_turn"`
	TakenBy       string       `db:"taken_by"`   // the site that took it; empty: that of its origin
	LeftUntil     Time         `db:"left_until"` // not zero: left behind when another site took over, and kept until then
}

const snapshotColumns = "id,place,volume,lineage,origin,term,sequence,began,ended,seen_until,cause,consistency,files," +
	"dirs,others,bytes,stored,remarks,note,labels,own_end,recalled_until,arrived,grace_until,let_go,let_go_cause,branch," +
	"keep_why,keep_until,marked,watched_until,set_id,set_name,hidden,out_of_turn,taken_by,left_until"

var snapshotValues = ":" + strings.ReplaceAll(snapshotColumns, ",", ",:")

// PutSnapshot inserts or replaces a snapshot's row.
func (c *Catalog) PutSnapshot(s *Snapshot) error {
	_, err := c.db.NamedExec(`INSERT OR REPLACE INTO snapshots (`+snapshotColumns+`) VALUES (`+snapshotValues+`)`, s)
	return err
}

// Sighted notes up to when a snapshot was found unchanged, and watched all the time if it
// was, and nothing else of its row.
func (c *Catalog) Sighted(place, id string, until, watched time.Time) error {
	_, err := c.db.Exec(`UPDATE snapshots SET seen_until=?, watched_until=MAX(watched_until,?) WHERE place=? AND id=?`,
		At(until), At(watched), place, id)
	return err
}

// PutSnapshots inserts or replaces many rows in one transaction.
func (c *Catalog) PutSnapshots(rows []*Snapshot) error {
	tx, err := c.begin()
	if err != nil {
		return err
	}
	defer tx.Rollback()
	st, err := tx.PrepareNamed(`INSERT OR REPLACE INTO snapshots (` + snapshotColumns + `) VALUES (` + snapshotValues +
		`)`)
	if err != nil {
		return err
	}
	for _, r := range rows {
		if _, err := st.Exec(r); err != nil {
			return err
		}
	}
	return tx.Commit()
}

// ForgetSnapshots deletes rows of snapshots that exist no more.
func (c *Catalog) ForgetSnapshots(place string, ids ...string) error {
	tx, err := c.begin()
	if err != nil {
		return err
	}
	defer tx.Rollback()
	row, err := tx.Preparex(`DELETE FROM snapshots WHERE place=? AND id=?`)
	if err != nil {
		return err
	}
	carried, err := tx.Preparex(`DELETE FROM carried WHERE snapshot=?`)
	if err != nil {
		return err
	}
	for _, id := range inOrder(ids) {
		if _, err := row.Exec(place, id); err != nil {
			return err
		}
		if _, err := carried.Exec(id); err != nil {
			return err
		}
	}
	return tx.Commit()
}

// inOrder sorts ids, so that many rows are reached in the order in which they lie.
func inOrder(ids []string) []string { return slices.Sorted(slices.Values(ids)) }

// SetGrace stores until when snapshots are in grace or stay after a recall, and nothing else
// of their rows, in one transaction.
func (c *Catalog) SetGrace(rows ...*Snapshot) error {
	return c.withTx(func(tx *sqlx.Tx) error {
		st, err := tx.Preparex(`UPDATE snapshots SET grace_until=?, let_go=?, let_go_cause=?, recalled_until=?
			WHERE place=? AND id=?`)
		if err != nil {
			return err
		}
		for _, r := range slices.SortedFunc(slices.Values(rows), func(a, b *Snapshot) int {
			return strings.Compare(a.ID, b.ID)
		}) {
			if _, err := st.Exec(r.GraceUntil, r.LetGo, r.LetGoCause, r.RecalledUntil, r.Place, r.ID); err != nil {
				return err
			}
		}
		return nil
	})
}

// Snapshot finds a snapshot by its id or an unambiguous beginning of it.
func (c *Catalog) Snapshot(id string) (*Snapshot, error) {
	if len(id) < 6 || strings.Trim(id, "0123456789abcdef") != "" {
		return nil, fmt.Errorf("snapshot %q: %w; give at least six hexadecimal digits of its id", id, ErrNone)
	}
	var ids []string
	if err := c.db.Select(&ids, `SELECT DISTINCT id FROM snapshots WHERE id>=? AND id<? ORDER BY id LIMIT 2`, id,
		id+"g"); err != nil {
		return nil, err
	}
	switch len(ids) {
	case 0:
		return nil, fmt.Errorf("snapshot %q: %w", id, ErrNone)
	case 2:
		return nil, fmt.Errorf("snapshot %q is ambiguous: give more of its id", id)
	}
	row := &Snapshot{}
	if err := c.db.Get(row, `SELECT * FROM snapshots WHERE id=? ORDER BY place LIMIT 1`, ids[0]); err != nil {
		return nil, err
	}
	if row.Hidden {
		return row, fmt.Errorf("snapshot %q: %w yet: the rest of its set %s is still to arrive", id, ErrNone, row.SetName)
	}
	return row, nil
}

// SnapshotFilter narrows a list of a volume's snapshots.
type SnapshotFilter struct {
	From, To time.Time // by when they were taken; zero: no bound
	After    string    // cursor: "began-nanoseconds.id" of the last row seen
	Limit    int       // 0: all
}

// Snapshots lists a volume's snapshots at a place, newest first.
func (c *Catalog) Snapshots(place, volume string, f SnapshotFilter) (rows []*Snapshot, err error) {
	q, args, err := selectSnapshots("*", place, volume, f)
	if err != nil {
		return nil, err
	}
	return scanSnapshots(c.db, q, args...)
}

func scanSnapshots(db sqlx.QueryerContext, q string, args ...any) (rows []*Snapshot, err error) {
	found, err := db.QueryxContext(context.Background(), q, args...)
	if err != nil {
		return nil, err
	}
	defer found.Close()
	same := map[string]string{} // most rows share most words
	for found.Next() {
		row := &Snapshot{}
		if err := found.StructScan(row); err != nil {
			return nil, err
		}
		for _, word := range []*string{&row.Place, &row.Volume, &row.Lineage, &row.Origin, &row.Cause, &row.Consistency,
			&row.LetGo} {
			if have, ok := same[*word]; ok {
				*word = have
			} else {
				same[*word] = *word
			}
		}
		rows = append(rows, row)
	}
	return rows, found.Err()
}

// Moment is when a snapshot was taken.
type Moment struct {
	ID    string `db:"id"`
	Began Time   `db:"began"`
}

// Moments lists when a volume's snapshots at a place were taken, newest first.
func (c *Catalog) Moments(place, volume string, f SnapshotFilter) (rows []Moment, err error) {
	q, args, err := selectSnapshots("id, began", place, volume, f)
	if err != nil {
		return nil, err
	}
	return rows, c.db.Select(&rows, q, args...)
}

func selectSnapshots(columns, place, volume string, f SnapshotFilter) (q string, args []any, err error) {
	q, args, err = narrowed(`SELECT `+columns+` FROM snapshots WHERE volume=? AND place=? AND hidden=0`, f)
	return q, append([]any{volume, place}, args...), err
}

// narrowed adds to a query of snapshots what a filter says, and the order.
func narrowed(q string, f SnapshotFilter) (_ string, args []any, err error) {
	if !f.From.IsZero() {
		q, args = q+` AND began>=?`, append(args, At(f.From))
	}
	if !f.To.IsZero() {
		q, args = q+` AND began<=?`, append(args, At(f.To))
	}
	if f.After != "" {
		var at int64
		var id string
		if _, err := fmt.Sscanf(strings.Replace(f.After, ".", " ", 1), "%d %s", &at, &id); err != nil {
			return "", nil, fmt.Errorf("cursor %q %w", f.After, ErrCursor)
		}
		// The first term lets the index begin at the cursor, however deep the page.
		q, args = q+` AND began<=? AND (began<? OR id>?)`, append(args, at, at, id)
	}
	q += ` ORDER BY began DESC, id`
	if f.Limit > 0 {
		q, args = q+` LIMIT ?`, append(args, f.Limit)
	}
	return q, args, nil
}

// Taker is the site that took a snapshot.
func (s *Snapshot) Taker() string { return cmp.Or(s.TakenBy, s.Origin) }

// Cursor names a row for SnapshotFilter.After.
func (s *Snapshot) Cursor() string { return fmt.Sprintf("%d.%s", s.Began.UnixNano(), s.ID) }

// LastSnapshot returns the volume's snapshot with the highest position at a place, of those that were not left
// behind, or nil.
func (c *Catalog) LastSnapshot(place, lineage string) (*Snapshot, error) {
	var rows []*Snapshot
	err := c.db.Select(&rows,
		`SELECT * FROM snapshots WHERE place=? AND lineage=? AND hidden=0 AND left_until=0
		ORDER BY term DESC, sequence DESC LIMIT 1`, place, lineage)
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	return rows[0], nil
}

// Newest is the newest snapshot of a history at a place.
type Newest struct {
	Lineage string `db:"lineage"`
	ID      string `db:"id"`
	Began   Time   `db:"began"`
}

// NewestOf returns what LastSnapshot does for all volumes at once, by lineage.
func (c *Catalog) NewestOf(place string) (map[string]Newest, error) {
	var rows []Newest
	err := c.db.Select(&rows, `SELECT s.lineage, s.id, s.began FROM volumes v JOIN snapshots s ON s.place=? AND s.id=(
		SELECT id FROM snapshots WHERE place=? AND lineage=v.lineage AND hidden=0 AND left_until=0
		ORDER BY term DESC, sequence DESC LIMIT 1)`, place, place)
	out := make(map[string]Newest, len(rows))
	for _, n := range rows {
		out[n.Lineage] = n
	}
	return out, err
}

// LastOfTerm returns the snapshot with the highest position, at a place, of those that a site took and those
// that it went
// on from when it became active in a term; or nil.
func (c *Catalog) LastOfTerm(place, lineage, site string, term int64) (*Snapshot, error) {
	var rows []*Snapshot
	err := c.db.Select(&rows, `SELECT * FROM snapshots WHERE place=? AND lineage=? AND hidden=0
		AND (taken_by=? OR taken_by='' AND origin=? OR left_until=0 AND term<?)
		ORDER BY term DESC, sequence DESC LIMIT 1`, place, lineage, site, site, term)
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	return rows[0], nil
}

// SnapshotAt returns a snapshot's row at a place, or nil.
func (c *Catalog) SnapshotAt(place, id string) (*Snapshot, error) {
	row := &Snapshot{}
	err := c.db.Get(row, `SELECT * FROM snapshots WHERE place=? AND id=?`, place, id)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return row, err
}

// LastTakenBy returns the snapshot with the highest position that a site took of a lineage, at a place, or nil.
func (c *Catalog) LastTakenBy(place, lineage, site string) (*Snapshot, error) {
	var rows []*Snapshot
	err := c.db.Select(&rows, `SELECT * FROM snapshots WHERE place=? AND lineage=? AND hidden=0
		AND (taken_by=? OR taken_by='' AND origin=?) ORDER BY term DESC, sequence DESC LIMIT 1`, place, lineage, site, site)
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	return rows[0], nil
}

// HighestPosition returns the highest position that a lineage has had at any place, of hidden snapshots and of those
// that are gone too; zeros when it had none.
func (c *Catalog) HighestPosition(lineage string) (term, sequence int64, err error) {
	err = c.db.QueryRow(`SELECT * FROM (
			SELECT term, sequence FROM snapshots WHERE lineage=? ORDER BY term DESC, sequence DESC LIMIT 1)
		UNION ALL SELECT gone_term, gone_sequence FROM histories WHERE lineage=?
		ORDER BY 1 DESC, 2 DESC LIMIT 1`, lineage, lineage).Scan(&term, &sequence)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return term, sequence, err
}

// SnapshotIDs returns the ids known at a place.
func (c *Catalog) SnapshotIDs(place string) (ids []string, err error) {
	err = c.db.Select(&ids, `SELECT id FROM snapshots WHERE place=?`, place)
	return ids, err
}

// Counts returns how many snapshots each volume has at a place, those in grace apart.
func (c *Catalog) Counts(place string) (map[string][2]int, error) {
	rows, err := c.db.Query(
		`SELECT volume, SUM(grace_until=0), SUM(grace_until>0) FROM snapshots WHERE place=? AND hidden=0 GROUP BY volume`,
		place)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[string][2]int{}
	for rows.Next() {
		var v string
		var n [2]int
		if err := rows.Scan(&v, &n[0], &n[1]); err != nil {
			return nil, err
		}
		out[v] = n
	}
	return out, rows.Err()
}

// InTurn returns when the scheduled snapshots of a volume were taken within a span, but
// for those that arrived out of turn.
func (c *Catalog) InTurn(place, volume string, from, to time.Time) (began []Time, err error) {
	err = c.db.Select(&began,
		`SELECT began FROM snapshots WHERE place=? AND volume=? AND cause='scheduled' AND out_of_turn='' AND began>=? AND
			began<=?`, place, volume, At(from), At(to))
	return began, err
}

// Neighbours returns the scheduled snapshots next to a position in a lineage, before and
// after; not those that arrived out of turn, nor those dated ahead of their arrival.
func (c *Catalog) Neighbours(place, lineage string, term, sequence int64, ahead time.Duration) (rows []*Snapshot,
	err error) {
	for _, side := range []string{`(term,sequence)<(?,?) ORDER BY term DESC, sequence DESC`,
		`(term,sequence)>(?,?) ORDER BY term, sequence`} {
		var next []*Snapshot
		if err := c.db.Select(&next,
			`SELECT id, term, sequence, began FROM snapshots WHERE place=? AND lineage=? AND cause='scheduled' AND
				out_of_turn='' AND began<=arrived+? AND `+side+` LIMIT
				1`, place, lineage, int64(ahead), term, sequence); err != nil {
			return nil, err
		}
		rows = append(rows, next...)
	}
	return rows, nil
}

// Twin returns another snapshot of a lineage that has the same position at a place; empty when
// there is none.
func (c *Catalog) Twin(place string, s *Snapshot) (id string, err error) {
	err = c.db.Get(&id, `SELECT id FROM snapshots WHERE place=? AND lineage=? AND term=? AND sequence=? AND id<>? LIMIT 1`,
		place, s.Lineage, s.Term, s.Sequence, s.ID)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return id, err
}

// Branches are those of which snapshots at positions of a lineage arrived and were not admitted.
func (c *Catalog) Branches(place, lineage string, term, from, to int64) (branches []string, err error) {
	err = c.db.Select(&branches,
		`SELECT branch FROM snapshots WHERE place=? AND lineage=? AND term=? AND sequence BETWEEN ? AND ?
		AND branch<>'' AND out_of_turn<>''`, place, lineage, term, from, to)
	return branches, err
}

// OutOfTurn returns the snapshots of a volume that arrived out of turn, newest first.
func (c *Catalog) OutOfTurn(place, volume string) (rows []*Snapshot, err error) {
	err = c.db.Select(&rows,
		`SELECT * FROM snapshots WHERE place=? AND volume=? AND out_of_turn<>'' AND left_until=0 AND hidden=0
		ORDER BY began DESC, id`, place, volume)
	return rows, err
}

// SnapshotPage lists a place's snapshots by id, those after one.
func (c *Catalog) SnapshotPage(place, after string, limit int) (rows []*Snapshot, err error) {
	err = c.db.Select(&rows, `SELECT * FROM snapshots WHERE place=? AND id>? ORDER BY id LIMIT ?`, place, after, limit)
	return rows, err
}

// SetMarks stores what a snapshot's marks say, and nothing else of its row.
func (c *Catalog) SetMarks(s *Snapshot) error {
	_, err := c.db.NamedExec(`UPDATE snapshots SET note=:note, labels=:labels, own_end=:own_end,
		recalled_until=:recalled_until,
		grace_until=:grace_until, let_go=:let_go, let_go_cause=:let_go_cause, keep_why=:keep_why, keep_until=:keep_until,
		marked=:marked
		WHERE place=:place AND id=:id`, s)
	return err
}
