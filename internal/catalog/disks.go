package catalog

import (
	"errors"
	"slices"
)

// DiskHost is a host that opens disks over the network.
type DiskHost struct {
	Name        string         `db:"name"`
	Certificate string         `db:"certificate"` // SHA-256 of it, in hexadecimal
	Until       Time           `db:"until"`
	Disks       JSON[[]string] `db:"disks"` // names
	Made        Time           `db:"made"`
	MadeBy      string         `db:"made_by"`
}

// PutDiskHost inserts or replaces a host.
func (c *Catalog) PutDiskHost(h *DiskHost) error {
	_, err := c.db.NamedExec(`INSERT OR REPLACE INTO disk_hosts (name,certificate,until,disks,made,made_by)
		VALUES (:name,:certificate,:until,:disks,:made,:made_by)`, h)
	return err
}

// DiskHost returns one host.
func (c *Catalog) DiskHost(name string) (*DiskHost, error) {
	h := &DiskHost{}
	return h, none(c.db.Get(h, `SELECT * FROM disk_hosts WHERE name=?`, name), "host", name)
}

// DiskHostOf finds the host that a certificate is of.
func (c *Catalog) DiskHostOf(certificate string) (*DiskHost, error) {
	h := &DiskHost{}
	return h, none(c.db.Get(h, `SELECT * FROM disk_hosts WHERE certificate=?`, certificate), "host with certificate",
		certificate)
}

// DiskHosts lists the hosts by name.
func (c *Catalog) DiskHosts() (all []*DiskHost, err error) {
	err = c.db.Select(&all, `SELECT * FROM disk_hosts ORDER BY name`)
	return all, err
}

// RemoveDiskHost forgets a host.
func (c *Catalog) RemoveDiskHost(name string) error {
	_, err := c.db.Exec(`DELETE FROM disk_hosts WHERE name=?`, name)
	return err
}

// DiskTerms is how clients may use a disk.
type DiskTerms struct {
	Lineage string `db:"lineage"`
	Closed  bool   `db:"closed"`
	Shared  bool   `db:"shared"`
}

// DiskTerms returns how clients may use a disk.
func (c *Catalog) DiskTerms(lineage string) (*DiskTerms, error) {
	t := &DiskTerms{}
	err := none(c.db.Get(t, `SELECT * FROM disk_terms WHERE lineage=?`, lineage), "disk", lineage)
	if errors.Is(err, ErrNone) {
		return &DiskTerms{Lineage: lineage}, nil
	}
	return t, err
}

// PutDiskTerms stores how clients may use a disk.
func (c *Catalog) PutDiskTerms(t *DiskTerms) error {
	_, err := c.db.NamedExec(`INSERT OR REPLACE INTO disk_terms (lineage,closed,shared)
		VALUES (:lineage,:closed,:shared)`, t)
	return err
}

// FilledCopies lists the lineages of copies of disks that have an image of their own.
func (c *Catalog) FilledCopies() (lineages []string, err error) {
	err = c.db.Select(&lineages, `SELECT lineage FROM filled_copies ORDER BY lineage`)
	return lineages, err
}

// SetFilledCopy stores whether a copy of a disk has an image of its own.
func (c *Catalog) SetFilledCopy(lineage string, filled bool) error {
	q := `DELETE FROM filled_copies WHERE lineage=?`
	if filled {
		q = `INSERT OR IGNORE INTO filled_copies (lineage) VALUES (?)`
	}
	_, err := c.db.Exec(q, lineage)
	return err
}

// ForgetDisk forgets how clients may use a disk, and that hosts may open what had its name.
func (c *Catalog) ForgetDisk(lineage, name string) error {
	return c.Atomically(func(c *Catalog) error {
		if _, err := c.db.Exec(`DELETE FROM disk_terms WHERE lineage=?`, lineage); err != nil {
			return err
		}
		hosts, err := c.DiskHosts()
		if err != nil {
			return err
		}
		for _, h := range hosts {
			n := len(h.Disks.V)
			h.Disks.V = slices.DeleteFunc(h.Disks.V, func(d string) bool { return d == name })
			if len(h.Disks.V) == n {
				continue
			}
			if err := c.PutDiskHost(h); err != nil {
				return err
			}
		}
		return nil
	})
}
