package catalog

import "time"

// State is one that came to be known at a place.
type State struct {
	Known Time `db:"known"`
	State Time `db:"state"`
}

// PutState notes that from known on a place could bring a volume back as it was at state.
func (c *Catalog) PutState(volume, place string, known, state time.Time) error {
	_, err := c.db.Exec(
		`INSERT INTO states (volume,place,known,state) VALUES (?,?,?,?) ON CONFLICT DO UPDATE SET state=MAX(state,
			excluded.state)`, volume, place, At(known), At(state))
	return err
}

// States returns what became known of a volume at a place up to an instant, and the last
// that was known when the stretch began.
func (c *Catalog) States(volume, place string, from, to time.Time) (out []State, err error) {
	err = c.db.Select(&out, `SELECT known,state FROM states WHERE volume=? AND place=? AND known<=? AND known>=
		COALESCE((SELECT MAX(known) FROM states WHERE volume=? AND place=? AND known<=?),0) ORDER BY
		known`, volume, place, At(to), volume, place, At(from))
	return out, err
}

// StatePlaces lists the places at which anything of a volume became known.
func (c *Catalog) StatePlaces(volume string) (places []string, err error) {
	err = c.db.Select(&places, `SELECT DISTINCT place FROM states WHERE volume=? ORDER BY place`, volume)
	return places, err
}

// ForgetStates deletes what became known before a time, but for the last of each place.
func (c *Catalog) ForgetStates(before time.Time) error {
	_, err := c.db.Exec(
		`DELETE FROM states AS s WHERE known<? AND known<(SELECT MAX(known) FROM states t WHERE t.volume=s.volume AND
			t.place=s.place)`, At(before))
	return err
}

// Pause is a time in which a volume was paused.
type Pause struct {
	Volume string `db:"volume"`
	Since  Time   `db:"since"`
	Until  Time   `db:"until"`
}

// PutPause notes a pause that is over.
func (c *Catalog) PutPause(p *Pause) error {
	_, err := c.db.NamedExec(`INSERT OR REPLACE INTO pauses (volume,since,until) VALUES (:volume,:since,:until)`, p)
	return err
}

// Pauses lists the pauses of a volume that ended after a time.
func (c *Catalog) Pauses(volume string, after time.Time) (out []*Pause, err error) {
	err = c.db.Select(&out, `SELECT * FROM pauses WHERE volume=? AND until>? ORDER BY since`, volume, At(after))
	return out, err
}
