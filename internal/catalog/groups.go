package catalog

import (
	"database/sql"
	"errors"
	"fmt"
	"time"
)

// Group is volumes that are snapshotted as one set.
type Group struct {
	Name    string         `db:"name"`
	Members JSON[[]string] `db:"members"`
	Freeze  string         `db:"freeze"` // hook before reading; empty: none
	Thaw    string         `db:"thaw"`   // hook after reading
	Failing string         `db:"failing"`
}

// PutGroup inserts or replaces a group.
func (c *Catalog) PutGroup(g *Group) error {
	_, err := c.db.NamedExec(
		`INSERT OR REPLACE INTO groups (name,members,freeze,thaw,failing) VALUES (:name,:members,:freeze,:thaw,:failing)`, g)
	return err
}

// Group returns one group.
func (c *Catalog) Group(name string) (*Group, error) {
	g := &Group{}
	err := c.db.Get(g, `SELECT * FROM groups WHERE name=?`, name)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, fmt.Errorf("group %q: %w", name, ErrNone)
	}
	return g, err
}

// Groups lists all groups by name.
func (c *Catalog) Groups() (gs []*Group, err error) {
	err = c.db.Select(&gs, `SELECT * FROM groups ORDER BY name`)
	return gs, err
}

// RemoveGroup forgets a group. Its sets stay sets.
func (c *Catalog) RemoveGroup(name string) error {
	_, err := c.db.Exec(`DELETE FROM groups WHERE name=?`, name)
	return err
}

// SetRows returns the snapshots of a set at a place, those that wait for the rest included.
func (c *Catalog) SetRows(place, set string) (rows []*Snapshot, err error) {
	err = c.db.Select(&rows, `SELECT * FROM snapshots WHERE set_id=? AND place=? ORDER BY volume`, set, place)
	return rows, err
}

// SetMates returns the other volumes that share sets with one at a place.
func (c *Catalog) SetMates(place, volume string) (names []string, err error) {
	err = c.db.Select(&names, `SELECT DISTINCT volume FROM snapshots WHERE place=? AND volume<>? AND set_id<>'' AND
		set_id IN
		(SELECT set_id FROM snapshots WHERE volume=? AND place=? AND set_id<>'')`, place, volume, volume, place)
	return names, err
}

// Unveil shows a set that is whole.
func (c *Catalog) Unveil(place, set string) error {
	_, err := c.db.Exec(`UPDATE snapshots SET hidden=0 WHERE set_id=? AND place=? AND hidden=1`, set, place)
	return err
}

// UnveilOld shows what arrived before a time and waited in vain for the rest of its set.
func (c *Catalog) UnveilOld(arrived time.Time) (int64, error) {
	res, err := c.db.Exec(`UPDATE snapshots SET hidden=0 WHERE hidden=1 AND arrived<?`, At(arrived))
	if err != nil {
		return 0, err
	}
	return res.RowsAffected()
}

// SetBefore finds the newest set of a group at a place of which something was taken before a
// time and that is shown.
func (c *Catalog) SetBefore(place, group string, t time.Time) (string, error) {
	var id string
	err := c.db.Get(&id,
		`SELECT set_id FROM snapshots WHERE place=? AND set_name=? AND hidden=0 AND began<=? AND set_id<>'' ORDER BY
			began DESC LIMIT 1`, place, group, At(t))
	return id, none(err, "set of the group", group)
}

// SetVolumes returns the volumes at a place of which the newest set of a name has snapshots.
func (c *Catalog) SetVolumes(place, name string) (volumes []string, err error) {
	err = c.db.Select(&volumes, `SELECT volume FROM snapshots WHERE place=? AND set_id=(SELECT set_id FROM snapshots
		WHERE place=? AND set_name=? AND set_id<>'' AND hidden=0 ORDER BY term DESC, began DESC LIMIT 1) ORDER BY volume`,
		place, place, name)
	return volumes, err
}
