package catalog

import (
	"database/sql"
	"errors"
)

// StandBack is how far this site has come with standing back from a history that it was active of.
type StandBack struct {
	Lineage    string `db:"lineage"`
	Term       int64  `db:"term"` // in which another site is active
	Site       string `db:"site"`
	Since      Time   `db:"since"`
	Hook       string `db:"hook"`        // empty: it has not run yet; HookDone; or why it failed
	QuietSince Time   `db:"quiet_since"` // nothing was written since then; zero: it is not known yet
	Confirmed  Time   `db:"confirmed"`   // since when it is certain that nobody writes; zero: it is not
	Kept       string `db:"kept"`        // the snapshot of what was there and nobody had; empty: not taken; KeptNothing
}

// What columns of a StandBack say beside what they hold.
const (
	HookDone    = "done"
	KeptNothing = "none"
)

// PutStandBack stores how far standing back has come.
func (c *Catalog) PutStandBack(b *StandBack) error {
	_, err := c.db.NamedExec(`INSERT OR REPLACE INTO stand_backs (lineage,term,site,since,hook,quiet_since,confirmed,kept)
		VALUES (:lineage,:term,:site,:since,:hook,:quiet_since,:confirmed,:kept)`, b)
	return err
}

// StandBack returns how far standing back from a history has come, or nil.
func (c *Catalog) StandBack(lineage string) (*StandBack, error) {
	b := &StandBack{}
	err := c.db.Get(b, `SELECT * FROM stand_backs WHERE lineage=?`, lineage)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return b, err
}

// StandBacks lists all from which this site stood back, and how far that has come.
func (c *Catalog) StandBacks() (all []*StandBack, err error) {
	err = c.db.Select(&all, `SELECT * FROM stand_backs ORDER BY since, lineage`)
	return all, err
}

// ForgetStandBack is called when this site is active again.
func (c *Catalog) ForgetStandBack(lineage string) error {
	_, err := c.db.Exec(`DELETE FROM stand_backs WHERE lineage=?`, lineage)
	return err
}

// AuthorityDoubt is a history of which it is not known who is active.
type AuthorityDoubt struct {
	Lineage string `db:"lineage"`
	Since   Time   `db:"since"`
	Cause   string `db:"cause"`
}

// PutAuthorityDoubt notes that it is not known who is active.
func (c *Catalog) PutAuthorityDoubt(d *AuthorityDoubt) error {
	_, err := c.db.NamedExec(`INSERT INTO authority_doubts (lineage,since,cause) VALUES (:lineage,:since,:cause)
		ON CONFLICT (lineage) DO NOTHING`, d)
	return err
}

// AuthorityDoubts lists the histories of which it is not known who is active.
func (c *Catalog) AuthorityDoubts() (all []*AuthorityDoubt, err error) {
	err = c.db.Select(&all, `SELECT * FROM authority_doubts ORDER BY since, lineage`)
	return all, err
}

// EndAuthorityDoubt is called when it is known again.
func (c *Catalog) EndAuthorityDoubt(lineage string) error {
	_, err := c.db.Exec(`DELETE FROM authority_doubts WHERE lineage=?`, lineage)
	return err
}

// LeftBehind lists the snapshots at a place that were left behind, newest first; of one volume, or of all.
func (c *Catalog) LeftBehind(place, volume string) (rows []*Snapshot, err error) {
	err = c.db.Select(&rows, `SELECT * FROM snapshots WHERE place=? AND left_until>0 AND (?='' OR volume=?)
		ORDER BY volume, began DESC, id`, place, volume, volume)
	return rows, err
}
