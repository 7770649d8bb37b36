package catalog

import (
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"
)

// Cap is an upper bound on what snapshots of a volume, of a peer's volumes or of all
// volumes at a place may be.
type Cap struct {
	Scope     string `db:"scope"` // volume, place, peer
	Name      string `db:"name"`
	Snapshots int    `db:"snapshots"` // 0: no bound
	Bytes     int64  `db:"bytes"`     // unique to them; 0: no bound
	Reached   string `db:"reached"`   // what is done: oldest goes, stop taking
}

// PutCap inserts or replaces a cap.
func (c *Catalog) PutCap(cap *Cap) error {
	_, err := c.db.NamedExec(
		`INSERT OR REPLACE INTO caps (scope,name,snapshots,bytes,reached) VALUES (:scope,:name,:snapshots,:bytes,:reached)`,
		cap)
	return err
}

// Caps lists all caps.
func (c *Catalog) Caps() (caps []*Cap, err error) {
	err = c.db.Select(&caps, `SELECT * FROM caps ORDER BY scope,name`)
	return caps, err
}

// RemoveCap forgets a cap.
func (c *Catalog) RemoveCap(scope, name string) error {
	res, err := c.db.Exec(`DELETE FROM caps WHERE scope=? AND name=?`, scope, name)
	if err != nil {
		return err
	}
	if n, err := res.RowsAffected(); err != nil || n > 0 {
		return err
	}
	return fmt.Errorf("a cap of %s %q: %w", scope, name, ErrNone)
}

// UsageSample is how full a store was.
type UsageSample struct {
	At     Time  `db:"at"`
	Stored int64 `db:"stored"`
	Free   int64 `db:"free"`
}

// PutUsage notes how full the store is, and forgets what is older than a time.
func (c *Catalog) PutUsage(u *UsageSample, forget time.Time) error {
	return c.withTx(func(tx *sqlx.Tx) error {
		if _, err := tx.NamedExec(`INSERT OR REPLACE INTO usage (at,stored,free) VALUES (:at,:stored,:free)`, u); err != nil {
			return err
		}
		_, err := tx.Exec(`DELETE FROM usage WHERE at<?`, At(forget))
		return err
	})
}

// UsageSince lists how full the store was, oldest first.
func (c *Catalog) UsageSince(from time.Time) (us []*UsageSample, err error) {
	err = c.db.Select(&us, `SELECT * FROM usage WHERE at>=? ORDER BY at`, At(from))
	return us, err
}
