package outlet

import (
	"fmt"
	"slices"

	"candidharbor/api"
	"candidharbor/core/pace"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/run"
)

// Outlet returns one outlet.
func (s *Service) Outlet(name string) (*api.Outlet, error) {
	o, err := s.Catalog.Outlet(name)
	if err != nil {
		return nil, err
	}
	vols, err := s.Catalog.Volumes()
	if err != nil {
		return nil, err
	}
	newest, err := s.Catalog.NewestOf(s.Place())
	if err != nil {
		return nil, err
	}
	return s.view(o, vols, newest)
}

// Outlets lists all outlets.
func (s *Service) Outlets() ([]api.Outlet, error) {
	rows, err := s.Catalog.Outlets()
	if err != nil || len(rows) == 0 {
		return []api.Outlet{}, err
	}
	vols, err := s.Catalog.Volumes()
	if err != nil {
		return nil, err
	}
	newest, err := s.Catalog.NewestOf(s.Place())
	if err != nil {
		return nil, err
	}
	return catalog.Each(rows, func(o *catalog.Outlet) (*api.Outlet, error) { return s.view(o, vols, newest) })
}

func (s *Service) view(o *catalog.Outlet, vols []*catalog.Volume, newest map[string]catalog.Newest) (*api.Outlet,
	error) {
	out := &api.Outlet{Name: o.Name, To: addressOf(o).String(), HostKey: fingerprint(o.HostKey),
		Labels: o.Volumes.V.Labels, Names: o.Volumes.V.Names, PausedSince: o.Paused.Ptr(), LastOK: o.LastOK.Ptr(),
		FailingSince: o.FailingSince.Ptr(), NextTry: o.NextTry.Ptr(), LastError: o.LastError, Cause: string(o.LastCause),
		Volumes: []api.OutletVolume{}}
	if o.Cap > 0 {
		out.Cap = pace.RateWords(o.Cap)
	}
	lies, err := s.lies(o.Name)
	if err != nil {
		return nil, err
	}
	var files []*catalog.Volume
	files, out.Disks = chosen(o, vols)
	var n counts
	for _, v := range files {
		ov := api.OutletVolume{Volume: v.Name}
		last, taken := newest[v.Lineage]
		if is := lies[v.Lineage]; is != nil {
			ov.Snapshot, ov.Since, ov.Verified, ov.Error = is.Snapshot, is.At.Ptr(), is.Verified.Ptr(), is.Error
			if taken && last.ID == is.Snapshot {
				ov.AsOf = last.Began.Ptr()
			} else if row, err := s.Catalog.SnapshotAt(s.Place(), is.Snapshot); err == nil && row != nil {
				ov.AsOf = row.Began.Ptr()
			}
		}
		if ov.Behind = taken && last.ID != ov.Snapshot; ov.Behind {
			n.behind++
			if ov.Snapshot == "" {
				n.first++
			}
		} else if ov.Snapshot == "" {
			n.untaken++
		}
		out.Volumes = append(out.Volumes, ov)
	}
	slices.SortFunc(out.Volumes, func(a, b api.OutletVolume) int {
		switch {
		case a.Volume < b.Volume:
			return -1
		case a.Volume > b.Volume:
			return 1
		}
		return 0
	})
	s.say(out, o, n)
	return out, nil
}

// counts of the volumes of an outlet.
type counts struct {
	behind  int // with a newer state here than there
	first   int // of them those of which nothing lies there
	untaken int // without a snapshot
}

// say tells how an outlet stands.
func (s *Service) say(out *api.Outlet, o *catalog.Outlet, n counts) {
	say := func(state, format string, args ...any) { out.State, out.Sentence = state, fmt.Sprintf(format, args...) }
	running := s.run.IsHeld(run.KeyOutlet.Of(o.Name))
	lack := fmt.Sprintf("%s %s newer here than there", phrase.Many(n.behind, "volume"), phrase.Pick(n.behind, "is", "are"))
	if n.behind == 0 {
		lack = "what lies there is the newest all the same"
	}
	switch {
	case out.PausedSince != nil:
		say("paused", "It is paused since %s; %s.", phrase.Stamp(*out.PausedSince), lack)
	case o.Failures > 0 && o.LastCause == catalog.OutletUnreachable:
		say("no line", "%s cannot be reached since %s: %s. Next try %s; %s.", o.Address, phrase.Stamp(o.FailingSince.Time),
			o.LastError, phrase.Stamp(o.NextTry.Time), lack)
	case o.Failures > 0:
		say("refused", "It is not brought up to date since %s: %s. Next try %s; %s.", phrase.Stamp(o.FailingSince.Time),
			o.LastError, phrase.Stamp(o.NextTry.Time), lack)
	case len(out.Volumes) == 0:
		say("waiting", "It waits for a volume of files that it chooses; there is none.")
	case n.untaken == len(out.Volumes):
		say("waiting", "It waits for the first snapshot of %s.", phrase.Many(n.untaken, "volume"))
	case n.first > 0:
		say("seeding", "The first copies of %s are still to be laid out there.%s", phrase.Many(n.first, "volume"),
			now(running))
	case n.behind > 0:
		say("behind", "%s.%s", phrase.UpperFirst(lack), now(running))
	default:
		rest := ""
		if n.untaken > 0 {
			rest = fmt.Sprintf(" Of %s there is no snapshot yet.", phrase.Many(n.untaken, "other volume"))
		}
		say("current", "The newest state of %s lies there.%s", phrase.Many(len(out.Volumes)-n.untaken, "volume"), rest)
	}
}

func now(running bool) string {
	if running {
		return " That is being done now."
	}
	return ""
}
