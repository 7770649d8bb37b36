package catalog

import "time"

// Report is what a peer that pulls tells of its copies of one volume.
type Report struct {
	Peer      string `db:"peer"`
	Lineage   string `db:"lineage"`
	Newest    Time   `db:"newest"`
	Term      int64  `db:"term"`
	Sequence  int64  `db:"sequence"`
	Snapshots int64  `db:"snapshots"` // negative: it does not tell
	At        Time   `db:"at"`
}

// PutReport stores what a peer told last of a volume.
func (c *Catalog) PutReport(r *Report) error {
	_, err := c.db.NamedExec(
		`INSERT OR REPLACE INTO reports (peer,lineage,newest,term,sequence,snapshots,at) VALUES (:peer,:lineage,:newest,
			:term,:sequence,:snapshots,:at)`, r)
	return err
}

// Reports returns what peers that pull told of a volume.
func (c *Catalog) Reports(lineage string) (rs []*Report, err error) {
	err = c.db.Select(&rs, `SELECT * FROM reports WHERE lineage=? ORDER BY peer`, lineage)
	return rs, err
}

// Traffic is how a route went at one time.
type Traffic struct {
	Route   string  `db:"route"`
	At      Time    `db:"at"`
	Seconds float64 `db:"seconds"` // that the run took
	Offered int64   `db:"offered"`
	Sent    int64   `db:"sent"`
	Lag     int64   `db:"lag"` // seconds, of the volume that is worst off
	Backlog int64   `db:"backlog"`
}

// PutTraffic notes how a route goes.
func (c *Catalog) PutTraffic(t *Traffic) error {
	_, err := c.db.NamedExec(
		`INSERT OR REPLACE INTO traffic (route,at,seconds,offered,sent,lag,backlog) VALUES (:route,:at,:seconds,:offered,
			:sent,:lag,:backlog)`, t)
	return err
}

// TrafficOf returns how a route went since a time, oldest first.
func (c *Catalog) TrafficOf(route string, since time.Time) (ts []Traffic, err error) {
	err = c.db.Select(&ts, `SELECT * FROM traffic WHERE route=? AND at>=? ORDER BY at`, route, At(since))
	return ts, err
}

// ForgetTraffic removes what is older than a time.
func (c *Catalog) ForgetTraffic(before time.Time) error {
	_, err := c.db.Exec(`DELETE FROM traffic WHERE at<?`, At(before))
	return err
}
