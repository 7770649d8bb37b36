package run

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/core/retention"
	"candidharbor/internal/catalog"
	"candidharbor/internal/refusal"
)

// kinds are those of all runs.
var kinds = []string{"arrive", "carry", "carry chosen", "crate", "drill", "failover", "fill", "go-on", "group restore",
	"hand-over", "load", "make volume", "outlet", "prune", "relief", "restore", "snapshot", "stand-back", "standby",
	"sweep", "take over", "trial", "undo", "verify"}

const (
	lifetimesSetting = "run lifetimes"
	othersKind       = "others" // all kinds of which nobody said anything
	othersLifetime   = 90 * 24 * time.Hour
	// leastLifetime leaves a week to look into what failed, and to take back what was restored.
	leastLifetime = 7 * 24 * time.Hour
	mostLifetime  = 100 * 365 * 24 * time.Hour
)

// lifetimes is how long the records of runs stay, by kind.
func lifetimes(c *catalog.Catalog) (map[string]time.Duration, error) {
	out := map[string]time.Duration{othersKind: othersLifetime}
	raw, err := c.Setting(lifetimesSetting)
	if err != nil || raw == "" {
		return out, err
	}
	return out, json.Unmarshal([]byte(raw), &out)
}

// reach says which records are over by the lifetime of a kind.
func reach(all map[string]time.Duration, kind string, now time.Time) catalog.RunsBefore {
	b := catalog.RunsBefore{Before: now.Add(-all[kind])}
	if kind != othersKind {
		b.Kinds = []string{kind}
		return b
	}
	for k := range all {
		if k != othersKind {
			b.Not = append(b.Not, k)
		}
	}
	slices.Sort(b.Not)
	return b
}

// ForgetOld deletes the records of runs that are over.
func (s *Engine) ForgetOld() error {
	all, err := lifetimes(s.Catalog)
	for kind := range all {
		err = errors.Join(err, s.Catalog.ForgetRuns(reach(all, kind, s.Clock.Now())))
	}
	return err
}

// Lifetimes tells how long the records of runs stay, and how many there are.
func (s *Engine) Lifetimes() ([]api.RunLifetime, error) {
	all, err := lifetimes(s.Catalog)
	if err != nil {
		return nil, err
	}
	counts, err := s.Catalog.RunsByKind()
	if err != nil {
		return nil, err
	}
	out := []api.RunLifetime{}
	for _, k := range kinds {
		l := api.RunLifetime{Kind: k, Keep: retention.Words(all[othersKind])}
		if d, ok := all[k]; ok {
			l.Keep, l.Own = retention.Words(d), true
		}
		if i, ok := slices.BinarySearchFunc(counts, k, func(c catalog.RunsOfKind, k string) int {
			return cmp.Compare(c.Kind, k)
		}); ok {
			l.Records, l.Oldest = counts[i].N, &counts[i].Oldest.Time
		}
		out = append(out, l)
	}
	return append(out, api.RunLifetime{Kind: othersKind, Keep: retention.Words(all[othersKind]), Own: true}), nil
}

// SetLifetime says how long the records of a kind of runs stay, and tells how many are over by that.
func (s *Engine) SetLifetime(ask api.RunLifetimeSet) (*api.RunLifetimeTold, error) {
	if ask.Kind != othersKind && !slices.Contains(kinds, ask.Kind) {
		return nil, refusal.Badf("%q is no kind of run: write %s, or %s for all of which nothing is said", ask.Kind,
			strings.Join(kinds, ", "), othersKind)
	}
	keep := time.Duration(0) // as the others
	if ask.Keep != "" {
		var err error
		if keep, err = retention.ParseDuration(ask.Keep); err != nil {
			return nil, refusal.Badf("%s", err)
		}
		if keep < leastLifetime || keep > mostLifetime {
			return nil, refusal.Badf("%s is not possible: records of runs stay for %s at least, so that what failed can be "+
				"looked into, and for %s at most", ask.Keep, retention.Words(leastLifetime), retention.Words(mostLifetime))
		}
	}
	out := &api.RunLifetimeTold{}
	err := s.Catalog.Atomically(func(c *catalog.Catalog) error {
		all, err := lifetimes(c)
		if err != nil {
			return err
		}
		switch {
		case keep > 0:
			all[ask.Kind] = keep
		case ask.Kind == othersKind:
			all[othersKind] = othersLifetime
		default:
			delete(all, ask.Kind)
		}
		over, stays := reach(all, ask.Kind, s.Clock.Now()), all[ask.Kind]
		if stays == 0 {
			stays = all[othersKind]
			over.Before = s.Clock.Now().Add(-stays)
		}
		if out.Over, err = c.CountRuns(over); err != nil {
			return err
		}
		out.Sentence = lifetimeSentence(ask, stays, out.Over)
		if ask.DryRun {
			return nil
		}
		raw, err := json.Marshal(all)
		if err != nil {
			return err
		}
		return c.Set(lifetimesSetting, string(raw))
	})
	if err != nil {
		return nil, err
	}
	if !ask.DryRun {
		s.Tell("runs")
	}
	return out, nil
}

func lifetimeSentence(ask api.RunLifetimeSet, stays time.Duration, over int64) string {
	of := "Records of the kind " + ask.Kind
	if ask.Kind == othersKind {
		of = "Records of all kinds of which nothing is said"
	}
	stay, go1, goes := "stay", "goes", "go"
	if ask.DryRun {
		stay, go1, goes = "would stay", "would go", "would go"
	}
	rest := "none of them is older"
	if over == 1 {
		rest = "1 of them is older and " + go1 + " within the hour"
	} else if over > 1 {
		rest = fmt.Sprintf("%d of them are older and %s within the hour", over, goes)
	}
	return fmt.Sprintf("%s %s for %s; %s.", of, stay, retention.Words(stays), rest)
}
