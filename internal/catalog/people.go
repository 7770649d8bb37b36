package catalog

import (
	"database/sql"
	"errors"
	"strings"

	"candidharbor/core/ledger"
	"candidharbor/core/object"

	"github.com/jmoiron/sqlx"
)

// Person is someone who signs in.
type Person struct {
	Name   string                    `db:"name"`
	Role   string                    `db:"role"`
	Secret string                    `db:"secret"` // of the password, in PHC form
	UID    int64                     `db:"uid"`    // negative: none
	GIDs   JSON[[]uint32]            `db:"gids"`
	Grants JSON[map[string][]string] `db:"grants"` // volume → clean paths, of a file owner
	Made   Time                      `db:"made"`
}

// Session is a person signed in, or who showed a token.
type Session struct {
	Hash   string `db:"hash"`
	Person string `db:"person"` // empty: it is of a token
	Token  string `db:"token"`  // its hash
	Made   Time   `db:"made"`
	Used   Time   `db:"used"`
}

// People returns all people by name.
func (c *Catalog) People() (ps []*Person, err error) {
	err = c.db.Select(&ps, `SELECT * FROM people ORDER BY name`)
	return ps, err
}

// Person returns one person.
func (c *Catalog) Person(name string) (*Person, error) {
	p := &Person{}
	return p, none(c.db.Get(p, `SELECT * FROM people WHERE name=?`, name), "person", name)
}

// AddPerson stores a new person.
func (c *Catalog) AddPerson(p *Person) error {
	_, err := c.db.NamedExec(
		`INSERT INTO people (name,role,secret,uid,gids,grants,made) VALUES (:name,:role,:secret,:uid,:gids,:grants,:made)`, p)
	return err
}

// ChangePerson stores what changed of a person. With out everyone who is signed in as that
// person is signed out.
func (c *Catalog) ChangePerson(p *Person, out bool) error {
	tx, err := c.begin()
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if _, err := tx.NamedExec(
		`UPDATE people SET role=:role, secret=:secret, uid=:uid, gids=:gids, grants=:grants WHERE name=:name`,
		p); err != nil {
		return err
	}
	if out {
		if _, err := tx.Exec(`DELETE FROM sessions WHERE person=?`, p.Name); err != nil {
			return err
		}
	}
	return tx.Commit()
}

// RemovePerson removes a person with everything that lets that person in.
func (c *Catalog) RemovePerson(name string) error {
	return c.execAll(name, `DELETE FROM tokens WHERE person=?`, `DELETE FROM people WHERE name=?`,
		`DELETE FROM times WHERE who='person ' || ?`)
}

// Times is how times are shown to somebody; ErrNone when nothing was chosen.
func (c *Catalog) Times(who string) (zone, dates string, err error) {
	err = c.db.QueryRow(`SELECT zone, dates FROM times WHERE who=?`, who).Scan(&zone, &dates)
	return zone, dates, none(err, "choice of", who)
}

// SetTimes notes how times are shown to somebody.
func (c *Catalog) SetTimes(who, zone, dates string) error {
	_, err := c.db.Exec(`INSERT INTO times (who, zone, dates) VALUES (?, ?, ?)
		ON CONFLICT (who) DO UPDATE SET zone=excluded.zone, dates=excluded.dates`, who, zone, dates)
	return err
}

// PutSession stores a session, and forgets those of before a time.
func (c *Catalog) PutSession(s *Session, forget Time) error {
	return c.withTx(func(tx *sqlx.Tx) error {
		for _, table := range []string{"sessions", "token_sessions"} {
			if _, err := tx.Exec(`DELETE FROM `+table+` WHERE used<?`, forget); err != nil {
				return err
			}
		}
		if s.Person == "" {
			_, err := tx.NamedExec(
				`INSERT OR REPLACE INTO token_sessions (hash,token,made,used) VALUES (:hash,:token,:made,:used)`, s)
			return err
		}
		_, err := tx.NamedExec(`INSERT OR REPLACE INTO sessions (hash,person,made,used) VALUES (:hash,:person,:made,:used)`,
			s)
		return err
	})
}

// Session finds a session by the hash of its text.
func (c *Catalog) Session(hash string) (*Session, error) {
	s := &Session{}
	return s, none(c.db.Get(s, `SELECT hash, person, '' AS token, made, used FROM sessions WHERE hash=?
		UNION ALL SELECT hash, '', token, made, used FROM token_sessions WHERE hash=?`, hash, hash), "session", "")
}

// EndSession signs out.
func (c *Catalog) EndSession(hash string) error {
	return c.withTx(func(tx *sqlx.Tx) error {
		_, err := tx.Exec(`DELETE FROM sessions WHERE hash=?`, hash)
		_, terr := tx.Exec(`DELETE FROM token_sessions WHERE hash=?`, hash)
		return errors.Join(err, terr)
	})
}

// Entry is an entry of the ledger.
type Entry struct {
	N       int64  `db:"n"`
	At      Time   `db:"at"`
	Who     string `db:"who"`
	Role    string `db:"role"`
	Via     string `db:"via"`
	Act     string `db:"act"`
	About   string `db:"about"`
	Outcome string `db:"outcome"`
	Sum     []byte `db:"sum"`
}

// Chained is the entry as the chain has it.
func (e *Entry) Chained() *ledger.Entry {
	return &ledger.Entry{N: e.N, At: e.At.UnixNano(), Who: e.Who, Role: e.Role, Via: e.Via, Act: e.Act, About: e.About,
		Outcome: e.Outcome}
}

// AddEntry adds an entry to the ledger, durably, and gives it its number and sum.
func (c *Catalog) AddEntry(e *Entry) error {
	tx, err := c.begin()
	if err != nil {
		return err
	}
	defer tx.Rollback()
	var last Entry
	if err := tx.Get(&last, `SELECT * FROM ledger ORDER BY n DESC LIMIT 1`); err != nil && !errors.Is(err, sql.ErrNoRows) {
		return err
	}
	var before object.ID
	copy(before[:], last.Sum)
	e.N = last.N + 1
	sum := ledger.Sum(before, e.Chained())
	e.Sum = sum[:]
	if _, err := tx.NamedExec(
		`INSERT INTO ledger (n,at,who,role,via,act,about,outcome,sum) VALUES (:n,:at,:who,:role,:via,:act,:about,:outcome,
			:sum)`, e); err != nil {
		return err
	}
	return tx.Commit()
}

// EntryFilter narrows a list of the ledger.
type EntryFilter struct {
	Before int64 // only entries before this one; 0: all
	After  int64 // only entries after this one
	Who    string
	Text   string // part of act or subject
	Limit  int
	Up     bool // oldest first
}

// Entries lists the ledger, newest first.
func (c *Catalog) Entries(f EntryFilter) (es []*Entry, err error) {
	q, args := `SELECT * FROM ledger WHERE n>?`, []any{f.After}
	if f.Before > 0 {
		q, args = q+` AND n<?`, append(args, f.Before)
	}
	if f.Who != "" {
		q, args = q+` AND who=?`, append(args, f.Who)
	}
	if f.Text != "" {
		like := "%" + strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(f.Text) + "%"
		q, args = q+` AND (act LIKE ? ESCAPE '\' OR about LIKE ? ESCAPE '\')`, append(args, like, like)
	}
	order := ` ORDER BY n DESC LIMIT ?`
	if f.Up {
		order = ` ORDER BY n LIMIT ?`
	}
	err = c.db.Select(&es, q+order, append(args, f.Limit)...)
	return es, err
}
