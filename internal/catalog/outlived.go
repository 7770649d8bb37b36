package catalog

// Outlived is how many snapshots of a volume no rule keeps, that are here nevertheless for one cause.
type Outlived struct {
	Volume    string        `db:"volume"`
	Cause     OutlivedCause `db:"cause"`
	Place     string        `db:"place"`
	Snapshots int           `db:"snapshots"`
	Since     Time          `db:"since"` // since when there are such
}

// OutlivedCause is why a snapshot is here that no rule keeps.
type OutlivedCause string

// The causes.
const (
	OutlivedOwed  OutlivedCause = "owed"   // another place is to have it
	OutlivedInUse OutlivedCause = "in use" // a clone or a drill stands on it
	OutlivedAhead OutlivedCause = "ahead"  // it is dated later than now
	OutlivedHeld  OutlivedCause = "held"   // nothing is removed at all
)

// SetOutlived replaces what outlived its rules. Since when there are such stays known as long as there are.
func (c *Catalog) SetOutlived(all []Outlived, now Time) error {
	return c.Atomically(func(c *Catalog) error {
		was, err := c.Outlived()
		if err != nil {
			return err
		}
		since := map[Outlived]Time{}
		for _, o := range was {
			since[Outlived{Volume: o.Volume, Cause: o.Cause, Place: o.Place}] = o.Since
		}
		if _, err := c.db.Exec(`DELETE FROM outlived`); err != nil {
			return err
		}
		for _, o := range all {
			o.Since = now
			if t, ok := since[Outlived{Volume: o.Volume, Cause: o.Cause, Place: o.Place}]; ok {
				o.Since = t
			}
			if _, err := c.db.NamedExec(`INSERT INTO outlived (volume,cause,place,snapshots,since)
				VALUES (:volume,:cause,:place,:snapshots,:since)`, o); err != nil {
				return err
			}
		}
		return nil
	})
}

// Outlived lists what outlived its rules, by cause, place and volume.
func (c *Catalog) Outlived() (all []Outlived, err error) {
	err = c.db.Select(&all, `SELECT * FROM outlived ORDER BY cause, place, volume`)
	return all, err
}
