package catalog

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
)

// ErrDamaged is wrapped when the database file is not what SQLite wrote.
var ErrDamaged = errors.New("the database is damaged")

// Check reads the whole database and says what of it is damaged.
func (c *Catalog) Check(ctx context.Context) error { return c.check(ctx, `PRAGMA integrity_check(10)`) }

// CheckQuickly is Check without comparing indexes with their tables.
func (c *Catalog) CheckQuickly(ctx context.Context) error {
	return c.check(ctx, `PRAGMA quick_check(10)`)
}

func (c *Catalog) check(ctx context.Context, pragma string) error {
	var found []string
	if err := c.db.SelectContext(ctx, &found, pragma); err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return fmt.Errorf("%w: %w", ErrDamaged, err)
	}
	if len(found) == 1 && found[0] == "ok" {
		return nil
	}
	return fmt.Errorf("%w: %s", ErrDamaged, strings.Join(found, "; "))
}

// CopyTo writes a copy of the database as it is at this moment, durably. The file must not
// exist.
func (c *Catalog) CopyTo(ctx context.Context, path string) error {
	if _, err := c.db.ExecContext(ctx, `VACUUM INTO ?`, path); err != nil {
		return err
	}
	for _, p := range []string{path, filepath.Dir(path)} {
		f, err := os.Open(p)
		if err != nil {
			return err
		}
		err = f.Sync()
		f.Close()
		if err != nil {
			return err
		}
	}
	return nil
}
