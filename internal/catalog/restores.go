package catalog

import (
	"database/sql"
	"errors"
	"time"
)

// RestoreRequest is what a restore was asked to do.
type RestoreRequest struct {
	Volume     string         `db:"volume"`
	Paths      JSON[[]string] `db:"paths"`
	At         string         `db:"at"`
	ToDir      string         `db:"to_dir"`
	InPlace    bool           `db:"in_place"`
	IntoVolume string         `db:"into_volume"`
	OnConflict string         `db:"on_conflict"`
	FromSite   string         `db:"from_site"`
	External   string         `db:"external"` // a point-in-time directory that others left
}

// Recipe is a saved restore.
type Recipe struct {
	Name string `db:"name"`
	RestoreRequest
	Exact  bool   `db:"exact"`
	Due    string `db:"due"` // a cadence or a moment; empty: when asked for
	Zone   string `db:"zone"`
	Hook   string `db:"hook"` // checks what was restored
	Made   Time   `db:"made"`
	MadeBy string `db:"made_by"`
	// Filled is the target that a run of this recipe made or found empty. There, and nowhere
	// else, what is not in the snapshot goes.
	Filled string `db:"filled"`
	// Disconnect says that clients of a disk are cut off before it goes back.
	Disconnect bool `db:"disconnect"`
}

// PutRecipe inserts or replaces a recipe.
func (c *Catalog) PutRecipe(r *Recipe) error {
	_, err := c.db.NamedExec(`INSERT OR REPLACE INTO recipes (name,volume,paths,at,to_dir,in_place,into_volume,on_conflict,
		from_site,external,exact,due,zone,hook,made,made_by,filled,disconnect) VALUES (:name,:volume,:paths,:at,:to_dir,
		:in_place,:into_volume,:on_conflict,:from_site,:external,:exact,:due,:zone,:hook,:made,:made_by,:filled,
		:disconnect)`, r)
	return err
}

// Recipe returns one recipe.
func (c *Catalog) Recipe(name string) (*Recipe, error) {
	r := &Recipe{}
	return r, none(c.db.Get(r, `SELECT * FROM recipes WHERE name=?`, name), "recipe", name)
}

// Recipes lists the recipes by name.
func (c *Catalog) Recipes() (all []*Recipe, err error) {
	err = c.db.Select(&all, `SELECT * FROM recipes ORDER BY name`)
	return all, err
}

// SetFilled notes the directory that a recipe fills.
func (c *Catalog) SetFilled(recipe, dir string) error {
	_, err := c.db.Exec(`UPDATE recipes SET filled=? WHERE name=?`, dir, recipe)
	return err
}

// RemoveRecipe forgets a recipe, and up to when it was kept.
func (c *Catalog) RemoveRecipe(name string) error {
	return c.Atomically(func(c *Catalog) error {
		if _, err := c.db.Exec(`DELETE FROM recipes WHERE name=?`, name); err != nil {
			return err
		}
		return c.ForgetTask(RecipeTask + name)
	})
}

// InterruptedRestore is a restore that runs, or that the end of the service cut short.
type InterruptedRestore struct {
	Run     int64  `db:"run"`
	Beneath string `db:"beneath"`
	Target  string `db:"target"`
	RestoreRequest
	Snapshot string         `db:"snapshot"`
	Safety   string         `db:"safety"`
	Undoes   int64          `db:"undoes"`
	Beside   JSON[[]string] `db:"beside"`
	Owner    string         `db:"owner"` // the file owner for whom it is; empty: for an operator
	Recipe   string         `db:"recipe"`
	OwnCopy  bool           `db:"own_copy"` // of a recipe's own directory
	Times    int            `db:"times"`    // that it was cut short
}

// PutInterruptedRestore notes a restore that runs, in place of the one that it goes on with, if that is
// not 0.
func (c *Catalog) PutInterruptedRestore(r *InterruptedRestore, insteadOf int64) error {
	return c.Atomically(func(c *Catalog) error {
		if err := c.RemoveInterruptedRestore(insteadOf); err != nil {
			return err
		}
		_, err := c.db.NamedExec(`INSERT OR REPLACE INTO interrupted_restores (run,beneath,target,volume,paths,at,to_dir,
			in_place,into_volume,on_conflict,from_site,external,snapshot,safety,undoes,beside,owner,recipe,own_copy,times)
			VALUES (:run,:beneath,:target,:volume,:paths,:at,:to_dir,:in_place,:into_volume,:on_conflict,:from_site,
			:external,:snapshot,:safety,:undoes,:beside,:owner,:recipe,:own_copy,:times)`, r)
		return err
	})
}

// InterruptedRestores lists the restores that run or were cut short, by run.
func (c *Catalog) InterruptedRestores() (all []*InterruptedRestore, err error) {
	err = c.db.Select(&all, `SELECT * FROM interrupted_restores ORDER BY run`)
	return all, err
}

// RemoveInterruptedRestore forgets a restore that is over.
func (c *Catalog) RemoveInterruptedRestore(run int64) error {
	_, err := c.db.Exec(`DELETE FROM interrupted_restores WHERE run=?`, run)
	return err
}

// ExternalSource says where others leave point-in-time directories of a volume.
type ExternalSource struct {
	Volume  string `db:"volume"`
	Pattern string `db:"pattern"`
	Zone    string `db:"zone"`
}

// PutExternalSource stores where others leave what; without a pattern nobody does.
func (c *Catalog) PutExternalSource(x *ExternalSource) error {
	if x.Pattern == "" {
		_, err := c.db.Exec(`DELETE FROM external_sources WHERE volume=?`, x.Volume)
		return err
	}
	_, err := c.db.NamedExec(`INSERT OR REPLACE INTO external_sources (volume,pattern,zone)
		VALUES (:volume,:pattern,:zone)`, x)
	return err
}

// ExternalSource returns where others leave what of a volume; no pattern: nobody does.
func (c *Catalog) ExternalSource(volume string) (x ExternalSource, err error) {
	err = c.db.Get(&x, `SELECT * FROM external_sources WHERE volume=?`, volume)
	if errors.Is(err, sql.ErrNoRows) {
		return ExternalSource{Volume: volume}, nil
	}
	return x, err
}

// The names of scheduled tasks begin with what they are.
const (
	CloneTask       = "clone "
	RecipeTask      = "recipe "
	DrillTask       = "drill "
	RestoreTestTask = "trials"
)

// TaskKept is up to when a scheduled task was kept; zero: it is new.
func (c *Catalog) TaskKept(task string) (time.Time, error) {
	var t Time
	err := c.db.Get(&t, `SELECT kept_until FROM scheduled_tasks WHERE task=?`, task)
	if errors.Is(err, sql.ErrNoRows) {
		return time.Time{}, nil
	}
	return t.Time, err
}

// KeepTask notes up to when a scheduled task was kept.
func (c *Catalog) KeepTask(task string, until time.Time) error {
	_, err := c.db.Exec(`INSERT OR REPLACE INTO scheduled_tasks (task,kept_until) VALUES (?,?)`, task, At(until))
	return err
}

// ForgetTask forgets a scheduled task.
func (c *Catalog) ForgetTask(task string) error {
	_, err := c.db.Exec(`DELETE FROM scheduled_tasks WHERE task=?`, task)
	return err
}
