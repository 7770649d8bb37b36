package upkeep

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/run"
	"candidharbor/internal/store"
)

// damageSetting holds what the last verification left damaged.
const damageSetting = "store damage"

// damageLeft is what a verification found and could not get back.
type damageLeft struct {
	At        time.Time `json:"at"`
	Objects   int       `json:"objects"`
	Records   int       `json:"records"`
	Snapshots []string  `json:"snapshots"`
	More      int       `json:"more"`
	Catalogue string    `json:"catalogue,omitempty"`
}

const damagedListed = 20

func leftOf(res *store.VerifyResult, at time.Time) *damageLeft {
	d := &damageLeft{At: at, Records: len(res.Records)}
	seen := map[object.ID]bool{}
	note := func(id object.ID) {
		if !seen[id] {
			seen[id] = true
			if len(d.Snapshots) < damagedListed {
				d.Snapshots = append(d.Snapshots, id.String())
			} else {
				d.More++
			}
		}
	}
	for _, x := range res.Damage {
		if len(x.Snapshots) > 0 {
			d.Objects++
		}
		for _, sn := range x.Snapshots {
			note(sn.ID)
		}
	}
	for _, r := range res.Records {
		note(r.Snapshot)
	}
	return d
}

func (d *damageLeft) any() bool { return d.Objects+d.Records > 0 || d.Catalogue != "" }

// sentence tells a person what is damaged and what to do.
func (d *damageLeft) sentence() api.Sentence {
	x := api.Sentence{Weight: "act", About: "store damaged", Next: "Ask other sites again", Command: "candid store verify",
		Link: "/space"}
	var parts []string
	if d.Objects > 0 {
		parts = append(parts, phrase.Many(d.Objects, "object"))
	}
	if d.Records > 0 {
		parts = append(parts, phrase.Many(d.Records, "record"))
	}
	if len(parts) > 0 {
		n := len(d.Snapshots) + d.More
		x.Text = fmt.Sprintf("The verification of %s found %s damaged or missing, which concerns %s", phrase.Stamp(d.At),
			strings.Join(parts, " and "), phrase.Many(n, "snapshot"))
		if n > 0 {
			x.Text += ": " + shortIDs(d.Snapshots, d.More)
		}
		x.Text += ". All else is whole; a restore gives all that is not damaged."
	}
	if d.Catalogue != "" {
		x.Text = strings.TrimSpace(x.Text + " The catalogue is not as it was written: " + d.Catalogue + ".")
		if d.Objects+d.Records == 0 {
			x.Next, x.Command = "Stop the service, put the newest of the copies in its place, start it again",
				"candid store copies"
		}
	}
	return x
}

func shortIDs(ids []string, more int) string {
	short := make([]string, 0, 4)
	for i, id := range ids {
		if i == 3 && len(ids)+more > 4 {
			return fmt.Sprintf("%s and %d more", strings.Join(short, ", "), len(ids)+more-3)
		}
		short = append(short, id[:12])
	}
	return strings.Join(short, ", ")
}

// DamageSentence is what to say of the store until all is whole again.
func (s *Service) DamageSentence() (x api.Sentence, is bool) {
	raw, err := s.Catalog.Setting(damageSetting)
	var d damageLeft
	if err == nil && raw != "" && json.Unmarshal([]byte(raw), &d) == nil && d.any() {
		return d.sentence(), true
	}
	if f := s.Store.Findings(); len(f) > 0 && d.At.Before(s.run.Started()) {
		return api.Sentence{Text: findingText(f), Weight: "act", About: "store damaged", Next: "Look what it concerns",
			Command: "candid store verify", Link: "/space"}, true
	}
	return x, false
}

func findingText(f []store.Finding) string {
	what := map[string]string{
		store.FindLog:     "a log of the store was damaged or cut short",
		store.FindIndex:   "the index of the store was lost or damaged and was made anew",
		store.FindDamaged: "the list of damaged objects was damaged itself",
	}
	for _, x := range f {
		if text := what[x.Code]; text != "" {
			return fmt.Sprintf("Since the service started %s (%s). A verification tells whether any snapshot is concerned.",
				text, x.File)
		}
	}
	return "The store was found damaged. A verification tells whether any snapshot is concerned."
}

// Suspect reports whether only a verification can tell if everything is whole: something was
// put aside, or found damaged, since the last one.
func (s *Service) Suspect() bool {
	raw, err := s.Catalog.Setting(damageSetting)
	var d damageLeft
	if err == nil && raw != "" && json.Unmarshal([]byte(raw), &d) != nil {
		return true
	}
	return s.Store.Aside() > 0 || len(s.Store.Findings()) > 0 && d.At.Before(s.run.Started())
}

// Verify starts a run that reads everything stored, recomputes every identity and compares
// every snapshot with what is stored. What is damaged is got back from other sites. It
// fails when anything is left that is not whole.
func (s *Service) Verify(by string) (api.Run, error) {
	j, err := s.run.Start("verify", s.Place(), by, s.verify)
	if err != nil {
		return api.Run{}, err
	}
	return j.View(), nil
}

func (s *Service) verify(ctx context.Context, j *run.Job) (any, string, error) {
	j.Say("waiting for another verification")
	release, err := s.run.Hold(ctx, run.KeyVerify.Of(""))
	if err != nil {
		return nil, "", err
	}
	defer release()
	var done, total atomic.Int64
	j.Begin(func() api.Progress { return api.Progress{DoneBytes: done.Load(), TotalBytes: total.Load()} })
	j.Say("reading")
	opt := store.VerifyOptions{Progress: func(d, t int64) { done.Store(d); total.Store(t) }}
	first, err := s.Store.Verify(ctx, opt)
	if err != nil {
		return nil, "", err
	}
	s.logDamage(j, &first)
	res, told := first, []string{}
	for !res.Whole() { // what was unreadable may have hidden what lies below it
		words, healed, err := s.routes.Heal(ctx, j, &res)
		if err != nil {
			return first, "", err
		}
		if words != "" && !slices.Contains(told, words) {
			told = append(told, words)
		}
		if !healed {
			break
		}
		opt.Again = true
		if res, err = s.Store.Verify(ctx, opt); err != nil {
			return first, "", err
		}
	}
	left := leftOf(&res, s.Clock.Now())
	if err := s.Catalog.Check(ctx); errors.Is(err, catalog.ErrDamaged) {
		left.Catalogue = err.Error()
	} else if err != nil {
		return first, "", err
	}
	if err := s.noteDamageLeft(left); err != nil {
		return first, "", err
	}
	j.Logf("%s compared with index, packs and censuses, and every record of a snapshot and mark",
		phrase.Many(first.Snapshots, "snapshot"))
	if left.any() {
		return first, "", errors.New(strings.TrimSuffix(left.sentence().Text, ".") + otherSites(told) +
			"; the log names the snapshots and paths. The next snapshot of an undamaged volume puts back what it still has")
	}
	if !first.Whole() {
		j.Remark()
		return first, fmt.Sprintf("%s found damaged, and all is whole again%s",
			phrase.Many(len(first.Damage)+len(first.Records), "stored part"), otherSites(told)), nil
	}
	if n := len(first.Damage); n > 0 {
		j.Remark()
		return first, fmt.Sprintf("%s whole; %s that nothing needs any more %s damaged, and a sweep takes %s away: "+
			"look at the disk", phrase.ManyAre(first.Snapshots, "snapshot"), phrase.Many(n, "stored part"),
			phrase.Pick(n, "is", "are"), phrase.Pick(n, "it", "them")), nil
	}
	return first, fmt.Sprintf("%d objects, %s, %s: all as written", first.Objects, phrase.Size(first.Bytes),
		phrase.Many(first.Snapshots, "snapshot")), nil
}

func otherSites(told []string) string {
	if len(told) == 0 {
		return ""
	}
	return ". Other sites were asked: " + strings.Join(told, "; ")
}

func (s *Service) noteDamageLeft(left *damageLeft) error {
	text, err := json.Marshal(left)
	if err != nil {
		return err
	}
	defer s.run.Tell("alarms")
	return s.Catalog.Set(damageSetting, string(text))
}

func (s *Service) logDamage(j *run.Job, res *store.VerifyResult) {
	for _, d := range res.Damage {
		if d.Pack == "" {
			j.Logf("%s %s: %s", d.Kind, d.Object.String()[:12], d.What)
		} else {
			j.Logf("%s at byte %d of %s: %s", d.Kind, d.Offset, d.Pack, d.What)
		}
		for _, sn := range d.Snapshots {
			for _, p := range sn.Paths {
				j.Logf("  concerns %s in snapshot %s", phrase.Printable([]byte(p)), sn.ID.String()[:12])
			}
			if sn.More > 0 {
				j.Logf("  and %d more paths in snapshot %s", sn.More, sn.ID.String()[:12])
			}
		}
	}
	for _, r := range res.Records {
		j.Logf("%s, of snapshot %s: %s", r.File, r.Snapshot.String()[:12], r.What)
	}
}
