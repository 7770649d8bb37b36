package catalog

import (
	"database/sql"
	"errors"
)

// History is what decides how the history of a volume goes on here.
type History struct {
	Lineage     string `db:"lineage"`
	Term        uint64 `db:"term"`   // in which it goes on, where that is not the one of its last snapshot
	Ground      string `db:"ground"` // on which the volume was at its last snapshot
	Meant       Time   `db:"meant"`  // when a person said that the volume is meant as it is; zero: nobody did
	Doubt       string `db:"doubt"`  // the code of why nothing is taken; empty: nothing is in doubt
	DoubtSince  Time   `db:"doubt_since"`
	FilesBefore int64  `db:"files_before"`
	FilesNow    int64  `db:"files_now"`

	// The highest place that a snapshot had which is gone.
	GoneTerm     int64 `db:"gone_term"`
	GoneSequence int64 `db:"gone_sequence"`
}

// History returns what is known of a history; nothing is no error.
func (c *Catalog) History(lineage string) (h History, err error) {
	err = c.db.Get(&h, `SELECT * FROM histories WHERE lineage=?`, lineage)
	if errors.Is(err, sql.ErrNoRows) {
		return History{Lineage: lineage}, nil
	}
	return h, err
}

// DoubtfulHistories lists those of which nothing is taken, by lineage.
func (c *Catalog) DoubtfulHistories() (map[string]History, error) {
	var rows []History
	if err := c.db.Select(&rows, `SELECT * FROM histories WHERE doubt<>''`); err != nil {
		return nil, err
	}
	out := make(map[string]History, len(rows))
	for _, h := range rows {
		out[h.Lineage] = h
	}
	return out, nil
}

// ofHistory sets columns of a history.
func (c *Catalog) ofHistory(lineage, set string, args ...any) error {
	return c.Atomically(func(c *Catalog) error {
		if _, err := c.db.Exec(`INSERT OR IGNORE INTO histories (lineage) VALUES (?)`, lineage); err != nil {
			return err
		}
		_, err := c.db.Exec(`UPDATE histories SET `+set+` WHERE lineage=?`, append(args, lineage)...)
		return err
	})
}

// SetTerm notes the term in which a history goes on.
func (c *Catalog) SetTerm(lineage string, term uint64) error {
	return c.ofHistory(lineage, `term=?`, term)
}

// PutDoubt notes why nothing is taken of a volume.
func (c *Catalog) PutDoubt(h *History) error {
	return c.ofHistory(h.Lineage, `doubt=?, doubt_since=?, files_before=?, files_now=?`, h.Doubt, h.DoubtSince,
		h.FilesBefore, h.FilesNow)
}

// SetMeant notes that a volume is meant as it is, which ends all doubt.
func (c *Catalog) SetMeant(lineage string, at Time) error {
	return c.ofHistory(lineage, `meant=?, doubt='', doubt_since=0, files_before=0, files_now=0`, at)
}

// SetGround notes where a volume was when it was taken, which ends all doubt.
func (c *Catalog) SetGround(lineage, ground string) error {
	return c.ofHistory(lineage, `ground=?, meant=0, doubt='', doubt_since=0, files_before=0, files_now=0`, ground)
}

// Derived is the newest part that a route carried of a history; empty: none.
func (c *Catalog) Derived(route, lineage string) (snapshot string, err error) {
	err = c.db.Get(&snapshot, `SELECT snapshot FROM derived WHERE route=? AND lineage=?`, route, lineage)
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil
	}
	return snapshot, err
}

// PutDerived notes the newest part that a route carried of a history.
func (c *Catalog) PutDerived(route, lineage, snapshot string) error {
	_, err := c.db.Exec(`INSERT OR REPLACE INTO derived (route,lineage,snapshot) VALUES (?,?,?)`, route, lineage, snapshot)
	return err
}

// SetCompared notes when the peer was put back with which a route was last compared.
func (c *Catalog) SetCompared(route string, putBack Time) error {
	_, err := c.db.Exec(`UPDATE routes SET compared=? WHERE name=?`, putBack, route)
	return err
}
