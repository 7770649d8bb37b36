package catalog

import (
	"database/sql"
	"encoding/json"
	"errors"
	"strconv"
	"time"

	"github.com/jmoiron/sqlx"
)

// Run is a row of runs.
type Run struct {
	ID       int64           `db:"id"`
	Kind     string          `db:"kind"`
	Subject  string          `db:"subject"`
	State    string          `db:"state"`
	Queued   Time            `db:"queued"`
	Began    Time            `db:"began"`
	Ended    Time            `db:"ended"`
	AskedBy  string          `db:"asked_by"`
	Outcome  string          `db:"outcome"`
	Progress json.RawMessage `db:"progress"`
	Result   json.RawMessage `db:"result"`
}

// AddRun inserts a run and sets its id.
func (c *Catalog) AddRun(r *Run) error {
	res, err := c.db.Exec(
		`INSERT INTO runs (kind,subject,state,queued,began,ended,asked_by,outcome,progress,result) VALUES (?,?,?,?,?,?,?,
			?,?,?)`,
		r.Kind, r.Subject, r.State, r.Queued, r.Began, r.Ended, r.AskedBy, r.Outcome, "{}", "null")
	if err != nil {
		return err
	}
	r.ID, err = res.LastInsertId()
	return err
}

// UpdateRun stores a run's changed state.
func (c *Catalog) UpdateRun(r *Run) error {
	_, err := c.db.Exec(`UPDATE runs SET state=?,began=?,ended=?,outcome=?,progress=?,result=? WHERE id=?`,
		r.State, r.Began, r.Ended, r.Outcome, orNull(r.Progress, "{}"), orNull(r.Result, "null"), r.ID)
	return err
}

func orNull(b json.RawMessage, empty string) string {
	if len(b) == 0 {
		return empty
	}
	return string(b)
}

const runColumns = `id,kind,subject,state,queued,began,ended,asked_by,outcome,progress,result`

// Run returns one run.
func (c *Catalog) Run(id int64) (*Run, error) {
	var rows []*runRow
	err := c.db.Select(&rows, `SELECT `+runColumns+` FROM runs WHERE id=?`, id)
	if err == nil && len(rows) == 0 {
		err = sql.ErrNoRows
	}
	if err != nil {
		return nil, none(err, "run", strconv.FormatInt(id, 10))
	}
	return rows[0].run(), nil
}

type runRow struct {
	Run
	Progress string `db:"progress"`
	Result   string `db:"result"`
}

func (r *runRow) run() *Run {
	r.Run.Progress, r.Run.Result = json.RawMessage(r.Progress), json.RawMessage(r.Result)
	return &r.Run
}

// RunFilter narrows a list of runs.
type RunFilter struct {
	Kind    string
	States  []string
	Subject string
	By      string
	Before  int64 // cursor: only runs with a lower id
	Limit   int
}

func runsOf(rows []*runRow) []*Run {
	runs := make([]*Run, len(rows))
	for i, r := range rows {
		runs[i] = r.run()
	}
	return runs
}

// LastRuns returns the newest run of a kind in any of some states, of each subject.
func (c *Catalog) LastRuns(kind string, states []string) ([]*Run, error) {
	q, args, err := sqlx.In(`SELECT `+runColumns+
		` FROM runs WHERE id IN (SELECT MAX(id) FROM runs WHERE kind=? AND state IN (?) GROUP BY subject) ORDER BY subject`,
		kind, states)
	if err != nil {
		return nil, err
	}
	var rows []*runRow
	if err := c.db.Select(&rows, q, args...); err != nil {
		return nil, err
	}
	return runsOf(rows), nil
}

// Runs lists runs, newest first.
func (c *Catalog) Runs(f RunFilter) ([]*Run, error) {
	q, args := `SELECT `+runColumns+` FROM runs WHERE 1=1`, []any{}
	if len(f.States) > 0 {
		q += ` AND state IN (`
		for i, s := range f.States {
			if i > 0 {
				q += ","
			}
			q, args = q+"?", append(args, s)
		}
		q += ")"
	}
	if f.Kind != "" {
		q, args = q+` AND kind=?`, append(args, f.Kind)
	}
	if f.Subject != "" {
		q, args = q+` AND subject=?`, append(args, f.Subject)
	}
	if f.By != "" {
		q, args = q+` AND asked_by=?`, append(args, f.By)
	}
	if f.Before > 0 {
		q, args = q+` AND id<?`, append(args, f.Before)
	}
	q, args = q+` ORDER BY id DESC LIMIT ?`, append(args, max(1, f.Limit))
	var rows []*runRow
	if err := c.db.Select(&rows, q, args...); err != nil {
		return nil, err
	}
	return runsOf(rows), nil
}

// LogLine is a line of a run's log.
type LogLine struct {
	At   Time   `db:"at" json:"at"`
	Text string `db:"text" json:"text"`
}

// AddLog appends lines to a run's log.
func (c *Catalog) AddLog(run int64, at time.Time, lines ...string) error {
	return c.withTx(func(tx *sqlx.Tx) error {
		st, err := tx.Preparex(
			`INSERT INTO run_log (run,line,at,text) SELECT ?,COALESCE(MAX(line),0)+1,?,? FROM run_log WHERE run=?`)
		if err != nil {
			return err
		}
		for _, text := range lines {
			if _, err := st.Exec(run, At(at), text, run); err != nil {
				return err
			}
		}
		return nil
	})
}

// Log returns a run's log.
func (c *Catalog) Log(run int64) (lines []LogLine, err error) {
	err = c.db.Select(&lines, `SELECT at,text FROM run_log WHERE run=? ORDER BY line`, run)
	return lines, err
}

// FailUnfinished ends runs that a stopped service left behind.
func (c *Catalog) FailUnfinished(now time.Time, outcome string) (int64, error) {
	res, err := c.db.Exec(`UPDATE runs SET state='failed',ended=?,outcome=? WHERE state IN ('queued','running')`, At(now),
		outcome)
	if err != nil {
		return 0, err
	}
	return res.RowsAffected()
}

// RunsBefore says which ended runs are meant: of these kinds, or of all kinds but those not meant, that ended before.
type RunsBefore struct {
	Before time.Time
	Kinds  []string
	Not    []string
}

// forgettable is a run that nothing builds upon any more: it has ended, and is not the newest trial of its volume,
// which stands until the next one.
func (b RunsBefore) forgettable() (where string, args []any, err error) {
	where, args = `ended>0 AND ended<?`, []any{At(b.Before)}
	for _, part := range []struct {
		words string
		kinds []string
	}{{` AND kind IN (?)`, b.Kinds}, {` AND kind NOT IN (?)`, b.Not}} {
		if len(part.kinds) == 0 {
			continue
		}
		words, more, err := sqlx.In(part.words, part.kinds)
		if err != nil {
			return "", nil, err
		}
		where, args = where+words, append(args, more...)
	}
	where += ` AND id NOT IN (SELECT MAX(id) FROM runs WHERE kind='trial' AND state IN ('done','done with remarks',
		'failed') GROUP BY subject)`
	return where, args, nil
}

// CountRuns tells how many runs ForgetRuns would delete.
func (c *Catalog) CountRuns(b RunsBefore) (n int64, err error) {
	where, args, err := b.forgettable()
	if err == nil {
		err = c.db.Get(&n, `SELECT COUNT(*) FROM runs WHERE `+where, args...)
	}
	return n, err
}

// forgetAtOnce bounds how many runs one statement deletes: others write to the catalogue in between.
const forgetAtOnce = 2000

// ForgetRuns deletes ended runs with their logs.
func (c *Catalog) ForgetRuns(b RunsBefore) error {
	where, args, err := b.forgettable()
	for n := int64(forgetAtOnce); err == nil && n == forgetAtOnce; {
		err = c.withTx(func(tx *sqlx.Tx) error {
			var ids []int64
			if err := tx.Select(&ids, `SELECT id FROM runs WHERE `+where+` LIMIT ?`, append(args[:len(args):len(args)],
				forgetAtOnce)...); err != nil || len(ids) == 0 {
				n = 0
				return err
			}
			n = int64(len(ids))
			for _, q := range []string{`DELETE FROM run_log WHERE run IN (?)`, `DELETE FROM runs WHERE id IN (?)`} {
				q, args, err := sqlx.In(q, ids)
				if err != nil {
					return err
				}
				if _, err := tx.Exec(q, args...); err != nil {
					return err
				}
			}
			return nil
		})
	}
	return err
}

// RunsOfKind is how many runs of a kind are recorded, and since when.
type RunsOfKind struct {
	Kind   string `db:"kind"`
	N      int64  `db:"n"`
	Oldest Time   `db:"oldest"`
}

// RunsByKind counts the recorded runs of each kind.
func (c *Catalog) RunsByKind() (out []RunsOfKind, err error) {
	err = c.db.Select(&out, `SELECT k.kind, k.n, r.queued AS oldest FROM
		(SELECT kind, COUNT(*) AS n, MIN(id) AS first FROM runs GROUP BY kind) k JOIN runs r ON r.id=k.first ORDER BY k.kind`)
	return out, err
}

// Token is a row of tokens.
type Token struct {
	Name string `db:"name"`
	Hash string `db:"hash"`
	Made Time   `db:"made"`
	Used Time   `db:"used"`
	// Person is whose token it is; empty: it is nobody's and may do what administrators may.
	Person string `db:"person"`
	// Until is when it ends; zero: when it is removed.
	Until Time `db:"until"`
}

// AddToken inserts a token and reports whether there was none of its name.
func (c *Catalog) AddToken(t *Token) (added bool, err error) {
	res, err := c.db.NamedExec(`INSERT INTO tokens (name,hash,made,used,person,until)
		VALUES (:name,:hash,:made,:used,:person,:until) ON CONFLICT (name) DO NOTHING`, t)
	if err != nil {
		return false, err
	}
	n, err := res.RowsAffected()
	return n > 0, err
}

// TokenByHash finds a token.
func (c *Catalog) TokenByHash(hash string) (*Token, error) {
	t := &Token{}
	return t, none(c.db.Get(t, `SELECT * FROM tokens WHERE hash=?`, hash), "token", "")
}

// Tokens lists all tokens.
func (c *Catalog) Tokens() (ts []*Token, err error) {
	err = c.db.Select(&ts, `SELECT * FROM tokens ORDER BY name`)
	return ts, err
}

// RemoveToken deletes a token.
func (c *Catalog) RemoveToken(name string) error {
	res, err := c.db.Exec(`DELETE FROM tokens WHERE name=?`, name)
	if err == nil {
		if n, _ := res.RowsAffected(); n == 0 {
			return none(sql.ErrNoRows, "token", name)
		}
		_, err = c.db.Exec(`DELETE FROM times WHERE who='caller ' || ?`, name)
	}
	return err
}

// Answer is a stored answer to a request with an idempotency key.
type Answer struct {
	Key    string `db:"key"`
	At     Time   `db:"at"`
	Status int    `db:"status"`
	Kind   string `db:"kind"`
	Body   []byte `db:"body"`
}

// PutAnswer stores an answer and forgets those older than a day.
func (c *Catalog) PutAnswer(a *Answer) error {
	return c.withTx(func(tx *sqlx.Tx) error {
		if _, err := tx.Exec(`DELETE FROM answers WHERE at<?`, At(a.At.Add(-24*time.Hour))); err != nil {
			return err
		}
		_, err := tx.NamedExec(
			`INSERT OR REPLACE INTO answers (key,at,status,kind,body) VALUES (:key,:at,:status,:kind,:body)`, a)
		return err
	})
}

// Answer returns the stored answer, or nil.
func (c *Catalog) Answer(key string) (*Answer, error) {
	a := &Answer{}
	err := c.db.Get(a, `SELECT * FROM answers WHERE key=?`, key)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return a, err
}
