package catalog

import "time"

// OutletCause says by a code why an outlet is not up to date.
type OutletCause string

const (
	OutletUnreachable OutletCause = "unreachable"
	OutletRefused     OutletCause = "refused" // another host key, or it does not let this site in
	OutletFailed      OutletCause = "failed"
)

// Outlet is a directory of a machine that does not run the service.
type Outlet struct {
	Name         string          `db:"name"`
	User         string          `db:"user"`
	Address      string          `db:"address"` // host:port
	Dir          string          `db:"dir"`
	HostKey      string          `db:"host_key"`
	Volumes      JSON[Selection] `db:"volumes"`
	Cap          int64           `db:"cap"` // bytes a second; 0: none
	Made         Time            `db:"made"`
	Paused       Time            `db:"paused"`
	LastOK       Time            `db:"last_ok"`
	FailingSince Time            `db:"failing_since"`
	Failures     int             `db:"failures"`
	NextTry      Time            `db:"next_try"`
	LastError    string          `db:"last_error"`
	LastCause    OutletCause     `db:"last_cause"`
}

// LaidOut is what lies at an outlet of one volume.
type LaidOut struct {
	Outlet   string         `db:"outlet"`
	Lineage  string         `db:"lineage"`
	Snapshot string         `db:"snapshot"` // whole; empty: none
	Bases    JSON[[]string] `db:"bases"`
	At       Time           `db:"at"`
	Verified Time           `db:"verified"`
	Error    string         `db:"error"`
}

// AddOutlet inserts an outlet and reports whether there was none of its name.
func (c *Catalog) AddOutlet(o *Outlet) (added bool, err error) {
	return changedOne(c.db.NamedExec(`INSERT INTO outlets (name,user,address,dir,host_key,volumes,cap,made) VALUES
		(:name,:user,:address,:dir,:host_key,:volumes,:cap,:made) ON CONFLICT (name) DO NOTHING`, o))
}

// Outlet returns an outlet.
func (c *Catalog) Outlet(name string) (*Outlet, error) {
	o := &Outlet{}
	return o, none(c.db.Get(o, `SELECT * FROM outlets WHERE name=?`, name), "outlet", name)
}

// Outlets lists all outlets.
func (c *Catalog) Outlets() (all []*Outlet, err error) {
	err = c.db.Select(&all, `SELECT * FROM outlets ORDER BY name`)
	return all, err
}

// RemoveOutlet forgets an outlet and what lies there.
func (c *Catalog) RemoveOutlet(name string) error {
	_, err := c.db.Exec(`DELETE FROM outlets WHERE name=?`, name)
	return err
}

// PauseOutlet stops an outlet until it is resumed: a zero time. It reports whether that is another than before.
func (c *Catalog) PauseOutlet(name string, at time.Time) (bool, error) {
	return changedOne(c.db.Exec(`UPDATE outlets SET paused=?, next_try=0 WHERE name=? AND (paused=0) <> (?=0)`, At(at),
		name, At(at)))
}

// OutletWent notes how a run of an outlet ended.
func (c *Catalog) OutletWent(o *Outlet) error {
	_, err := c.db.NamedExec(`UPDATE outlets SET last_ok=:last_ok, failing_since=:failing_since, failures=:failures,
		next_try=:next_try, last_error=:last_error, last_cause=:last_cause WHERE name=:name`, o)
	return err
}

// LaidOut lists what lies at an outlet, or at all: none named.
func (c *Catalog) LaidOut(outlet string) (all []*LaidOut, err error) {
	err = c.db.Select(&all, `SELECT * FROM laid_out WHERE outlet=? OR ?='' ORDER BY outlet, lineage`, outlet, outlet)
	return all, err
}

// ForgetLaidOut forgets what lies at an outlet of one volume.
func (c *Catalog) ForgetLaidOut(outlet, lineage string) error {
	_, err := c.db.Exec(`DELETE FROM laid_out WHERE outlet=? AND lineage=?`, outlet, lineage)
	return err
}

// PutLaidOut notes what lies at an outlet of one volume; of an outlet that is gone nothing is noted.
func (c *Catalog) PutLaidOut(l *LaidOut) error {
	_, err := c.db.NamedExec(`INSERT INTO laid_out (outlet,lineage,snapshot,bases,at,verified,error)
		SELECT :outlet,:lineage,:snapshot,:bases,:at,:verified,:error WHERE EXISTS (SELECT 1 FROM outlets WHERE name=:outlet)
		ON CONFLICT (outlet,lineage) DO UPDATE SET snapshot=excluded.snapshot, bases=excluded.bases, at=excluded.at,
		verified=excluded.verified, error=excluded.error`, l)
	return err
}
