package catalog

// Clone is a writable copy of a snapshot.
type Clone struct {
	Name     string `db:"name"`
	Volume   string `db:"volume"`
	Snapshot string `db:"snapshot"`
	Taken    Time   `db:"taken"`
	Dir      string `db:"dir"`
	Made     Time   `db:"made"`
	MadeBy   string `db:"made_by"`
	Until    Time   `db:"until"`   // when it is discarded; zero: when someone does
	Ending   bool   `db:"ending"`  // it is being discarded
	Lineage  string `db:"lineage"` // of a disk, for when it becomes a volume
	Drill    string `db:"drill"`   // with which it goes; empty: it is somebody's
}

// PutClone inserts or replaces a clone.
func (c *Catalog) PutClone(k *Clone) error {
	_, err := c.db.NamedExec(`INSERT OR REPLACE INTO clones (name,volume,snapshot,taken,dir,made,made_by,until,ending,
		lineage,drill) VALUES (:name,:volume,:snapshot,:taken,:dir,:made,:made_by,:until,:ending,:lineage,:drill)`, k)
	return err
}

// Clone returns one clone.
func (c *Catalog) Clone(name string) (*Clone, error) {
	k := &Clone{}
	return k, none(c.db.Get(k, `SELECT * FROM clones WHERE name=?`, name), "clone", name)
}

// Clones lists the clones by name.
func (c *Catalog) Clones() (all []*Clone, err error) {
	err = c.db.Select(&all, `SELECT * FROM clones ORDER BY name`)
	return all, err
}

// RemoveClone forgets a clone, and that its end was set.
func (c *Catalog) RemoveClone(name string) error {
	return c.Atomically(func(c *Catalog) error {
		if _, err := c.db.Exec(`DELETE FROM clones WHERE name=?`, name); err != nil {
			return err
		}
		return c.ForgetTask(CloneTask + name)
	})
}

// Mount is a directory at which a volume's snapshots are shown.
type Mount struct {
	Dir    string `db:"dir"`
	Volume string `db:"volume"`
	Since  Time   `db:"since"`
	MadeBy string `db:"made_by"`
}

// PutMount inserts or replaces a mount.
func (c *Catalog) PutMount(m *Mount) error {
	_, err := c.db.NamedExec(`INSERT OR REPLACE INTO mounts (dir,volume,since,made_by)
		VALUES (:dir,:volume,:since,:made_by)`, m)
	return err
}

// Mounts lists the mounts by directory.
func (c *Catalog) Mounts() (all []*Mount, err error) {
	err = c.db.Select(&all, `SELECT * FROM mounts ORDER BY dir`)
	return all, err
}

// RemoveMount forgets a mount.
func (c *Catalog) RemoveMount(dir string) error {
	_, err := c.db.Exec(`DELETE FROM mounts WHERE dir=?`, dir)
	return err
}
