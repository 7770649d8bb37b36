// Package catalog keeps a site's records in SQLite: volumes, snapshots, policies,
// runs, peers and routes. What it says of volumes and snapshots can be rebuilt from the
// store, which alone decides what exists.
package catalog

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	_ "modernc.org/sqlite"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Catalog is an open database. It is safe for concurrent use. What a method has written is
// durable when it returns: SQLite syncs its journal at each commit.
type Catalog struct {
	db   executor // the pool, or a transaction of it
	pool *sqlx.DB
	tx   *sqlx.Tx // within Atomically

	vols  *keptVolumes
	snaps *keptSnapshots
}

// executor is what the pool and a transaction can do alike.
type executor interface {
	sqlx.Ext
	sqlx.ExecerContext
	sqlx.QueryerContext
	Get(dest any, query string, args ...any) error
	Select(dest any, query string, args ...any) error
	SelectContext(ctx context.Context, dest any, query string, args ...any) error
	NamedExec(query string, arg any) (sql.Result, error)
	QueryRow(query string, args ...any) *sql.Row
}

// Open opens or makes the database file and brings its tables up to date.
func Open(path string) (*Catalog, error) {
	if err := ownFiles(path); err != nil {
		return nil, err
	}
	dsn := "file:" + path +
		"?_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_pragma=busy_timeout(15000)" +
		"&_pragma=foreign_keys(1)&_pragma=cache_size(-8000)&_txlock=immediate"
	db, err := sqlx.Open("sqlite", dsn)
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(4)
	c := &Catalog{db: db, pool: db, vols: &keptVolumes{}, snaps: &keptSnapshots{}}
	err = c.CheckQuickly(context.Background()) // before anything is written into a damaged one
	if err == nil {
		var p *goose.Provider
		if p, err = goose.NewProvider(goose.DialectSQLite3, db.DB, must(subFS())); err == nil {
			_, err = p.Up(context.Background())
		}
	}
	if err != nil {
		db.Close()
		return nil, fmt.Errorf("catalogue %s: %w; move the file away and start again to rebuild it from the store", path, err)
	}
	return c, nil
}

// ownFiles makes the database and what SQLite keeps beside it readable by the service alone,
// whatever the directory allows. SQLite gives new ones the rights of the database.
func ownFiles(path string) error {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	if err := errors.Join(f.Chmod(0o600), f.Close()); err != nil {
		return err
	}
	for _, beside := range []string{"-wal", "-shm", "-journal"} {
		if err := os.Chmod(path+beside, 0o600); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// Close closes the database.
func (c *Catalog) Close() error { return c.pool.Close() }

// Atomically does several things in one transaction: all of them are durable when it returns without
// error, and none otherwise. do uses the catalogue that it is given and no other, and fails when
// anything it does fails.
func (c *Catalog) Atomically(do func(c *Catalog) error) error {
	return c.withTx(func(tx *sqlx.Tx) error { return do(&Catalog{db: tx, pool: c.pool, tx: tx}) })
}

// transaction is one of its own, or the one of Atomically, which that ends.
type transaction struct {
	*sqlx.Tx
	within bool
}

func (t *transaction) Commit() error {
	if t.within {
		return nil
	}
	return t.Tx.Commit()
}

func (t *transaction) Rollback() error {
	if t.within {
		return nil
	}
	return t.Tx.Rollback()
}

func (c *Catalog) begin() (*transaction, error) {
	if c.tx != nil {
		return &transaction{c.tx, true}, nil
	}
	tx, err := c.pool.Beginx()
	return &transaction{tx, false}, err
}

// withTx does something in one transaction, which is durable when it returns without error.
func (c *Catalog) withTx(do func(tx *sqlx.Tx) error) error {
	tx, err := c.begin()
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if err := do(tx.Tx); err != nil {
		return err
	}
	return tx.Commit()
}

// execAll executes statements with the same arguments in one transaction.
func (c *Catalog) execAll(arg any, statements ...string) error {
	return c.withTx(func(tx *sqlx.Tx) error {
		for _, q := range statements {
			if _, err := tx.Exec(q, arg); err != nil {
				return err
			}
		}
		return nil
	})
}

// ErrNone is wrapped when a named record does not exist.
var ErrNone = errors.New("not found")

// ErrCursor is wrapped when a list is to go on after what no list gave.
var ErrCursor = errors.New("is not one that a list gave")

func none(err error, what, name string) error {
	if errors.Is(err, sql.ErrNoRows) {
		return fmt.Errorf("%s %q: %w", what, name, ErrNone)
	}
	return err
}

// Time is a column of nanoseconds since 1970; the zero time is stored as 0.
type Time struct{ time.Time }

// At wraps a time for storing.
func At(t time.Time) Time { return Time{t} }

// Ptr is the time, nil when it is zero.
func (t Time) Ptr() *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t.Time
}

// Value implements driver.Valuer.
func (t Time) Value() (driver.Value, error) {
	if t.IsZero() {
		return int64(0), nil
	}
	return t.UnixNano(), nil
}

// Scan implements sql.Scanner.
func (t *Time) Scan(v any) error {
	n, ok := v.(int64)
	if !ok {
		return fmt.Errorf("a time of type %T", v)
	}
	t.Time = time.Time{}
	if n != 0 {
		t.Time = time.Unix(0, n).UTC()
	}
	return nil
}

// JSON is a column that holds a value as JSON.
type JSON[T any] struct{ V T }

// Value implements driver.Valuer.
func (j JSON[T]) Value() (driver.Value, error) {
	b, err := json.Marshal(j.V)
	return string(b), err
}

// Scan implements sql.Scanner.
func (j *JSON[T]) Scan(v any) error {
	s, ok := v.(string)
	if !ok {
		return fmt.Errorf("JSON of type %T", v)
	}
	return json.Unmarshal([]byte(s), &j.V)
}

// Policy is a row of policies.
type Policy struct {
	Name      string `db:"name"`
	Body      string `db:"body"`
	Version   int    `db:"version"`
	Changed   Time   `db:"changed"`
	ChangedBy string `db:"changed_by"`
}

// PutPolicy inserts or replaces a policy, counts its version and keeps the one before.
func (c *Catalog) PutPolicy(p *Policy) error {
	tx, err := c.begin()
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if err := tx.Get(&p.Version, `SELECT COALESCE(MAX(version),0)+1 FROM policy_versions WHERE name=?`,
		p.Name); err != nil {
		return err
	}
	if _, err := tx.NamedExec(
		`INSERT OR REPLACE INTO policies (name,body,version,changed,changed_by) VALUES (:name,:body,:version,:changed,
			:changed_by)`, p); err != nil {
		return err
	}
	if _, err := tx.NamedExec(putVersion, p); err != nil {
		return err
	}
	err = tx.Commit()
	return err
}

const putVersion = `INSERT INTO policy_versions (name,version,body,changed,changed_by) VALUES (:name,:version,:body,
	:changed,:changed_by)`

// PolicyVersions returns all versions of a policy, newest first. An empty body says that
// it was removed then.
func (c *Catalog) PolicyVersions(name string) (vs []*Policy, err error) {
	err = c.db.Select(&vs, `SELECT * FROM policy_versions WHERE name=? ORDER BY version DESC`, name)
	if err == nil && len(vs) == 0 {
		err = none(sql.ErrNoRows, "policy", name)
	}
	return vs, err
}

// Policies returns all policies by name.
func (c *Catalog) Policies() (ps []*Policy, err error) {
	err = c.db.Select(&ps, `SELECT * FROM policies ORDER BY name`)
	return ps, err
}

// Policy returns one policy.
func (c *Catalog) Policy(name string) (*Policy, error) {
	p := &Policy{}
	return p, none(c.db.Get(p, `SELECT * FROM policies WHERE name=?`, name), "policy", name)
}

// RemovePolicy deletes a policy; its versions stay, with the removal as the last.
func (c *Catalog) RemovePolicy(name, by string, at time.Time) error {
	tx, err := c.begin()
	if err != nil {
		return err
	}
	defer tx.Rollback()
	p := &Policy{Name: name, Changed: At(at), ChangedBy: by}
	if err := tx.Get(&p.Version, `SELECT COALESCE(MAX(version),0)+1 FROM policy_versions WHERE name=?`, name); err != nil {
		return err
	}
	if _, err := tx.NamedExec(putVersion, p); err != nil {
		return err
	}
	if _, err := tx.Exec(`DELETE FROM policies WHERE name=?`, name); err != nil {
		return err
	}
	err = tx.Commit()
	return err
}

// Gap is a due time at which no snapshot was taken.
type Gap struct {
	Volume string `db:"volume" json:"volume"`
	Due    Time   `db:"due" json:"due"`
	Cause  string `db:"cause" json:"cause"`
}

// PutGaps records missed due times.
func (c *Catalog) PutGaps(gaps []Gap) error {
	for start := 0; start < len(gaps); start += 500 {
		if _, err := c.db.NamedExec(`INSERT OR IGNORE INTO gaps (volume,due,cause) VALUES (:volume,:due,:cause)`,
			gaps[start:min(start+500, len(gaps))]); err != nil {
			return err
		}
	}
	return nil
}

// Gaps returns a volume's gaps in a stretch of time.
func (c *Catalog) Gaps(volume string, from, to time.Time) (gs []Gap, err error) {
	err = c.db.Select(&gs, `SELECT * FROM gaps WHERE volume=? AND due>=? AND due<=? ORDER BY due LIMIT 10000`, volume,
		At(from), At(to))
	return gs, err
}

// Setting returns a setting's value; empty when there is none.
func (c *Catalog) Setting(key string) (string, error) {
	var v string
	err := c.db.Get(&v, `SELECT value FROM settings WHERE key=?`, key)
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil
	}
	return v, err
}

// Set stores a setting; an empty value deletes it.
func (c *Catalog) Set(key, value string) error {
	if value == "" {
		_, err := c.db.Exec(`DELETE FROM settings WHERE key=?`, key)
		return err
	}
	_, err := c.db.Exec(
		`INSERT INTO settings (key,value) VALUES (?,?) ON CONFLICT (key) DO UPDATE SET value=excluded.value`, key, value)
	return err
}

func subFS() (fs.FS, error) { return fs.Sub(migrations, "migrations") }

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}
