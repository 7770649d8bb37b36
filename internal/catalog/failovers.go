package catalog

import (
	"database/sql"
	"time"

	"github.com/jmoiron/sqlx"
)

// Runbook is a row of runbooks.
type Runbook struct {
	Name      string `db:"name"`
	Body      string `db:"body"`
	Version   int    `db:"version"`
	Changed   Time   `db:"changed"`
	ChangedBy string `db:"changed_by"`
}

const putRunbookVersion = `INSERT INTO runbook_versions (name,version,body,changed,changed_by)
	VALUES (:name,:version,:body,:changed,:changed_by)`

// PutRunbook inserts or replaces a runbook, counts its version and keeps the one before.
func (c *Catalog) PutRunbook(b *Runbook) error {
	return c.withTx(func(tx *sqlx.Tx) error {
		if err := tx.Get(&b.Version, `SELECT COALESCE(MAX(version),0)+1 FROM runbook_versions WHERE name=?`,
			b.Name); err != nil {
			return err
		}
		if _, err := tx.NamedExec(`INSERT OR REPLACE INTO runbooks (name,body,version,changed,changed_by)
			VALUES (:name,:body,:version,:changed,:changed_by)`, b); err != nil {
			return err
		}
		_, err := tx.NamedExec(putRunbookVersion, b)
		return err
	})
}

// RemoveRunbook deletes a runbook; its versions stay, with the removal as the last.
func (c *Catalog) RemoveRunbook(name, by string, at time.Time) error {
	return c.withTx(func(tx *sqlx.Tx) error {
		b := &Runbook{Name: name, Changed: At(at), ChangedBy: by}
		if err := tx.Get(&b.Version, `SELECT COALESCE(MAX(version),0)+1 FROM runbook_versions WHERE name=?`,
			name); err != nil {
			return err
		}
		if _, err := tx.NamedExec(putRunbookVersion, b); err != nil {
			return err
		}
		_, err := tx.Exec(`DELETE FROM runbooks WHERE name=?`, name)
		return err
	})
}

// Runbook returns one runbook.
func (c *Catalog) Runbook(name string) (*Runbook, error) {
	b := &Runbook{}
	return b, none(c.db.Get(b, `SELECT * FROM runbooks WHERE name=?`, name), "runbook", name)
}

// Runbooks lists all runbooks by name.
func (c *Catalog) Runbooks() (all []*Runbook, err error) {
	err = c.db.Select(&all, `SELECT * FROM runbooks ORDER BY name`)
	return all, err
}

// RunbookVersions returns all versions of a runbook, newest first. An empty body says that it was removed then.
func (c *Catalog) RunbookVersions(name string) (all []*Runbook, err error) {
	err = c.db.Select(&all, `SELECT * FROM runbook_versions WHERE name=? ORDER BY version DESC`, name)
	if err == nil && len(all) == 0 {
		err = none(sql.ErrNoRows, "runbook", name)
	}
	return all, err
}

// Failover is a row of failovers.
type Failover struct {
	ID      string `db:"id"`
	Kind    string `db:"kind"`
	Runbook string `db:"runbook"`
	Peer    string `db:"peer"`
	State   string `db:"state"`
	Began   Time   `db:"began"`
	Ended   Time   `db:"ended"`
	AskedBy string `db:"asked_by"`
	Run     int64  `db:"run"`
	Doc     string `db:"doc"`
}

// PutFailover inserts or replaces one.
func (c *Catalog) PutFailover(f *Failover) error {
	_, err := c.db.NamedExec(`INSERT OR REPLACE INTO failovers (id,kind,runbook,peer,state,began,ended,asked_by,run,doc)
		VALUES (:id,:kind,:runbook,:peer,:state,:began,:ended,:asked_by,:run,:doc)`, f)
	return err
}

// Failover returns one.
func (c *Catalog) Failover(id string) (*Failover, error) {
	f := &Failover{}
	return f, none(c.db.Get(f, `SELECT * FROM failovers WHERE id=?`, id), "failover", id)
}

// Failovers lists those of some kinds and states, newest first; of all where none are given.
func (c *Catalog) Failovers(kinds, states []string, limit int) (all []*Failover, err error) {
	return c.FailoversBy("", kinds, states, limit)
}

// FailoversBy lists those by one runbook; empty: by all.
func (c *Catalog) FailoversBy(runbook string, kinds, states []string, limit int) (all []*Failover, err error) {
	query, args := `SELECT * FROM failovers WHERE (?='' OR runbook=?)`, []any{runbook, runbook}
	for column, in := range map[string][]string{"kind": kinds, "state": states} {
		if len(in) == 0 {
			continue
		}
		part, values, err := sqlx.In(` AND `+column+` IN (?)`, in)
		if err != nil {
			return nil, err
		}
		query, args = query+part, append(args, values...)
	}
	err = c.db.Select(&all, query+` ORDER BY began DESC, id LIMIT ?`, append(args, limit)...)
	return all, err
}
