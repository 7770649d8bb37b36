package site

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/core/retention"
	"candidharbor/internal/catalog"
	"candidharbor/internal/policy"
)

// dueVolume is a volume with what its policies say.
type dueVolume struct {
	v  *catalog.Volume
	rs *ruleset
}

// unit is what is taken together: one volume, or a group.
type unit struct {
	group *catalog.Group // nil: one volume
	all   []dueVolume
}

func (u *unit) name() string {
	if u.group != nil {
		return u.group.Name
	}
	return u.all[0].v.Name
}

func (u *unit) key() string { return "due " + u.members()[0] }

func (u *unit) members() []string {
	out := make([]string, len(u.all))
	for i, d := range u.all {
		out[i] = d.v.Name
	}
	return out
}

// units arranges the volumes whose snapshots are taken here. A group of which one volume
// is paused waits as a whole: its set could not be whole.
func (s *Site) units(vols []*catalog.Volume) ([]*unit, error) {
	groups, err := s.cat.Groups()
	if err != nil {
		return nil, err
	}
	of := map[string]*unit{}
	var out []*unit
	for _, g := range groups {
		u := &unit{group: g}
		for _, m := range g.Members.V {
			of[m] = u
		}
		out = append(out, u)
	}
	for _, v := range vols {
		if s.isPlace || !v.Protected || v.Origin != s.Name() || !v.Paused.IsZero() {
			continue
		}
		rs, err := s.rulesFor(v)
		if err != nil {
			return nil, err
		}
		u := of[v.Name]
		if u == nil {
			u = &unit{}
			out = append(out, u)
		}
		u.all = append(u.all, dueVolume{v, rs})
	}
	return slices.DeleteFunc(out, func(u *unit) bool {
		return len(u.all) == 0 || (u.group != nil && len(u.all) < len(u.group.Members.V))
	}), nil
}

// groupOf returns the group of a volume and all that are taken with it, in order; the
// group is nil when it is in none.
func (s *Site) groupOf(volume string) (*catalog.Group, []string, error) {
	groups, err := s.cat.Groups()
	if err != nil {
		return nil, nil, err
	}
	for _, g := range groups {
		if slices.Contains(g.Members.V, volume) {
			return g, g.Members.V, nil
		}
	}
	return nil, []string{volume}, nil
}

// holdsOf is how the writers of what is read together are held: as the group says, else as
// the policies of its volumes say.
func holdsOf(g *catalog.Group, rules ...*ruleset) []policy.Quiesce {
	if g != nil && g.Freeze != "" {
		return []policy.Quiesce{{Freeze: g.Freeze, Thaw: g.Thaw, Failing: g.Failing}}
	}
	var out []policy.Quiesce
	for _, rs := range rules {
		for _, p := range rs.policies {
			if p.Quiesce.Freeze != "" && !rs.proposed && !p.Paused {
				out = addHold(out, p.Quiesce)
			}
		}
	}
	return out
}

// addHold adds how writers are held; of two that differ only in what is done when it fails
// the stricter counts.
func addHold(all []policy.Quiesce, q policy.Quiesce) []policy.Quiesce {
	for i, o := range all {
		if o.Freeze == q.Freeze && o.Thaw == q.Thaw {
			if q.Failing == policy.FailingStop {
				all[i].Failing = policy.FailingStop
			}
			return all
		}
	}
	return append(all, q)
}

func setWords(g *catalog.Group, all []*reading) string {
	var files, bytes, stored, remarks int64
	for _, r := range all {
		files, bytes, stored, remarks = files+r.row.Files, bytes+r.row.Bytes, stored+r.row.Stored, remarks+r.row.Remarks
	}
	return fmt.Sprintf("a set of %d volumes of %s: %d files, %s, of which %s were new in the store%s", len(all), g.Name, files, size(bytes), size(stored), remarkWords(remarks))
}

// PutGroup makes a group or changes it.
func (s *Site) PutGroup(name string, ask api.GroupPut) (*api.Group, error) {
	if err := policy.CheckName("group", name); err != nil {
		return nil, &Error{Misuse, err}
	}
	members := slices.Compact(slices.Sorted(slices.Values(ask.Volumes)))
	if len(members) < 2 {
		return nil, bad("group %s has %s: a group holds two or more that belong together; name each", name, many(len(members), "volume"))
	}
	for _, m := range members {
		v, err := s.cat.Volume(m)
		if err != nil {
			return nil, err
		}
		if err := s.takeable(v); err != nil {
			return nil, err
		}
		if other, _, err := s.groupOf(m); err != nil {
			return nil, err
		} else if other != nil && other.Name != name {
			return nil, conflict("volume %s is in the group %s already: a volume is taken with one group; take it out there first", m, other.Name)
		}
	}
	q := policy.Quiesce{Freeze: ask.Freeze, Thaw: ask.Thaw, Failing: ask.Failing}
	if err := q.Check(); err != nil {
		return nil, bad("group %s: %s", name, err)
	}
	if err := s.knownHooks(q); err != nil {
		return nil, err
	}
	if old, err := s.cat.Group(name); err == nil && !ask.DropHooks {
		for what, h := range map[string][2]string{"freeze": {old.Freeze, ask.Freeze}, "thaw": {old.Thaw, ask.Thaw}} {
			if h[0] != "" && h[1] == "" {
				return nil, conflict("group %s has the hook %s to %s its writers, and this would drop it: name it again, or say that it is meant (--without-hooks); to change only one thing: candid group edit %s", name, h[0], what, name)
			}
		}
	} else if err != nil && !errors.Is(err, catalog.ErrNone) {
		return nil, err
	}
	g := &catalog.Group{Name: name, Members: catalog.JSON[[]string]{V: members}, Freeze: q.Freeze, Thaw: q.Thaw, Failing: q.Failing}
	if err := s.cat.PutGroup(g); err != nil {
		return nil, err
	}
	s.changed("volumes")
	return s.Group(name)
}

// EditGroup changes what is named of a group, and nothing else.
func (s *Site) EditGroup(name string, ask api.GroupEdit) (*api.Group, error) {
	g, err := s.cat.Group(name)
	if err != nil {
		return nil, err
	}
	put := api.GroupPut{Freeze: g.Freeze, Thaw: g.Thaw, Failing: g.Failing, DropHooks: true}
	for _, m := range ask.Remove {
		if !slices.Contains(g.Members.V, m) {
			return nil, conflict("volume %s is not in the group %s; nothing was changed", m, name)
		}
	}
	put.Volumes = slices.DeleteFunc(append(slices.Clone(g.Members.V), ask.Add...), func(m string) bool { return slices.Contains(ask.Remove, m) })
	if ask.DropHooks {
		put.Freeze, put.Thaw, put.Failing = "", "", ""
	}
	for field, to := range map[*string]*string{&put.Freeze: ask.Freeze, &put.Thaw: ask.Thaw, &put.Failing: ask.Failing} {
		if to != nil {
			*field = *to
		}
	}
	return s.PutGroup(name, put)
}

// RemoveGroup dissolves a group. Its volumes are taken each for itself from then on.
func (s *Site) RemoveGroup(name string) (string, error) {
	g, err := s.cat.Group(name)
	if err != nil {
		return "", err
	}
	if err := s.cat.RemoveGroup(name); err != nil {
		return "", err
	}
	s.changed("volumes")
	return fmt.Sprintf("The group %s is dissolved: %s are taken each for itself. Its sets stay sets.", name, strings.Join(g.Members.V, ", ")), nil
}

// Group returns one group with its newest set.
func (s *Site) Group(name string) (*api.Group, error) {
	g, err := s.cat.Group(name)
	if err != nil {
		return nil, err
	}
	return s.groupView(g)
}

// Groups lists all groups.
func (s *Site) Groups() ([]api.Group, error) {
	rows, err := s.cat.Groups()
	if err != nil {
		return nil, err
	}
	return views(rows, s.groupView)
}

func (s *Site) groupView(g *catalog.Group) (*api.Group, error) {
	out := &api.Group{Name: g.Name, Volumes: g.Members.V, Freeze: g.Freeze, Thaw: g.Thaw, Failing: g.Failing, Waiting: []string{}}
	var newest *catalog.Snapshot
	for _, m := range g.Members.V {
		v, err := s.cat.Volume(m)
		if err != nil {
			return nil, err
		}
		if !v.Paused.IsZero() {
			out.Waiting = append(out.Waiting, m)
		}
		row, err := s.cat.LastSnapshot(s.Place(), v.Lineage)
		if err != nil {
			return nil, err
		}
		if row != nil && row.SetName == g.Name && (newest == nil || row.Began.After(newest.Began.Time)) {
			newest = row
		}
	}
	if newest == nil {
		return out, nil
	}
	rows, err := s.cat.SetRows(s.Place(), newest.SetID)
	if err != nil {
		return nil, err
	}
	out.Newest = []api.SetMember{}
	for _, r := range rows {
		out.Newest = append(out.Newest, api.SetMember{ID: r.ID, Volume: r.Volume, Taken: r.Began.Time, SeenUntil: r.SeenUntil.Ptr(), Consistency: r.Consistency})
	}
	return out, nil
}

// set returns all snapshots here that were taken with one, itself among them.
func (s *Site) set(row *catalog.Snapshot) ([]*catalog.Snapshot, error) {
	if row.SetID == "" {
		return []*catalog.Snapshot{row}, nil
	}
	return s.cat.SetRows(row.Place, row.SetID)
}

// bySet keeps what would go of sets of which something stays: a set is decided as one.
func (s *Site) bySet(v *catalog.Volume, d *decided, now time.Time, rules func(*catalog.Volume) (*ruleset, error)) error {
	going, some := map[string][]int{}, false
	for i, r := range d.rows {
		some = some || r.SetID != ""
		if r.SetID != "" && !d.verdicts[i].Kept() {
			going[r.SetID] = append(going[r.SetID], i)
		}
	}
	if !some {
		return nil
	}
	mates, err := s.cat.SetMates(s.Place(), v.Name)
	if err != nil {
		return err
	}
	d.mates = mates
	if len(going) == 0 {
		return nil
	}
	for _, name := range mates {
		mate, err := s.cat.Volume(name)
		if errors.Is(err, catalog.ErrNone) {
			continue
		} else if err != nil {
			return err
		}
		rs, err := rules(mate)
		if err != nil {
			return err
		}
		rows, err := s.cat.Snapshots(s.Place(), name, catalog.SnapshotFilter{})
		if err != nil {
			return err
		}
		theirs, err := s.decideAlone(mate, rows, rs, now)
		if err != nil {
			return err
		}
		for k, r := range theirs.rows {
			at := going[r.SetID]
			if r.SetID == "" || len(at) == 0 || !theirs.verdicts[k].Kept() || !r.GraceUntil.IsZero() && putOut(r) {
				continue
			}
			reason := retention.Reason{Rule: "set", Text: name + " is kept: " + theirs.verdicts[k].Reasons[0].String()}
			if end, ok := theirs.verdicts[k].Ends(); ok {
				reason.Until = end
			}
			for _, i := range at {
				d.verdicts[i].Reasons = append(d.verdicts[i].Reasons, reason)
				d.verdicts[i].LetGo = ""
			}
		}
	}
	return nil
}

// unveil shows a set once all that comes along of it has arrived.
func (s *Site) unveil(row *catalog.Snapshot, of uint32) error {
	rows, err := s.cat.SetRows(row.Place, row.SetID)
	if err != nil || len(rows) < int(of) {
		return err
	}
	if err := s.cat.Unveil(row.Place, row.SetID); err != nil {
		return err
	}
	for _, r := range rows {
		s.verdicts.drop([]string{r.Volume})
		s.reached(r.Volume, r.Place, newestState(r))
	}
	return nil
}

// setWait is how long an arrived snapshot waits for the rest of its set before it is shown
// for itself.
const setWait = 7 * 24 * time.Hour

// explainGroup says with what a volume is taken, and how its writers are held.
func (s *Site) explainGroup(v *catalog.Volume, rs *ruleset, say func(format string, args ...any)) error {
	if v.Origin != s.Name() {
		return nil
	}
	g, members, err := s.groupOf(v.Name)
	if err != nil {
		return err
	}
	if g != nil {
		others := slices.DeleteFunc(slices.Clone(members), func(m string) bool { return m == v.Name })
		say("It is taken together with %s, as one set of the group %s, whenever one of them is due; what is kept of a set is all of it.", strings.Join(others, ", "), g.Name)
	}
	for _, q := range holdsOf(g, rs) {
		words := "nothing lets them go"
		if q.Thaw != "" {
			words = q.Thaw + " lets them go"
		}
		failing := "nothing is taken"
		if q.Failing == policy.FailingSpread {
			failing = "it is taken nevertheless, as spread"
		}
		say("While it is read its writers are held by the hook %s, and %s; if they cannot be held, %s.", q.Freeze, words, failing)
	}
	return nil
}
