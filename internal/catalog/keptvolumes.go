package catalog

import (
	"context"
	"slices"
	"strings"
	"sync"

	"github.com/jmoiron/sqlx"
)

// keptVolumes are the rows of volumes in memory. The database numbers each change of a row, whoever makes it, so that
// only what changed is read anew.
type keptVolumes struct {
	mu   sync.Mutex
	rows []*Volume // by name; neither it nor what it leads to is changed
	seen int64     // the last change that is in rows
	read bool
}

// Volumes returns all volumes by name. The rows are the caller's; their labels and excludes are shared, and not to be
// changed.
func (c *Catalog) Volumes() ([]*Volume, error) {
	if c.tx != nil { // what it sees may never come to be
		var vs []*Volume
		err := c.db.Select(&vs, `SELECT * FROM volumes ORDER BY name`)
		return vs, err
	}
	rows, err := c.vols.current(c)
	if err != nil {
		return nil, err
	}
	own, out := make([]Volume, len(rows)), make([]*Volume, len(rows))
	for i, v := range rows {
		own[i] = *v
		out[i] = &own[i]
	}
	return out, nil
}

// current brings the rows up to date.
func (k *keptVolumes) current(c *Catalog) ([]*Volume, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	var last int64
	err := c.db.QueryRow(`SELECT COALESCE(MAX(number), 0) FROM volume_changes`).Scan(&last)
	if err != nil || k.read && last == k.seen {
		return k.rows, err
	}
	err = c.atOneMoment(k.refresh)
	return k.rows, err
}

func (k *keptVolumes) refresh(db sqlx.QueryerContext) error {
	ctx := context.Background()
	var changed []struct {
		Name   string `db:"name"`
		Number int64  `db:"number"`
	}
	err := sqlx.SelectContext(ctx, db, &changed, `SELECT name, number FROM volume_changes WHERE number>?`, k.seen)
	if err != nil {
		return err
	}
	seen := k.seen
	for _, ch := range changed {
		seen = max(seen, ch.Number)
	}
	var fresh, rows []*Volume
	if !k.read || len(changed) > len(k.rows)/4 {
		if err = sqlx.SelectContext(ctx, db, &rows, `SELECT * FROM volumes ORDER BY name`); err != nil {
			return err
		}
		k.rows, k.seen, k.read = rows, seen, true
		return nil
	}
	err = sqlx.SelectContext(ctx, db, &fresh, `SELECT v.* FROM volume_changes c JOIN volumes v ON v.name=c.name
		WHERE c.number>?`, k.seen)
	if err != nil {
		return err
	}
	gone := make(map[string]bool, len(changed))
	for _, ch := range changed {
		gone[ch.Name] = true
	}
	for _, v := range k.rows {
		if !gone[v.Name] {
			rows = append(rows, v)
		}
	}
	rows = append(rows, fresh...)
	slices.SortFunc(rows, func(a, b *Volume) int { return strings.Compare(a.Name, b.Name) })
	k.rows, k.seen = rows, seen
	return nil
}

// atOneMoment does several reads that see the database as of one moment, and keep no writer waiting.
func (c *Catalog) atOneMoment(do func(db sqlx.QueryerContext) error) error {
	ctx := context.Background()
	conn, err := c.pool.Connx(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	if _, err := conn.ExecContext(ctx, `BEGIN DEFERRED`); err != nil {
		return err
	}
	err = do(conn)
	if _, end := conn.ExecContext(ctx, `ROLLBACK`); err == nil {
		err = end
	}
	return err
}
