package rules

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"candidharbor/core/object"
	"candidharbor/core/retention"
	"candidharbor/internal/catalog"
	"candidharbor/internal/datadir"
	"candidharbor/internal/phrase"
	"candidharbor/internal/run"
	"candidharbor/internal/store"
)

const lowSetting = "low on space"

// reliefEvery is how long nothing more is tried after measures were taken.
const reliefEvery = 10 * time.Minute

// lowSpace is what is known of a time with too little room.
type lowSpace struct {
	Since   time.Time `json:"since"`
	Tried   time.Time `json:"tried"`
	Stopped bool      `json:"stopped"` // scheduled snapshots are not taken
	Did     []string  `json:"did"`     // measures, in sentences
}

// LowState tells whether the store is low on room, and what was done about it.
func (s *Service) LowState() (st lowSpace, low bool, err error) {
	raw, err := s.Catalog.Setting(lowSetting)
	if err != nil || raw == "" {
		return st, false, err
	}
	return st, true, json.Unmarshal([]byte(raw), &st)
}

func (s *Service) putLowState(st lowSpace) error {
	raw, err := json.Marshal(st)
	if err != nil {
		return err
	}
	return s.Catalog.Set(lowSetting, string(raw))
}

// WatchRoom begins measures when room is short, and ends the state when it is not.
func (s *Service) WatchRoom() (*run.Job, error) {
	lack, _, _ := s.Lacking()
	st, low, err := s.LowState()
	if err != nil {
		return nil, err
	}
	now := s.Clock.Now()
	switch {
	case lack == 0 && low:
		s.run.Changed("snapshots")
		return nil, s.Catalog.Set(lowSetting, "")
	case lack == 0, low && now.Sub(st.Tried) < reliefEvery && !now.Before(st.Tried), s.run.IsHeld(run.KeyRelief.Of("")):
		return nil, nil
	}
	release, err := s.run.Hold(s.run.Context(), run.KeyRelief.Of(""))
	if err != nil {
		return nil, err
	}
	j, err := s.run.Start("relief", s.Place(), "the headroom", func(ctx context.Context, j *run.Job) (any, string, error) {
		defer release()
		j.Begin(nil)
		st, err := s.relieve(ctx, j, st)
		if err != nil {
			return nil, "", err
		}
		j.Remark() // somebody should know
		return nil, strings.Join(st.Did, " "), nil
	})
	if err != nil {
		release()
	}
	return j, err
}

// relieve takes one measure after the other until there is room again.
func (s *Service) relieve(ctx context.Context, j *run.Job, st lowSpace) (lowSpace, error) {
	free, err := s.run.Hold(ctx, run.KeyPrune.Of(""))
	if err != nil {
		return st, err
	}
	defer free()
	now := s.Clock.Now()
	if st.Since.IsZero() {
		st.Since = now
	}
	st.Tried, st.Stopped, st.Did = now, false, nil
	if err := s.watchClock(); err != nil { // a wrong clock must not expire anything here either
		return st, err
	}
	held, err := s.Catalog.Setting(HoldSetting)
	if err != nil {
		return st, err
	}
	for _, measure := range s.measures() {
		lack, _, _ := s.Lacking()
		if lack == 0 {
			break
		}
		if measure == datadir.StopTaking {
			st.Stopped = true
			st.Did = append(st.Did, "No scheduled snapshots are taken until there is room again.")
			continue
		}
		if held != "" {
			continue
		}
		said, err := s.giveUp(ctx, j, measure, lack)
		if err != nil {
			return st, err
		}
		if said != "" {
			st.Did = append(st.Did, said)
		}
	}
	if len(st.Did) == 0 {
		st.Did = append(st.Did, "Nothing could be given up.")
	}
	s.run.Changed("snapshots")
	return st, s.putLowState(st)
}

func (s *Service) measures() []string {
	if len(s.Conf.WhenLow) > 0 {
		return s.Conf.WhenLow
	}
	return datadir.AllMeasures
}

// giveUp removes as few of a measure's snapshots as give back what is lacking, and
// sweeps.
func (s *Service) giveUp(ctx context.Context, j *run.Job, measure string, lack int64) (string, error) {
	rows, err := s.candidates(measure)
	if err != nil || len(rows) == 0 {
		return "", err
	}
	ids := make([]object.ID, len(rows))
	for i, r := range rows {
		if ids[i], err = object.ParseID(r.ID); err != nil {
			return "", err
		}
	}
	n, least := len(ids), 1
	for least < n { // the fewest, from the front, that give back enough
		mid := (least + n) / 2
		back, err := s.Store.Freed(ids[:mid])
		if err != nil {
			return "", err
		}
		if back >= lack {
			n = mid
		} else {
			least = mid + 1
		}
	}
	back, err := s.Store.Freed(ids[:n])
	if err != nil {
		return "", err
	}
	if back == 0 {
		return "", nil // it would cost history and bring nothing
	}
	var names, lines []string
	for _, r := range rows[:n] {
		lines = append(lines, fmt.Sprintf("%s of %s, taken %s: removed for room (%s)", r.ID[:12], r.Volume,
			phrase.Stamp(r.Began.Time), measure))
		names = append(names, r.ID)
	}
	j.LogAll(lines)
	// Noted before, so that a crash in between is not taken for a loss that nobody meant.
	for _, r := range rows[:n] {
		if r.GraceUntil.IsZero() {
			r.GraceUntil, r.LetGo = catalog.At(s.Clock.Now()), "removed for room ("+measure+")"
			r.LetGoCause = string(object.ExpiredForRoom)
		}
	}
	if err := s.Catalog.SetGrace(rows[:n]...); err != nil {
		return "", err
	}
	if err := s.Store.RemoveRoots(ids[:n]...); err != nil {
		return "", err
	}
	if err := s.Catalog.ForgetSnapshots(s.Place(), names...); err != nil {
		return "", err
	}
	s.run.Changed("snapshots")
	if _, err := s.Store.Sweep(ctx, store.SweepOptions{MinDead: 0.001}); err != nil {
		return "", err
	}
	what := map[string]string{datadir.ShortenGrace: "in grace went before their grace was over",
		datadir.RemoveExpired: "that had expired went without grace",
		datadir.MayGoFirst:    "went that somebody said may go first",
		datadir.ThinDensest:   "went where they lay densest; the reach back in time is the same"}[measure]
	return fmt.Sprintf("%s %s, for %s.", phrase.Many(n, "snapshot"), what, phrase.Size(back)), nil
}

// candidates lists what a measure may remove, what goes first in front. Keep marks,
// floors, what is owed and the newest are never among them.
func (s *Service) candidates(measure string) ([]*catalog.Snapshot, error) {
	vols, err := s.Catalog.Volumes()
	if err != nil {
		return nil, err
	}
	var out []*catalog.Snapshot
	var thinned [][]*catalog.Snapshot
	for _, v := range vols {
		rs, err := s.RulesFor(v)
		if err != nil {
			return nil, err
		}
		d, err := s.DecideWith(v, rs, s.Clock.Now())
		if err != nil {
			return nil, err
		}
		switch measure {
		case datadir.ShortenGrace, datadir.RemoveExpired:
			for i, r := range d.Rows {
				graced := !r.GraceUntil.IsZero()
				if graced == (measure == datadir.ShortenGrace) && (!d.Verdicts[i].Kept() || putOut(r)) && !guarded(d.Verdicts[i]) {
					out = append(out, r)
				}
			}
		case datadir.MayGoFirst:
			for i := len(d.Rows) - 1; i > 0; i-- { // the newest of all stays
				if r := d.Rows[i]; r.GraceUntil.IsZero() && r.SetID == "" && goesFirst(r) && !holds(d.Verdicts[i]) {
					out = append(out, r)
				}
			}
		case datadir.ThinDensest:
			thinned = append(thinned, thinning(d))
		}
	}
	slices.SortStableFunc(out, func(a, b *catalog.Snapshot) int { return a.GraceUntil.Compare(b.GraceUntil.Time) })
	for k := 0; ; k++ { // in turns, so that no volume pays for all
		any := false
		for _, list := range thinned {
			if k < len(list) {
				out, any = append(out, list[k]), true
			}
		}
		if !any {
			return out, nil
		}
	}
}

// GoFirstLabel is the label of a snapshot of which somebody says that it may go first when room is short.
const GoFirstLabel = "may-go-first"

func goesFirst(r *catalog.Snapshot) bool { return r.Labels.V[GoFirstLabel] == "yes" }

// holds reports whether something keeps a snapshot that also holds where somebody said that it may go first.
func holds(v retention.Verdict) bool {
	return slices.ContainsFunc(v.Reasons, func(r retention.Reason) bool {
		switch r.Rule {
		case retention.RuleNewest, retention.RuleByHand, retention.RuleForSafety, retention.RuleRecalled,
			retention.RuleNoRules:
			return false
		}
		return !slices.ContainsFunc(retention.Tiers(), func(t retention.Tier) bool {
			return retention.Rule(t.String()) == r.Rule
		})
	})
}

// thinning orders the snapshots that only tiers and newest keep, the densest first.
func thinning(d *decided) (out []*catalog.Snapshot) {
	var rows []*catalog.Snapshot
	var taken []time.Time
	var may []bool
	for i := len(d.Rows) - 1; i >= 0; i-- {
		r, v := d.Rows[i], d.Verdicts[i]
		if !r.GraceUntil.IsZero() || !v.Kept() || r.SetID != "" { // a set goes as a whole or not
			continue
		}
		rows, taken = append(rows, r), append(taken, r.Began.Time)
		may = append(may, !slices.ContainsFunc(v.Reasons, func(x retention.Reason) bool {
			return x.Rule != "newest" && !slices.ContainsFunc(retention.Tiers(), func(t retention.Tier) bool {
				return retention.Rule(t.String()) == x.Rule
			})
		}))
	}
	if len(may) > 0 {
		may[0] = false // the oldest is the reach
	}
	for _, i := range retention.Thin(taken, may) {
		out = append(out, rows[i])
	}
	return out
}
