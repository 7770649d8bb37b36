package catalog

import (
	"cmp"
	"time"
)

// Labels are key=value pairs.
type Labels = map[string]string

// Volume is a row of volumes.
type Volume struct {
	Name           string         `db:"name"`
	Lineage        string         `db:"lineage"`
	Kind           string         `db:"kind"`
	Origin         string         `db:"origin"` // the site that its history began at
	Active         string         `db:"active"` // the site that takes its snapshots now
	Path           string         `db:"path"`
	Labels         JSON[Labels]   `db:"labels"`
	Excludes       JSON[[]string] `db:"excludes"`
	ChunkAvg       int            `db:"chunk_avg"`
	Added          Time           `db:"added"`
	Protected      bool           `db:"protected"`
	ScheduledUntil Time           `db:"scheduled_until"`
	Proposed       string         `db:"proposed"` // rules that came along and apply, YAML
	Offered        string         `db:"offered"`  // those that would keep less and wait for a person
	Paused         Time           `db:"paused"`   // since then; zero: not paused
	Standby        string         `db:"standby"`  // exact, additive; empty: the copy is not laid out
	StandbyDir     string         `db:"standby_dir"`
	StandbyError   string         `db:"standby_error"`
	Part           string         `db:"part"`   // of a volume of another site, in words; empty: all of it
	Via            string         `db:"via"`    // the site that brought the first copy, when it was not the origin
	Signer         string         `db:"signer"` // key that signs its snapshots, where the origin is not paired
}

// The kinds of volumes.
const (
	KindTree  = "tree"  // a directory of files
	KindBlock = "block" // a disk that the site serves; its path is that of the image, and ChunkAvg its block size
)

// ActiveSite is the site that takes a volume's snapshots and serves it.
func (v *Volume) ActiveSite() string { return cmp.Or(v.Active, v.Origin) }

// ActiveAt reports whether a site takes a volume's snapshots and serves it.
func (v *Volume) ActiveAt(site string) bool { return v.ActiveSite() == site }

// IsDisk reports whether a volume is a disk.
func (v *Volume) IsDisk() bool { return v.Kind == KindBlock }

// PutVolume inserts or replaces a volume, but for which site is active of one that is there: SetActive says that.
func (c *Catalog) PutVolume(v *Volume) error {
	if v.Active == "" {
		v.Active = v.Origin
	}
	_, err := c.db.NamedExec(`INSERT INTO volumes (name,lineage,kind,origin,active,path,labels,excludes,chunk_avg,added,
		protected,scheduled_until,proposed,offered,paused,signer,via,part)
		VALUES (:name,:lineage,:kind,:origin,:active,:path,:labels,:excludes,:chunk_avg,:added,:protected,:scheduled_until,
		:proposed,:offered,:paused,:signer,:via,:part)
		ON CONFLICT (name) DO UPDATE SET
		active=CASE WHEN lineage=excluded.lineage THEN active ELSE excluded.active END,
		lineage=excluded.lineage,kind=excluded.kind,origin=excluded.origin,
		path=excluded.path,labels=excluded.labels,
		excludes=excluded.excludes,chunk_avg=excluded.chunk_avg,added=excluded.added,protected=excluded.protected,
		scheduled_until=excluded.scheduled_until,proposed=excluded.proposed,offered=excluded.offered,
		paused=excluded.paused,signer=excluded.signer,via=excluded.via,part=excluded.part`, v)
	return err
}

// Scheduled notes up to when a volume's due times are settled.
func (c *Catalog) Scheduled(volume string, until time.Time) error {
	_, err := c.db.Exec(`UPDATE volumes SET scheduled_until=? WHERE name=?`, At(until), volume)
	return err
}

// SetStandby stores how a copy is laid out and why that last failed, and nothing else of
// its row.
func (c *Catalog) SetStandby(volume, mode, dir, failed string) error {
	_, err := c.db.Exec(`UPDATE volumes SET standby=?, standby_dir=?, standby_error=? WHERE name=?`, mode, dir, failed,
		volume)
	return err
}

// SetActive notes which site takes a volume's snapshots, and nothing else of its row.
func (c *Catalog) SetActive(lineage, site string) error {
	_, err := c.db.Exec(`UPDATE volumes SET active=? WHERE lineage=?`, site, lineage)
	return err
}

// SetPath notes where a volume lies, and nothing else of its row.
func (c *Catalog) SetPath(name, path string) error {
	_, err := c.db.Exec(`UPDATE volumes SET path=? WHERE name=?`, path, name)
	return err
}

// SetProtected notes whether a volume is protected, and nothing else of its row.
func (c *Catalog) SetProtected(name string, protected bool) error {
	_, err := c.db.Exec(`UPDATE volumes SET protected=? WHERE name=?`, protected, name)
	return err
}

// SetPaused notes since when a volume is paused, and nothing else of its row; the zero
// time ends the pause.
func (c *Catalog) SetPaused(volume string, since time.Time) error {
	_, err := c.db.Exec(`UPDATE volumes SET paused=? WHERE name=?`, At(since), volume)
	return err
}

// SetLabels stores a volume's labels, and nothing else of its row.
func (c *Catalog) SetLabels(volume string, labels Labels) error {
	_, err := c.db.Exec(`UPDATE volumes SET labels=? WHERE name=?`, JSON[Labels]{V: labels}, volume)
	return err
}

// SetRules stores the rules that came along with a volume, and nothing else of its row.
func (c *Catalog) SetRules(volume, proposed, offered string) error {
	_, err := c.db.Exec(`UPDATE volumes SET proposed=?, offered=? WHERE name=?`, proposed, offered, volume)
	return err
}

// Volume returns the volume of a name.
func (c *Catalog) Volume(name string) (*Volume, error) {
	v := &Volume{}
	return v, none(c.db.Get(v, `SELECT * FROM volumes WHERE name=?`, name), "volume", name)
}

// VolumeOfLineage returns the volume with a lineage.
func (c *Catalog) VolumeOfLineage(lineage string) (*Volume, error) {
	v := &Volume{}
	return v, none(c.db.Get(v, `SELECT * FROM volumes WHERE lineage=?`, lineage), "lineage", lineage)
}

// ForgetVolume deletes a volume's row.
func (c *Catalog) ForgetVolume(name string) error {
	_, err := c.db.Exec(`DELETE FROM volumes WHERE name=?`, name)
	return err
}
