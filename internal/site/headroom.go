package site

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"candidharbor/core/object"
	"candidharbor/core/retention"
	"candidharbor/internal/catalog"
	"candidharbor/internal/store"

	"golang.org/x/sys/unix"
)

// The measures against too little room, in the order in which they are taken unless
// site.yaml names another or fewer.
const (
	shortenGrace  = "shorten grace"
	removeExpired = "remove expired"
	thinDensest   = "thin"
	stopTaking    = "stop taking"
)

var allMeasures = []string{shortenGrace, removeExpired, thinDensest, stopTaking}

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

// roomOn returns the free and the total bytes of a directory's filesystem.
func roomOn(dir string) (free, total int64) {
	var st unix.Statfs_t
	if unix.Statfs(dir, &st) != nil {
		return 1 << 62, 1 << 62 // what cannot be known is no reason to remove anything
	}
	return int64(st.Bavail) * st.Bsize, int64(st.Blocks) * st.Bsize
}

// parseShare reads "20 GiB" or "10 %" of a filesystem's size.
func parseShare(what, text string, total int64) (int64, error) {
	number, unit, _ := strings.Cut(strings.TrimSpace(text), " ")
	if n, ok := strings.CutSuffix(number, "%"); ok && unit == "" {
		number, unit = n, "%"
	}
	v, err := strconv.ParseFloat(number, 64)
	scale, known := map[string]float64{"%": float64(total) / 100, "MiB": 1 << 20, "GiB": 1 << 30, "TiB": 1 << 40}[unit]
	if err != nil || !known || v < 0 || (unit == "%" && v > 90) {
		return 0, fmt.Errorf("%s %q: write a size such as 20 GiB, or a share such as 10 %%", what, text)
	}
	return int64(v * scale), nil
}

// lacking is how many bytes must come free for the headroom to be kept; 0: none.
func (s *Site) lacking() (lack, free, want int64) {
	if s.cfg.Headroom == "" {
		return 0, 0, 0
	}
	free, total := s.room()
	want, err := parseShare("headroom", s.cfg.Headroom, total)
	if err != nil {
		return 0, free, 0 // checked when the site was opened
	}
	return max(0, want-free), free, want
}

func (s *Site) lowState() (st lowSpace, low bool, err error) {
	raw, err := s.cat.Setting(lowSetting)
	if err != nil || raw == "" {
		return st, false, err
	}
	return st, true, json.Unmarshal([]byte(raw), &st)
}

func (s *Site) putLowState(st lowSpace) error {
	raw, err := json.Marshal(st)
	if err != nil {
		return err
	}
	return s.cat.Set(lowSetting, string(raw))
}

// watchRoom begins measures when room is short, and ends the state when it is not.
func (s *Site) watchRoom() (*job, error) {
	lack, _, _ := s.lacking()
	st, low, err := s.lowState()
	if err != nil {
		return nil, err
	}
	now := s.clock.Now()
	switch {
	case lack == 0 && low:
		s.changed("snapshots")
		return nil, s.cat.Set(lowSetting, "")
	case lack == 0, low && now.Sub(st.Tried) < reliefEvery && !now.Before(st.Tried), s.isBusy("relief"):
		return nil, nil
	}
	release, err := s.hold(s.closing(), "relief")
	if err != nil {
		return nil, err
	}
	j, err := s.start("relief", s.Place(), "the headroom", func(ctx context.Context, j *job) (any, string, error) {
		defer release()
		j.begin(nil)
		st, err := s.relieve(ctx, j, st)
		if err != nil {
			return nil, "", err
		}
		j.remark() // somebody should know
		return nil, strings.Join(st.Did, " "), nil
	})
	if err != nil {
		release()
	}
	return j, err
}

// relieve takes one measure after the other until there is room again.
func (s *Site) relieve(ctx context.Context, j *job, st lowSpace) (lowSpace, error) {
	free, err := s.hold(ctx, "prune")
	if err != nil {
		return st, err
	}
	defer free()
	now := s.clock.Now()
	if st.Since.IsZero() {
		st.Since = now
	}
	st.Tried, st.Stopped, st.Did = now, false, nil
	if err := s.watchClock(); err != nil { // a wrong clock must not expire anything here either
		return st, err
	}
	held, err := s.cat.Setting(holdSetting)
	if err != nil {
		return st, err
	}
	for _, measure := range s.measures() {
		lack, _, _ := s.lacking()
		if lack == 0 {
			break
		}
		if measure == stopTaking {
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
	s.changed("snapshots")
	return st, s.putLowState(st)
}

func (s *Site) measures() []string {
	if len(s.cfg.WhenLow) > 0 {
		return s.cfg.WhenLow
	}
	return allMeasures
}

// giveUp removes as few of a measure's snapshots as give back what is lacking, and
// sweeps.
func (s *Site) giveUp(ctx context.Context, j *job, measure string, lack int64) (string, error) {
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
		back, err := s.store.Freed(ids[:mid])
		if err != nil {
			return "", err
		}
		if back >= lack {
			n = mid
		} else {
			least = mid + 1
		}
	}
	back, err := s.store.Freed(ids[:n])
	if err != nil {
		return "", err
	}
	if back == 0 {
		return "", nil // it would cost history and bring nothing
	}
	var names, lines []string
	for _, r := range rows[:n] {
		lines = append(lines, fmt.Sprintf("%s of %s, taken %s: removed for room (%s)", r.ID[:12], r.Volume, stamp(r.Began.Time), measure))
		names = append(names, r.ID)
	}
	j.logAll(lines)
	// Noted before, so that a crash in between is not taken for a loss that nobody meant.
	for _, r := range rows[:n] {
		if r.GraceUntil.IsZero() {
			r.GraceUntil, r.LetGo = catalog.At(s.clock.Now()), "removed for room ("+measure+")"
		}
	}
	if err := s.cat.SetGrace(rows[:n]...); err != nil {
		return "", err
	}
	if err := s.store.RemoveRoots(ids[:n]...); err != nil {
		return "", err
	}
	if err := s.cat.ForgetSnapshots(s.Place(), names...); err != nil {
		return "", err
	}
	s.changed("snapshots")
	if _, err := s.store.Sweep(ctx, store.SweepOptions{MinDead: 0.001}); err != nil {
		return "", err
	}
	what := map[string]string{shortenGrace: "in grace went before their grace was over", removeExpired: "that had expired went without grace",
		thinDensest: "went where they lay densest; the reach back in time is the same"}[measure]
	return fmt.Sprintf("%s %s, for %s.", many(n, "snapshot"), what, size(back)), nil
}

// candidates lists what a measure may remove, what goes first in front. Keep marks,
// floors, what is owed and the newest are never among them.
func (s *Site) candidates(measure string) ([]*catalog.Snapshot, error) {
	vols, err := s.cat.Volumes()
	if err != nil {
		return nil, err
	}
	var out []*catalog.Snapshot
	var thinned [][]*catalog.Snapshot
	for _, v := range vols {
		rs, err := s.rulesFor(v)
		if err != nil {
			return nil, err
		}
		d, err := s.decideWith(v, rs, s.clock.Now())
		if err != nil {
			return nil, err
		}
		switch measure {
		case shortenGrace, removeExpired:
			for i, r := range d.rows {
				graced := !r.GraceUntil.IsZero()
				if graced == (measure == shortenGrace) && (!d.verdicts[i].Kept() || putOut(r)) && !guarded(d.verdicts[i]) {
					out = append(out, r)
				}
			}
		case thinDensest:
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

// thinning orders the snapshots that only tiers and newest keep, the densest first.
func thinning(d *decided) (out []*catalog.Snapshot) {
	var rows []*catalog.Snapshot
	var taken []time.Time
	var may []bool
	for i := len(d.rows) - 1; i >= 0; i-- {
		r, v := d.rows[i], d.verdicts[i]
		if !r.GraceUntil.IsZero() || !v.Kept() || r.SetID != "" { // a set goes as a whole or not
			continue
		}
		rows, taken = append(rows, r), append(taken, r.Began.Time)
		may = append(may, !slices.ContainsFunc(v.Reasons, func(x retention.Reason) bool {
			return x.Rule != "newest" && !slices.ContainsFunc(retention.Tiers(), func(t retention.Tier) bool { return t.String() == x.Rule })
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
