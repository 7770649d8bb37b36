package catalog

import (
	"database/sql"
	"errors"
	"time"
)

// Peer is a paired site.
type Peer struct {
	Name      string         `db:"name"`
	Key       string         `db:"key"` // Ed25519 public key, hexadecimal
	Addresses JSON[[]string] `db:"addresses"`
	Paired    Time           `db:"paired"`
	Seen      Time           `db:"seen"`
}

// PutPeer inserts or replaces a peer, durably.
func (c *Catalog) PutPeer(p *Peer) error {
	_, err := c.db.NamedExec(`INSERT OR REPLACE INTO peers (name,key,addresses,paired,seen) VALUES (:name,:key,:addresses,:paired,:seen)`, p)
	c.Settle()
	return err
}

// SawPeer notes when a peer was last spoken to.
func (c *Catalog) SawPeer(name string, at time.Time) error {
	_, err := c.db.Exec(`UPDATE peers SET seen=? WHERE name=?`, At(at), name)
	return err
}

// Peer returns one peer.
func (c *Catalog) Peer(name string) (*Peer, error) {
	p := &Peer{}
	return p, none(c.db.Get(p, `SELECT * FROM peers WHERE name=?`, name), "site", name)
}

// PeerByKey finds a peer by its key, or nil.
func (c *Catalog) PeerByKey(key string) (*Peer, error) {
	p := &Peer{}
	err := c.db.Get(p, `SELECT * FROM peers WHERE key=?`, key)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return p, err
}

// Peers lists all peers.
func (c *Catalog) Peers() (ps []*Peer, err error) {
	err = c.db.Select(&ps, `SELECT * FROM peers ORDER BY name`)
	return ps, err
}

// PutInvitation stores an invitation's hash.
func (c *Catalog) PutInvitation(hash string, made, ends time.Time) error {
	_, err := c.db.Exec(`INSERT INTO invitations (hash,made,ends,used,used_by) VALUES (?,?,?,0,'')`, hash, At(made), At(ends))
	c.Settle()
	return err
}

// The ways in which an invitation is refused.
var (
	ErrInvitationUnknown = errors.New("this invitation was not made here")
	ErrInvitationUsed    = errors.New("this invitation was used already; make a new one")
	ErrInvitationLate    = errors.New("this invitation has ended; make a new one")
)

// UseInvitation spends an invitation once.
func (c *Catalog) UseInvitation(hash, by string, now time.Time) error {
	tx, err := c.db.Beginx()
	if err != nil {
		return err
	}
	defer tx.Rollback()
	var ends, used Time
	err = tx.QueryRow(`SELECT ends,used FROM invitations WHERE hash=?`, hash).Scan(&ends, &used)
	switch {
	case errors.Is(err, sql.ErrNoRows):
		return ErrInvitationUnknown
	case err != nil:
		return err
	case !used.IsZero():
		return ErrInvitationUsed
	case now.After(ends.Time):
		return ErrInvitationLate
	}
	if _, err := tx.Exec(`UPDATE invitations SET used=?,used_by=? WHERE hash=?`, At(now), by, hash); err != nil {
		return err
	}
	return tx.Commit()
}

// Selection chooses volumes by labels, all of which must match, or by name.
type Selection struct {
	Labels Labels   `json:"labels,omitempty"`
	Names  []string `json:"names,omitempty"`
}

// Holds reports whether the selection chooses a volume.
func (s *Selection) Holds(v *Volume) bool {
	for _, n := range s.Names {
		if n == v.Name {
			return true
		}
	}
	if len(s.Labels) == 0 {
		return false
	}
	for k, want := range s.Labels {
		if got, ok := v.Labels.V[k]; !ok || got != want {
			return false
		}
	}
	return true
}

// Route is a row of routes.
type Route struct {
	Name         string          `db:"name"`
	Peer         string          `db:"peer"`
	Volumes      JSON[Selection] `db:"volumes"`
	Made         Time            `db:"made"`
	LastOK       Time            `db:"last_ok"`
	FailingSince Time            `db:"failing_since"`
	Failures     int             `db:"failures"`
	NextTry      Time            `db:"next_try"`
	LastError    string          `db:"last_error"`
	SentBytes    int64           `db:"sent_bytes"`
	SavedBytes   int64           `db:"saved_bytes"`
}

// PutRoute inserts or replaces a route.
func (c *Catalog) PutRoute(r *Route) error {
	_, err := c.db.NamedExec(`INSERT OR REPLACE INTO routes (name,peer,volumes,made,last_ok,failing_since,failures,next_try,last_error,sent_bytes,saved_bytes)
		VALUES (:name,:peer,:volumes,:made,:last_ok,:failing_since,:failures,:next_try,:last_error,:sent_bytes,:saved_bytes)`, r)
	return err
}

// Route returns one route.
func (c *Catalog) Route(name string) (*Route, error) {
	r := &Route{}
	return r, none(c.db.Get(r, `SELECT * FROM routes WHERE name=?`, name), "route", name)
}

// Routes lists all routes.
func (c *Catalog) Routes() (rs []*Route, err error) {
	err = c.db.Select(&rs, `SELECT * FROM routes ORDER BY name`)
	return rs, err
}

// RemoveRoute deletes a route and what it carried.
func (c *Catalog) RemoveRoute(name string) error {
	if _, err := c.db.Exec(`DELETE FROM carried WHERE route=?`, name); err != nil {
		return err
	}
	_, err := c.db.Exec(`DELETE FROM routes WHERE name=?`, name)
	c.Settle()
	return err
}

// Carried is what a route brought to its far side.
type Carried struct {
	Snapshot  string `db:"snapshot"`
	At        Time   `db:"at"`
	SeenUntil Time   `db:"seen_until"`
	Marked    Time   `db:"marked"`
}

// PutCarried records an arrival at the far side, with the sighting and marks it knows of.
func (c *Catalog) PutCarried(route string, k Carried) error {
	_, err := c.db.Exec(`INSERT OR REPLACE INTO carried (route,snapshot,at,seen_until,marked) VALUES (?,?,?,?,?)`, route, k.Snapshot, k.At, k.SeenUntil, k.Marked)
	return err
}

// CarriedBy returns what a route brought of a volume, by snapshot id.
func (c *Catalog) CarriedBy(route, place, volume string) (map[string]Carried, error) {
	var rows []Carried
	err := c.db.Select(&rows, `SELECT c.snapshot,c.at,c.seen_until,c.marked FROM carried c JOIN snapshots s ON s.id=c.snapshot AND s.place=? WHERE c.route=? AND s.volume=?`, place, route, volume)
	out := make(map[string]Carried, len(rows))
	for _, r := range rows {
		out[r.Snapshot] = r
	}
	return out, err
}
