package capture

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/policy"
	"candidharbor/internal/refusal"
	"candidharbor/internal/rules"
	"candidharbor/internal/run"
)

// dueVolume is a volume with what its policies say.
type dueVolume struct {
	v  *catalog.Volume
	rs *rules.Ruleset
}

// unit is what is taken together: one volume, or a group.
type unit struct {
	group *catalog.Group // nil: one volume
	All   []dueVolume
}

func (u *unit) name() string {
	if u.group != nil {
		return u.group.Name
	}
	return u.All[0].v.Name
}

// Key is held by what takes the unit.
func (u *unit) Key() run.Key { return run.KeyDue.Of(u.members()[0]) }

func (u *unit) members() []string {
	out := make([]string, len(u.All))
	for i, d := range u.All {
		out[i] = d.v.Name
	}
	return out
}

// Units arranges the volumes whose snapshots are taken here. A group of which one volume
// is paused waits as a whole: its set could not be whole.
func (s *Service) Units(vols []*catalog.Volume) ([]*unit, error) {
	groups, err := s.Catalog.Groups()
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
	backs, err := s.Catalog.StandBacks()
	if err != nil {
		return nil, err
	}
	down := map[string]bool{} // what lies here is what it was before another site was active
	for _, b := range backs {
		down[b.Lineage] = true
	}
	for _, v := range vols {
		if s.IsPlace || !v.Protected || !v.ActiveAt(s.Name()) || !v.Paused.IsZero() || down[v.Lineage] {
			continue
		}
		rs, err := s.rules.RulesFor(v)
		if err != nil {
			return nil, err
		}
		u := of[v.Name]
		if u == nil {
			u = &unit{}
			out = append(out, u)
		}
		u.All = append(u.All, dueVolume{v, rs})
	}
	return slices.DeleteFunc(out, func(u *unit) bool {
		return len(u.All) == 0 || (u.group != nil && len(u.All) < len(u.group.Members.V))
	}), nil
}

// GroupOf returns the group of a volume and all that are taken with it, in order; the
// group is nil when it is in none.
func (s *Service) GroupOf(volume string) (*catalog.Group, []string, error) {
	groups, err := s.Catalog.Groups()
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

// HoldsOf is how the writers of what is read together are held: as the group says, else as
// the policies of its volumes say.
func HoldsOf(g *catalog.Group, rules ...*rules.Ruleset) []policy.Quiesce {
	if g != nil && g.Freeze != "" {
		return []policy.Quiesce{{Freeze: g.Freeze, Thaw: g.Thaw, Failing: g.Failing}}
	}
	var out []policy.Quiesce
	for _, rs := range rules {
		for _, p := range rs.Policies {
			if p.Quiesce.Freeze != "" && !rs.Proposed && !p.Paused {
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
	return fmt.Sprintf("a set of %d volumes of %s: %s, %s, of which %s were new in the store%s", len(all), g.Name,
		phrase.Many(int(files), "file"), phrase.Size(bytes), phrase.Size(stored), RemarkWords(remarks))
}

// PutGroup makes a group or changes it.
func (s *Service) PutGroup(name string, ask api.GroupPut) (*api.Group, error) {
	if err := policy.CheckName("group", name); err != nil {
		return nil, refusal.Wrap(refusal.Misuse, err)
	}
	members := slices.Compact(slices.Sorted(slices.Values(ask.Volumes)))
	if len(members) < 2 {
		return nil, refusal.Badf("group %s has %s: a group holds two or more that belong together; name each", name,
			phrase.Many(len(members), "volume"))
	}
	for _, m := range members {
		v, err := s.Catalog.Volume(m)
		if err != nil {
			return nil, err
		}
		if err := s.takeable(v); err != nil {
			return nil, err
		}
		if other, _, err := s.GroupOf(m); err != nil {
			return nil, err
		} else if other != nil && other.Name != name {
			return nil, refusal.Conflictf("volume %s is in the group %s already: a volume is taken with one group; take it "+
				"out there first", m, other.Name)
		}
	}
	q := policy.Quiesce{Freeze: ask.Freeze, Thaw: ask.Thaw, Failing: ask.Failing}
	if err := q.Check(); err != nil {
		return nil, refusal.Badf("group %s: %s", name, err)
	}
	if err := s.KnownHooks(q); err != nil {
		return nil, err
	}
	if old, err := s.Catalog.Group(name); err == nil && !ask.DropHooks {
		for what, h := range map[string][2]string{"freeze": {old.Freeze, ask.Freeze}, "thaw": {old.Thaw, ask.Thaw}} {
			if h[0] != "" && h[1] == "" {
				return nil, refusal.Conflictf("group %s has the hook %s to %s its writers, and this would drop it: name it "+
					"again, or say that it is meant (--without-hooks); to change only one thing: candid group edit %s", name, h[0],
					what, name)
			}
		}
	} else if err != nil && !errors.Is(err, catalog.ErrNone) {
		return nil, err
	}
	g := &catalog.Group{Name: name, Members: catalog.JSON[[]string]{V: members}, Freeze: q.Freeze, Thaw: q.Thaw,
		Failing: q.Failing}
	if err := s.Catalog.PutGroup(g); err != nil {
		return nil, err
	}
	s.run.Changed("volumes")
	return s.Group(name)
}

// EditGroup changes what is named of a group, and nothing else.
func (s *Service) EditGroup(name string, ask api.GroupEdit) (*api.Group, error) {
	g, err := s.Catalog.Group(name)
	if err != nil {
		return nil, err
	}
	put := api.GroupPut{Freeze: g.Freeze, Thaw: g.Thaw, Failing: g.Failing, DropHooks: true}
	for _, m := range ask.Remove {
		if !slices.Contains(g.Members.V, m) {
			return nil, refusal.Conflictf("volume %s is not in the group %s; nothing was changed", m, name)
		}
	}
	put.Volumes = slices.DeleteFunc(append(slices.Clone(g.Members.V), ask.Add...), func(m string) bool {
		return slices.Contains(ask.Remove, m)
	})
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
func (s *Service) RemoveGroup(name string) (string, error) {
	g, err := s.Catalog.Group(name)
	if err != nil {
		return "", err
	}
	if err := s.Catalog.RemoveGroup(name); err != nil {
		return "", err
	}
	s.run.Changed("volumes")
	return fmt.Sprintf("The group %s is dissolved: %s are taken each for itself. Its sets stay sets.", name,
		strings.Join(g.Members.V, ", ")), nil
}

// Group returns one group with its newest set.
func (s *Service) Group(name string) (*api.Group, error) {
	g, err := s.Catalog.Group(name)
	if err != nil {
		return nil, err
	}
	return s.groupView(g)
}

// Groups lists all groups.
func (s *Service) Groups() ([]api.Group, error) {
	rows, err := s.Catalog.Groups()
	if err != nil {
		return nil, err
	}
	return catalog.Each(rows, s.groupView)
}

func (s *Service) groupView(g *catalog.Group) (*api.Group, error) {
	said, err := s.Catalog.Descriptions(catalog.DescribedGroup)
	if err != nil {
		return nil, err
	}
	out := &api.Group{Name: g.Name, Description: said[g.Name],
		Volumes: g.Members.V, Freeze: g.Freeze, Thaw: g.Thaw, Failing: g.Failing,
		Waiting: []string{}}
	var newest *catalog.Snapshot
	for _, m := range g.Members.V {
		v, err := s.Catalog.Volume(m)
		if err != nil {
			return nil, err
		}
		if !v.Paused.IsZero() {
			out.Waiting = append(out.Waiting, m)
		}
		row, err := s.Catalog.LastSnapshot(s.Place(), v.Lineage)
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
	rows, err := s.Catalog.SetRows(s.Place(), newest.SetID)
	if err != nil {
		return nil, err
	}
	out.Newest = []api.SetMember{}
	for _, r := range rows {
		out.Newest = append(out.Newest, api.SetMember{ID: r.ID, Volume: r.Volume, Taken: r.Began.Time,
			SeenUntil: r.SeenUntil.Ptr(), Consistency: r.Consistency})
	}
	return out, nil
}

// Unveil shows a set once all that comes along of it has arrived.
func (s *Service) Unveil(row *catalog.Snapshot, of uint32) error {
	rows, err := s.Catalog.SetRows(row.Place, row.SetID)
	if err != nil || len(rows) < int(of) {
		return err
	}
	if err := s.Catalog.Unveil(row.Place, row.SetID); err != nil {
		return err
	}
	for _, r := range rows {
		s.rules.ForgetVerdicts([]string{r.Volume})
		s.rules.Reached(r.Volume, r.Place, rules.NewestState(r))
	}
	return nil
}

// SetWait is how long an arrived snapshot waits for the rest of its set before it is shown
// for itself.
const SetWait = 7 * 24 * time.Hour
