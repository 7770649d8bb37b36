package recovery

import (
	"context"
	"errors"
	"fmt"
	"os"
	"regexp"
	"strconv"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/internal/access"
	"candidharbor/internal/capture"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/policy"
	"candidharbor/internal/refusal"
	"candidharbor/internal/run"
)

var agoForm = regexp.MustCompile(`^-(\d{1,5})(m|h|d|w)$`)

// momentAgo turns how long ago, such as -24h, into a moment; other moments stay as they are.
func (s *Service) momentAgo(at string) string {
	m := agoForm.FindStringSubmatch(at)
	if m == nil {
		return at
	}
	n, _ := strconv.Atoi(m[1])
	unit := map[string]time.Duration{"m": time.Minute, "h": time.Hour, "d": 24 * time.Hour, "w": 7 * 24 * time.Hour}[m[2]]
	return s.Clock.Now().Add(-time.Duration(n) * unit).Format(time.RFC3339)
}

func (s *Service) recipe(name string) (*catalog.Recipe, error) {
	r, err := s.Catalog.Recipe(name)
	if errors.Is(err, catalog.ErrNone) {
		return nil, refusal.Missingf("there is no recipe %s: candid recipe list shows those there are", name)
	}
	return r, err
}

// recipeAsk is what a recipe asks for if it runs now.
func (s *Service) recipeAsk(r *catalog.Recipe) api.RestoreAsk {
	a := askOf(&r.RestoreRequest)
	a.At, a.Disconnect = s.momentAgo(a.At), r.Disconnect
	return a
}

// PutRecipe saves a restore under a name, or changes one. With edit it must be there, else
// it must not.
func (s *Service) PutRecipe(ctx context.Context, name string, ask api.RecipePut, edit bool, by string) (*api.Recipe,
	error) {
	if err := policy.CheckName("recipe", name); err != nil {
		return nil, refusal.Wrap(refusal.Misuse, err)
	}
	old, err := s.recipe(name)
	switch {
	case err == nil && !edit:
		return nil, refusal.Conflictf("there is a recipe %s already: candid recipe edit %s changes it", name, name)
	case err != nil && edit:
		return nil, err
	case err != nil && refusal.ClassOf(err) != refusal.Missing:
		return nil, err
	}
	now := s.Clock.Now()
	r := &catalog.Recipe{Name: name, RestoreRequest: requestOf(ask.Restore), Exact: ask.Exact, Due: ask.When,
		Zone: ask.Zone, Hook: ask.Check, Disconnect: ask.Restore.Disconnect, Made: catalog.At(now), MadeBy: by}
	if _, once, err := parseDue(ask.When, ask.Zone); err != nil {
		return nil, err
	} else if !once.IsZero() && !once.After(now) {
		return nil, refusal.Badf("%s has passed: give a moment to come, or a cadence such as daily at 02:30", ask.When)
	}
	if ask.Check != "" {
		if err := s.KnownHooks(policy.Quiesce{Freeze: ask.Check}); err != nil {
			return nil, err
		}
	}
	if ask.Exact && (ask.Restore.InPlace || len(ask.Restore.Paths) > 0) {
		return nil, refusal.Badf("exact is for a whole volume in a directory of the recipe's own; in place a whole volume " +
			"becomes exactly as it was anyway")
	}
	if err := s.checkRecipe(ctx, r, old); err != nil {
		return nil, err
	}
	if old != nil {
		r.Made, r.MadeBy = old.Made, old.MadeBy
	}
	err = s.Catalog.Atomically(func(c *catalog.Catalog) error {
		if err := c.PutRecipe(r); err != nil || old != nil && old.Due == r.Due && old.Zone == r.Zone {
			return err
		}
		return c.KeepTask(catalog.RecipeTask+name, now)
	})
	if err != nil {
		return nil, err
	}
	s.run.Tell("recipes")
	return s.recipeView(r)
}

// checkRecipe refuses what cannot be carried out now: it would fail at night.
func (s *Service) checkRecipe(ctx context.Context, r, old *catalog.Recipe) error {
	e := s.ViewerFor(nil)
	if e.isDisk(r.Volume) {
		return s.checkDiskRecipe(ctx, r)
	}
	if r.Disconnect {
		return refusal.Badf("clients are disconnected from a disk, and volume %s is a directory", r.Volume)
	}
	ready, err := e.PrepareRestore(ctx, s.recipeAsk(r))
	if err != nil {
		return err
	}
	defer ready.done()
	if r.Exact && old != nil && old.Filled == ready.opt.Target {
		r.Filled = old.Filled
	} else if r.Exact {
		return EmptyOrNew(ready.opt.Target)
	}
	return nil
}

func (s *Service) checkDiskRecipe(ctx context.Context, r *catalog.Recipe) error {
	switch {
	case r.Exact:
		return refusal.Badf("exact is for a directory of files: a disk becomes exactly as it was anyway")
	case r.ToDir != "":
		return refusal.Badf("a recipe brings a disk back into another disk, or in place: a file that is there is not " +
			"written over the next time")
	}
	o := &diskRestore{s: s, ask: s.recipeAsk(r)}
	if err := o.check(ctx, s.ViewerFor(nil)); err != nil {
		return err
	}
	o.done()
	return nil
}

// EmptyOrNew refuses a directory in which there is something.
func EmptyOrNew(dir string) error {
	entries, err := os.ReadDir(dir)
	if err == nil && len(entries) > 0 {
		return refusal.Badf("%s is not empty: exact takes away what the snapshot does not have, so it begins with a new "+
			"or empty directory", dir)
	}
	if err != nil && !os.IsNotExist(err) {
		return refusal.Badf("%s cannot be looked into: %s", dir, err)
	}
	return nil
}

func (s *Service) recipeView(r *catalog.Recipe) (*api.Recipe, error) {
	ask := askOf(&r.RestoreRequest)
	ask.Disconnect = r.Disconnect
	out := &api.Recipe{Name: r.Name, RecipePut: api.RecipePut{Restore: ask, Exact: r.Exact, When: r.Due, Zone: r.Zone,
		Check: r.Hook}, Made: r.Made.Time, By: r.MadeBy, Runs: []api.Run{}}
	by, once, err := parseDue(r.Due, r.Zone)
	if err != nil {
		return nil, err
	}
	until, err := s.Catalog.TaskKept(catalog.RecipeTask + r.Name)
	if err != nil {
		return nil, err
	}
	if at, ok := (&ScheduledTask{By: by, Once: once}).next(until); ok && (by != nil || !once.IsZero()) {
		out.NextDue = &at
	}
	page, err := s.run.Runs(catalog.RunFilter{Kind: "restore", By: recipeRuns(r.Name), Limit: 10})
	if err != nil {
		return nil, err
	}
	out.Runs = page.Items
	where := "in place"
	if ask.Into != "" {
		where = "into " + ask.Into
	} else if !ask.InPlace {
		where = "to " + ask.To
	}
	if ask.Disconnect {
		where += ", whose clients are disconnected"
	}
	what := "all of " + ask.Volume
	if len(ask.Paths) > 0 {
		what = strings.Join(ask.Paths, ", ") + " of " + ask.Volume
	}
	at := ask.At
	switch {
	case at == "latest" || at == "":
		at = "in its newest state"
	case agoForm.MatchString(at):
		at = "as it was " + at[1:] + " before"
	default:
		at = "as of " + at
	}
	out.Sentence = fmt.Sprintf("%s, %s, %s", what, at, where)
	if r.Exact {
		out.Sentence += ", exactly so: what is not in the snapshot goes from there"
	}
	switch {
	case by != nil:
		out.Sentence += "; " + r.Due
	case !once.IsZero() && out.NextDue != nil:
		out.Sentence += "; once, " + phrase.Stamp(once)
	default:
		out.Sentence += "; when asked for"
	}
	if r.Hook != "" {
		out.Sentence += "; then the hook " + r.Hook + " checks it"
	}
	out.Sentence += "."
	return out, nil
}

// recipeRuns is as whose a recipe's runs are recorded.
func recipeRuns(name string) string { return "recipe " + name }

// Recipe returns one saved restore with its last runs.
func (s *Service) Recipe(name string) (*api.Recipe, error) {
	r, err := s.recipe(name)
	if err != nil {
		return nil, err
	}
	return s.recipeView(r)
}

// Recipes lists saved restores by name.
func (s *Service) Recipes() ([]api.Recipe, error) {
	all, err := s.Catalog.Recipes()
	if err != nil {
		return nil, err
	}
	return catalog.Each(all, s.recipeView)
}

// RemoveRecipe forgets a saved restore. What it restored stays.
func (s *Service) RemoveRecipe(name string) (string, error) {
	if _, err := s.recipe(name); err != nil {
		return "", err
	}
	if err := s.Catalog.RemoveRecipe(name); err != nil {
		return "", err
	}
	s.run.Tell("recipes")
	return fmt.Sprintf("The recipe %s is forgotten; what it brought back stays where it is.", name), nil
}

// RunRecipe carries a saved restore out now.
func (s *Service) RunRecipe(ctx context.Context, name string) (api.Run, error) {
	j, err := s.startRecipe(ctx, name)
	if err != nil {
		return api.Run{}, err
	}
	return j.View(), nil
}

func (s *Service) startRecipe(ctx context.Context, name string) (*run.Job, error) {
	saved, err := s.recipe(name)
	if err != nil {
		return nil, err
	}
	e, ask := s.ViewerFor(nil), s.recipeAsk(saved)
	if e.isDisk(ask.Volume) {
		o, err := e.prepareDisk(ask)
		if err != nil {
			return nil, err
		}
		o.recipe = name
		return s.beginRestore(o, recipeRuns(name), nil)
	}
	r, err := e.PrepareRestore(ctx, ask)
	if err != nil {
		return nil, err
	}
	r.recipe = name
	if saved.Exact {
		if saved.Filled != r.opt.Target {
			if err := EmptyOrNew(r.opt.Target); err != nil {
				r.done()
				return nil, err
			}
		}
		r.opt.Exact, r.opt.OwnCopy = true, true
	}
	return s.beginRestore(r, recipeRuns(name), nil)
}

// recipeDone notes what a recipe filled and lets its hook check it.
func (s *Service) recipeDone(ctx context.Context, j *run.Job, r *restoring) error {
	saved, err := s.recipe(r.recipe)
	if err != nil {
		return nil // removed meanwhile
	}
	if saved.Exact && saved.Filled != r.opt.Target {
		if err := s.Catalog.SetFilled(r.recipe, r.opt.Target); err != nil {
			return err
		}
	}
	at := *r.v
	at.Path = r.opt.Target
	return s.letHookCheck(ctx, j, saved.Hook, &at)
}

// letHookCheck lets the hook of a recipe, if it has one, look at what was restored.
func (s *Service) letHookCheck(ctx context.Context, j *run.Job, hook string, at *catalog.Volume) error {
	if hook == "" {
		return nil
	}
	j.Say("checking: " + hook)
	if err := s.capture.RunHook(ctx, j, capture.HookRun{Name: hook, Volumes: []*catalog.Volume{at}}); err != nil {
		return fmt.Errorf("it was restored to %s, but the check says no: %w", at.Path, err)
	}
	j.Logf("the hook %s has checked it", hook)
	return nil
}

func (s *Service) recipeTasks() ([]*ScheduledTask, error) {
	all, err := s.Catalog.Recipes()
	if err != nil {
		return nil, err
	}
	var out []*ScheduledTask
	for _, r := range all {
		name := r.Name
		by, once, err := parseDue(r.Due, r.Zone)
		if err != nil {
			return nil, fmt.Errorf("recipe %s: %w", name, err)
		}
		if by == nil && once.IsZero() {
			continue
		}
		out = append(out, &ScheduledTask{Key: catalog.RecipeTask + name, What: recipeRuns(name), By: by, Once: once,
			Do: func() ([]*run.Job, error) {
				if _, err := s.access.Record(access.ByService, "runRecipe", name, ""); err != nil {
					return nil, err
				}
				j, err := s.startRecipe(s.run.Context(), name)
				if err != nil {
					return nil, err
				}
				return []*run.Job{j}, nil
			}})
	}
	return out, nil
}
