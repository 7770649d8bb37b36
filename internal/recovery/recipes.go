package recovery

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/internal/access"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/policy"
	"candidharbor/internal/refusal"
	"candidharbor/internal/run"
)

// recipeSetting begins the settings that hold saved restores.
const recipeSetting = "recipe "

// recipe is a saved restore as it is stored.
type recipe struct {
	api.RecipePut
	Made time.Time `json:"made"`
	By   string    `json:"by"`
	// Filled is the target that a run of this recipe made or found empty. There, and nowhere
	// else, what is not in the snapshot goes.
	Filled string `json:"filled,omitempty"`
}

var agoForm = regexp.MustCompile(`^-(\d{1,5})(m|h|d|w)$`)

// momentAgo resolves a moment that is told as how long ago, such as -24h; others stay.
func (s *Service) momentAgo(at string) string {
	m := agoForm.FindStringSubmatch(at)
	if m == nil {
		return at
	}
	n, _ := strconv.Atoi(m[1])
	unit := map[string]time.Duration{"m": time.Minute, "h": time.Hour, "d": 24 * time.Hour, "w": 7 * 24 * time.Hour}[m[2]]
	return s.Clock.Now().Add(-time.Duration(n) * unit).Format(time.RFC3339)
}

func (s *Service) recipe(name string) (*recipe, error) {
	raw, err := s.Catalog.Setting(recipeSetting + name)
	if err != nil {
		return nil, err
	}
	if raw == "" {
		return nil, refusal.Missingf("there is no recipe %s: candid recipe list shows those there are", name)
	}
	r := &recipe{}
	return r, json.Unmarshal([]byte(raw), r)
}

func (s *Service) putRecipe(name string, r *recipe) error {
	raw, err := json.Marshal(r)
	if err != nil {
		return err
	}
	return s.Catalog.Set(recipeSetting+name, string(raw))
}

func (r *recipe) ask(s *Service) api.RestoreAsk {
	a := r.Restore
	a.At = s.momentAgo(a.At)
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
	r := &recipe{RecipePut: ask, Made: now, By: by}
	r.Restore.DryRun = false
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
	// What cannot be carried out now would fail at night.
	ready, err := s.ViewerFor(nil).PrepareRestore(ctx, r.ask(s))
	if err != nil {
		return nil, err
	}
	defer ready.done()
	if ask.Exact {
		if old != nil && old.Filled == ready.opt.Target {
			r.Filled = old.Filled
		} else if err := s.emptyOrNew(ready.opt.Target); err != nil {
			return nil, err
		}
	}
	if old != nil {
		r.Made, r.By = old.Made, old.By
	}
	if err := s.putRecipe(name, r); err != nil {
		return nil, err
	}
	if old == nil || old.When != r.When || old.Zone != r.Zone {
		if err := s.noteDone("recipe "+name, now); err != nil {
			return nil, err
		}
	}
	s.run.Tell("recipes")
	return s.recipeView(name, r)
}

func (s *Service) emptyOrNew(dir string) error {
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

func (s *Service) recipeView(name string, r *recipe) (*api.Recipe, error) {
	out := &api.Recipe{Name: name, RecipePut: r.RecipePut, Made: r.Made, By: r.By, Runs: []api.Run{}}
	by, once, err := parseDue(r.When, r.Zone)
	if err != nil {
		return nil, err
	}
	until, err := s.doneUntil("recipe " + name)
	if err != nil {
		return nil, err
	}
	if at, ok := (&scheduledTask{by: by, once: once}).next(until); ok && (by != nil || !once.IsZero()) {
		out.NextDue = &at
	}
	page, err := s.run.Runs(catalog.RunFilter{Kind: "restore", By: recipeRuns(name), Limit: 10})
	if err != nil {
		return nil, err
	}
	out.Runs = page.Items
	where := "in place"
	if !r.Restore.InPlace {
		where = "to " + r.Restore.To
	}
	what := "all of " + r.Restore.Volume
	if len(r.Restore.Paths) > 0 {
		what = strings.Join(r.Restore.Paths, ", ") + " of " + r.Restore.Volume
	}
	at := r.Restore.At
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
		out.Sentence += "; " + r.When
	case !once.IsZero() && out.NextDue != nil:
		out.Sentence += "; once, " + phrase.Stamp(once)
	default:
		out.Sentence += "; when asked for"
	}
	if r.Check != "" {
		out.Sentence += "; then the hook " + r.Check + " checks it"
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
	return s.recipeView(name, r)
}

// Recipes lists saved restores by name.
func (s *Service) Recipes() ([]api.Recipe, error) {
	all, err := s.Catalog.Settings(recipeSetting)
	if err != nil {
		return nil, err
	}
	out := []api.Recipe{}
	for key := range all {
		v, err := s.Recipe(strings.TrimPrefix(key, recipeSetting))
		if err != nil {
			return nil, err
		}
		out = append(out, *v)
	}
	slices.SortFunc(out, func(a, b api.Recipe) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}

// RemoveRecipe forgets a saved restore. What it restored stays.
func (s *Service) RemoveRecipe(name string) (string, error) {
	if _, err := s.recipe(name); err != nil {
		return "", err
	}
	if err := s.Catalog.SetAll(map[string]string{recipeSetting + name: "", taskSetting + "recipe " +
		name: ""}); err != nil {
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
	r, err := s.ViewerFor(nil).PrepareRestore(ctx, saved.ask(s))
	if err != nil {
		return nil, err
	}
	r.recipe = name
	if saved.Exact {
		if saved.Filled != r.opt.Target {
			if err := s.emptyOrNew(r.opt.Target); err != nil {
				r.done()
				return nil, err
			}
		}
		r.opt.Exact, r.opt.OwnCopy = true, true
	}
	return s.beginRestore(r, recipeRuns(name))
}

// recipeDone notes what a recipe filled and lets its hook check it.
func (s *Service) recipeDone(ctx context.Context, j *run.Job, r *restoring) error {
	saved, err := s.recipe(r.recipe)
	if err != nil {
		return nil // removed meanwhile
	}
	if saved.Exact && saved.Filled != r.opt.Target {
		saved.Filled = r.opt.Target
		if err := s.putRecipe(r.recipe, saved); err != nil {
			return err
		}
	}
	if saved.Check == "" {
		return nil
	}
	j.Say("checking: " + saved.Check)
	at := *r.v
	at.Path = r.opt.Target
	if err := s.capture.RunHook(ctx, j, saved.Check, []*catalog.Volume{&at}, ""); err != nil {
		return fmt.Errorf("it was restored to %s, but the check says no: %w", r.opt.Target, err)
	}
	j.Logf("the hook %s has checked it", saved.Check)
	return nil
}

func (s *Service) recipeTasks() ([]*scheduledTask, error) {
	all, err := s.Catalog.Settings(recipeSetting)
	if err != nil {
		return nil, err
	}
	var out []*scheduledTask
	for key, raw := range all {
		var r recipe
		if err := json.Unmarshal([]byte(raw), &r); err != nil {
			return nil, fmt.Errorf("setting %q: %w", key, err)
		}
		by, once, err := parseDue(r.When, r.Zone)
		if err != nil {
			return nil, fmt.Errorf("setting %q: %w", key, err)
		}
		if by == nil && once.IsZero() {
			continue
		}
		name := strings.TrimPrefix(key, recipeSetting)
		out = append(out, &scheduledTask{key: "recipe " + name, what: recipeRuns(name), by: by, once: once,
			do: func() ([]*run.Job, error) {
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
	slices.SortFunc(out, func(a, b *scheduledTask) int { return strings.Compare(a.key, b.key) })
	return out, nil
}
