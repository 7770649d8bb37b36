package catalog

import (
	"database/sql"
	"errors"
)

// Claim is a row of claims.
type Claim struct {
	Lineage string `db:"lineage"`
	Term    int64  `db:"term"`
	Site    string `db:"site"`
	Act     string `db:"act"`
	At      Time   `db:"at"`
}

// Claim returns what was witnessed of a history; nil: nothing.
func (c *Catalog) Claim(lineage string) (*Claim, error) {
	k := &Claim{}
	err := c.db.Get(k, `SELECT * FROM claims WHERE lineage=?`, lineage)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return k, err
}

// PutClaim notes what was witnessed.
func (c *Catalog) PutClaim(k *Claim) error {
	_, err := c.db.NamedExec(`INSERT OR REPLACE INTO claims (lineage,term,site,act,at)
		VALUES (:lineage,:term,:site,:act,:at)`, k)
	return err
}

// WithdrawClaims forgets what a site claimed for an act of which nothing came.
func (c *Catalog) WithdrawClaims(site, act string) error {
	_, err := c.db.Exec(`DELETE FROM claims WHERE site=? AND act=?`, site, act)
	return err
}

// CountClaims is how many histories a site has claimed.
func (c *Catalog) CountClaims(site string) (n int, err error) {
	err = c.db.Get(&n, `SELECT COUNT(*) FROM claims WHERE site=?`, site)
	return n, err
}
