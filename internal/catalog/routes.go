package catalog

import (
	"database/sql"
	"errors"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"
)

// Peer is a paired site.
type Peer struct {
	Name      string         `db:"name"`
	Key       string         `db:"key"` // Ed25519 public key, hexadecimal
	Addresses JSON[[]string] `db:"addresses"`
	Paired    Time           `db:"paired"`
	Seen      Time           `db:"seen"`
	Grants    JSON[Grants]   `db:"grants"`  // what it may do here
	Granted   JSON[Grants]   `db:"granted"` // what this site may do there, as it last said
	Pace      JSON[Pace]     `db:"pace"`
	Former    JSON[[]string] `db:"former"`    // keys it had, which may have signed snapshots
	NextKey   string         `db:"next_key"`  // that it announced to use from now on; empty: none
	Recipient string         `db:"recipient"` // for whom crates for it are sealed
	// OwnAddresses are where people here say that it is reached; set by SetOwnAddresses alone.
	OwnAddresses JSON[[]string] `db:"own_addresses"`
}

// Reach is where the peer is reached: what people here say first, then what it says of itself.
func (p *Peer) Reach() []string {
	out := slices.Clone(p.OwnAddresses.V)
	for _, a := range p.Addresses.V {
		if !slices.Contains(out, a) {
			out = append(out, a)
		}
	}
	return out
}

// Grants are what one site lets another do.
type Grants struct {
	Offer     bool      `json:"offer,omitempty" cbor:"1,keyasint,omitempty"`     // bring snapshots into this place
	Read      bool      `json:"read,omitempty" cbor:"2,keyasint,omitempty"`      // take snapshots of the chosen volumes
	See       bool      `json:"see,omitempty" cbor:"3,keyasint,omitempty"`       // look at everything but contents
	Configure bool      `json:"configure,omitempty" cbor:"4,keyasint,omitempty"` // do what a person here may do
	TakeOver  bool      `json:"takeOver,omitempty" cbor:"6,keyasint,omitempty"`  // become active of the volumes here
	Volumes   Selection `json:"volumes,omitzero" cbor:"5,keyasint,omitempty"`    // for Read; empty: all
}

// Pace is the weekly calendar of limits towards a peer.
type Pace struct {
	Lines []string `json:"lines,omitempty"`
	Zone  string   `json:"zone,omitempty"`
}

// PutPeer inserts a peer, or what a pairing says anew of one: its former keys and its pace
// stay.
func (c *Catalog) PutPeer(p *Peer) error {
	_, err := c.db.NamedExec(`INSERT INTO peers (name,key,addresses,paired,seen,grants,granted,pace,former,next_key,
		recipient) VALUES (:name,:key,:addresses,:paired,:seen,:grants,:granted,:pace,:former,:next_key,:recipient)
		ON CONFLICT (name) DO UPDATE SET key=excluded.key, addresses=excluded.addresses, paired=excluded.paired,
		seen=excluded.seen, grants=excluded.grants,
		granted=excluded.granted, next_key=excluded.next_key, recipient=excluded.recipient`, p)
	return err
}

// AnnounceKey notes the key that a peer will use from now on. It reports false when the peer
// is not paired any more, or has another key meanwhile.
func (c *Catalog) AnnounceKey(name, key, next string) (bool, error) {
	return changedOne(c.db.Exec(`UPDATE peers SET next_key=? WHERE name=? AND key=?`, next, name, key))
}

// ChangeKey sets another key in place of a peer's, which becomes a former one; nothing else
// of its row changes. It reports false when the peer is not paired any more, or has another
// key meanwhile.
func (c *Catalog) ChangeKey(p *Peer, key string) (bool, error) {
	former := JSON[[]string]{V: append(slices.Clone(p.Former.V), p.Key)}
	return changedOne(c.db.Exec(`UPDATE peers SET key=?, next_key='', former=? WHERE name=? AND key=?`, key, former,
		p.Name, p.Key))
}

func changedOne(res sql.Result, err error) (bool, error) {
	if err != nil {
		return false, err
	}
	n, err := res.RowsAffected()
	return n > 0, err
}

// SawPeer notes when a peer was last spoken to.
func (c *Catalog) SawPeer(name string, at time.Time) error {
	_, err := c.db.Exec(`UPDATE peers SET seen=? WHERE name=?`, At(at), name)
	return err
}

// Granted notes what a peer says that this site may do there, and for whom crates for it
// are sealed.
func (c *Catalog) Granted(name string, g Grants, recipient string) error {
	_, err := c.db.Exec(`UPDATE peers SET granted=?, recipient=? WHERE name=?`, JSON[Grants]{V: g}, recipient, name)
	return err
}

// SetOwnAddresses stores where people here say that a peer is reached.
func (c *Catalog) SetOwnAddresses(name string, addresses []string) error {
	_, err := c.db.Exec(`UPDATE peers SET own_addresses=? WHERE name=?`, JSON[[]string]{V: append([]string{},
		addresses...)}, name)
	return err
}

// SetAddresses stores where a peer is reached, and nothing else of its row.
func (c *Catalog) SetAddresses(name string, addresses []string) error {
	_, err := c.db.Exec(`UPDATE peers SET addresses=? WHERE name=?`, JSON[[]string]{V: addresses}, name)
	return err
}

// SetGrants stores what a peer may do here, durably, and nothing else of its row.
func (c *Catalog) SetGrants(name string, g Grants) error {
	_, err := c.db.Exec(`UPDATE peers SET grants=? WHERE name=?`, JSON[Grants]{V: g}, name)
	return err
}

// SetPace stores the pace towards a peer, and nothing else of its row.
func (c *Catalog) SetPace(name string, p Pace) error {
	_, err := c.db.Exec(`UPDATE peers SET pace=? WHERE name=?`, JSON[Pace]{V: p}, name)
	return err
}

// RemovePeer ends a pairing, with all routes to and from the peer.
func (c *Catalog) RemovePeer(name string) error {
	return c.execAll(name, `DELETE FROM carried WHERE route IN (SELECT name FROM routes WHERE peer=?)`,
		`DELETE FROM derived WHERE route IN (SELECT name FROM routes WHERE peer=?)`,
		`DELETE FROM traffic WHERE route IN (SELECT name FROM routes WHERE peer=?)`, `DELETE FROM routes WHERE peer=?`,
		`DELETE FROM reports WHERE peer=?`, `DELETE FROM peer_histories WHERE peer=?`, `DELETE FROM peers WHERE name=?`)
}

// Peer returns one peer.
func (c *Catalog) Peer(name string) (*Peer, error) {
	p := &Peer{}
	return p, none(c.db.Get(p, `SELECT * FROM peers WHERE name=?`, name), "site", name)
}

// PeerByKey finds a peer by its key, or by the one it announced, or nil.
func (c *Catalog) PeerByKey(key string) (*Peer, error) {
	p := &Peer{}
	err := c.db.Get(p, `SELECT * FROM peers WHERE key=? OR next_key=?`, key, key)
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
func (c *Catalog) PutInvitation(hash string, made, ends time.Time, g Grants) error {
	_, err := c.db.Exec(`INSERT INTO invitations (hash,made,ends,used,used_by,grants) VALUES (?,?,?,0,'',?)`, hash,
		At(made), At(ends), JSON[Grants]{V: g})
	return err
}

// The ways in which an invitation is refused.
var (
	ErrInvitationUnknown = errors.New("this invitation was not made here")
	ErrInvitationUsed    = errors.New("this invitation was used already; make a new one")
	ErrInvitationLate    = errors.New("this invitation has ended; make a new one")
)

// UseInvitation spends an invitation once. It returns what was granted with it.
func (c *Catalog) UseInvitation(hash, by string, now time.Time) (g Grants, err error) {
	tx, err := c.begin()
	if err != nil {
		return g, err
	}
	defer tx.Rollback()
	grants, err := invited(tx, hash, now)
	if err != nil {
		return g, err
	}
	if _, err := tx.Exec(`UPDATE invitations SET used=?,used_by=? WHERE hash=?`, At(now), by, hash); err != nil {
		return g, err
	}
	return grants, tx.Commit()
}

// Invited tells whether an invitation can be used, and does not use it.
func (c *Catalog) Invited(hash string, now time.Time) error {
	_, err := invited(c.db, hash, now)
	return err
}

func invited(db sqlx.Queryer, hash string, now time.Time) (g Grants, err error) {
	var ends, used Time
	var grants JSON[Grants]
	err = db.QueryRowx(`SELECT ends,used,grants FROM invitations WHERE hash=?`, hash).Scan(&ends, &used, &grants)
	switch {
	case errors.Is(err, sql.ErrNoRows):
		return g, ErrInvitationUnknown
	case err != nil:
		return g, err
	case !used.IsZero():
		return g, ErrInvitationUsed
	case now.After(ends.Time):
		return g, ErrInvitationLate
	}
	return grants.V, nil
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

// RouteCause is the code of why a route does not carry at present; LastError says it to people.
type RouteCause string

// The causes. Which of them end by themselves is for the one who shows them to say.
const (
	CauseNone        RouteCause = ""
	CausePace        RouteCause = "pace"        // it lets nothing through now
	CauseDetached    RouteCause = "detached"    // the disk of the place is not there
	CauseUnreachable RouteCause = "unreachable" // no line leads to the site
	CauseFull        RouteCause = "full"        // there is no room at the other end
	CauseFailed      RouteCause = "failed"      // anything else
)

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
	LastCause    RouteCause      `db:"last_cause"`
	SentBytes    int64           `db:"sent_bytes"`
	SavedBytes   int64           `db:"saved_bytes"`
	Terms        JSON[Terms]     `db:"terms"`
	Paused       Time            `db:"paused"`
	LastRun      Time            `db:"last_run"` // when a run last began
	Known        JSON[[]Known]   `db:"known"`    // of a route that pulls: what the other side had, when last asked
	Compared     Time            `db:"compared"` // set by SetCompared alone
}

// Terms are what a route says beside its volumes and its other end.
type Terms struct {
	Pull bool   `json:"pull,omitempty"`
	When string `json:"when,omitempty"` // empty: after every snapshot; "on demand"; or a cadence
	Zone string `json:"zone,omitempty"` // of the cadence; empty: UTC
	// empty: what the far rules keep; "all"; or "key=value" of a snapshot's label
	Carry    string        `json:"carry,omitempty"`
	In       []string      `json:"in,omitempty"`      // paths that it carries; none: all
	Out      []string      `json:"out,omitempty"`     // paths that it leaves out
	Priority int           `json:"priority,omitzero"` // 1 to 9; 0: 5
	Cap      int64         `json:"cap,omitempty"`     // bytes a second of its own
	Pace     []string      `json:"pace,omitempty"`    // the same by time of week, in Zone; not with Cap
	Within   time.Duration `json:"within,omitempty"`  // finish within
	By       string        `json:"by,omitempty"`      // the one address that it goes by; empty: any
	Onward   bool          `json:"onward,omitempty"`  // carries volumes of other sites too
	Standby  string        `json:"standby,omitempty"` // the far side lays the copies out: exact or additive
	// of a route that pulls: what the source learns; empty: the lag; "counts" or "nothing"
	Tell string `json:"tell,omitempty"`
}

// Known is what a route that pulls found at the other side.
type Known struct {
	Volume  string    `json:"volume"`
	Newest  time.Time `json:"newest"`
	Backlog int       `json:"backlog"`
}

// PutRoute inserts or replaces a route.
func (c *Catalog) PutRoute(r *Route) error {
	_, err := c.db.NamedExec(`INSERT INTO routes (name,peer,volumes,made,last_ok,failing_since,failures,
		next_try,last_error,last_cause,sent_bytes,saved_bytes,terms,paused,last_run,known)
		VALUES (:name,:peer,:volumes,:made,:last_ok,:failing_since,:failures,:next_try,:last_error,:last_cause,:sent_bytes,
		:saved_bytes,:terms,:paused,:last_run,:known)
		ON CONFLICT (name) DO UPDATE SET peer=:peer, volumes=:volumes, made=:made, last_ok=:last_ok,
		failing_since=:failing_since, failures=:failures, next_try=:next_try, last_error=:last_error,
		last_cause=:last_cause, sent_bytes=:sent_bytes, saved_bytes=:saved_bytes, terms=:terms, paused=:paused,
		last_run=:last_run, known=:known`, r)
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
	return c.execAll(name, `DELETE FROM carried WHERE route=?`, `DELETE FROM derived WHERE route=?`,
		`DELETE FROM traffic WHERE route=?`,
		`DELETE FROM routes WHERE name=?`)
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
	_, err := c.db.Exec(`INSERT OR REPLACE INTO carried (route,snapshot,at,seen_until,marked) VALUES (?,?,?,?,?)`, route,
		k.Snapshot, k.At, k.SeenUntil, k.Marked)
	return err
}

// CarriedBy returns what a route brought of a volume, by snapshot id.
func (c *Catalog) CarriedBy(route, place, volume string) (map[string]Carried, error) {
	var rows []Carried
	err := c.db.Select(&rows,
		`SELECT c.snapshot,c.at,c.seen_until,c.marked FROM carried c JOIN snapshots s ON s.id=c.snapshot AND s.place=?
			WHERE c.route=? AND s.volume=?`, place, route, volume)
	out := make(map[string]Carried, len(rows))
	for _, r := range rows {
		out[r.Snapshot] = r
	}
	return out, err
}

// CarriedTo returns the sites to which snapshots were carried.
func (c *Catalog) CarriedTo(ids []string) (map[string][]string, error) {
	out := map[string][]string{}
	for part := range slices.Chunk(ids, 500) {
		q, args, err := sqlx.In(`SELECT DISTINCT c.snapshot, r.peer FROM carried c JOIN routes r ON r.name=c.route
			WHERE c.snapshot IN (?) ORDER BY r.peer`, part)
		if err != nil {
			return nil, err
		}
		var rows []struct{ Snapshot, Peer string }
		if err := c.db.Select(&rows, q, args...); err != nil {
			return nil, err
		}
		for _, r := range rows {
			out[r.Snapshot] = append(out[r.Snapshot], r.Peer)
		}
	}
	return out, nil
}

// AllCarried lists the snapshots that a route brought to its far side.
func (c *Catalog) AllCarried(route string) (ids []string, err error) {
	err = c.db.Select(&ids, `SELECT snapshot FROM carried WHERE route=? ORDER BY at DESC`, route)
	return ids, err
}

// ForgetCarried notes that snapshots are not at a route's far side any more.
func (c *Catalog) ForgetCarried(route string, ids []string) error {
	return c.withTx(func(tx *sqlx.Tx) error {
		for _, id := range ids {
			if _, err := tx.Exec(`DELETE FROM carried WHERE route=? AND snapshot=?`, route, id); err != nil {
				return err
			}
		}
		return nil
	})
}

// Interrupted reports whether the pace closed during the last run, so that it goes on when
// it opens and not at the next due time.
func (r *Route) Interrupted() bool { return r.Failures == 0 && !r.NextTry.IsZero() }

// AnyElsewhere reports whether any snapshot was carried to another place, or taken by one that told of it.
func (c *Catalog) AnyElsewhere() (carried, taken bool, err error) {
	err = errors.Join(c.db.Get(&carried, `SELECT EXISTS (SELECT 1 FROM carried)`),
		c.db.Get(&taken, `SELECT EXISTS (SELECT 1 FROM reports)`))
	return carried, taken, err
}
