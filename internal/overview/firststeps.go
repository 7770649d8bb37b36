package overview

import (
	"cmp"
	"path/filepath"
	"time"

	"candidharbor/api"
	"candidharbor/internal/recovery"
)

// putAwaySetting is the setting that says that nobody wants to see the first steps any more.
const putAwaySetting = "first steps put away"

// firstLook is what the first steps go by.
type firstLook struct {
	root, volume, chosen, snapshot, peer, route string // the first of each; empty: there is none
	copied, back                                bool
	grown                                       bool // it holds copies of others, or is in use for long
}

// beginsFor is how long after its first volume a site is one that begins.
const beginsFor = 30 * 24 * time.Hour

// FirstSteps tells how far this site is on the way from nothing to a file brought back from another site.
func (s *Service) FirstSteps() (*api.FirstSteps, error) {
	l, err := s.lookFirst()
	if err != nil {
		return nil, err
	}
	away, err := s.Catalog.Setting(putAwaySetting)
	if err != nil {
		return nil, err
	}
	out := &api.FirstSteps{Steps: s.firstSteps(l), PutAway: away != ""}
	for _, st := range out.Steps {
		if st.Done {
			out.Done++
		}
	}
	out.Offered = !out.PutAway && !l.grown && out.Done < len(out.Steps)
	return out, nil
}

// SetFirstSteps hides the first steps, or shows them again.
func (s *Service) SetFirstSteps(ask api.FirstStepsSet) (*api.FirstSteps, error) {
	value := ""
	if ask.PutAway {
		value = "yes"
	}
	if err := s.Catalog.Set(putAwaySetting, value); err != nil {
		return nil, err
	}
	s.run.Tell("first steps")
	return s.FirstSteps()
}

func (s *Service) firstSteps(l *firstLook) []api.FirstStep {
	volume, peer := cmp.Or(l.volume, "VOLUME"), cmp.Or(l.peer, "SITE")
	root := cmp.Or(l.root, "DIR")
	return []api.FirstStep{
		{Code: "root", Done: l.root != "", Text: "Say which directories of this host may be read and written",
			Help:    "Nothing outside these roots is ever touched. They stand in site.yaml, as roots.",
			Command: "candid serve --data " + s.Path + " --root /srv/shares"},
		{Code: "volume", Done: l.volume != "", Text: "Choose what to protect",
			Help:    "A directory, or a disk that this site serves. What is there is looked at before it is stored.",
			Command: "candid volume uncovered", Link: "/volumes?do=add"},
		{Code: "policy", Done: l.chosen != "", Text: "Write a policy: when to take snapshots, and how long they stay",
			Help:    "Begin with an example; what it would keep in a year is shown before it is stored.",
			Command: "candid policy example", Link: "/policies?policy=%2B"},
		{Code: "snapshot", Done: l.snapshot != "", Text: "Take the first snapshot",
			Help:    "The policy takes the next ones by itself.",
			Command: "candid snapshot take " + volume, Link: "/volumes/" + l.volume},
		{Code: "site", Done: l.peer != "", Text: "Pair a second site, so that a fire here takes only one of the copies",
			Help: "There, candid site invite prints an invitation that counts once; use it here. A disk that comes and " +
				"goes is a beginning too: candid place attach.",
			Command: "candid site pair INVITATION", Link: "/sites?do=pair"},
		{Code: "route", Done: l.route != "", Text: "Open a route, over which every new snapshot goes there",
			Help:    "What it would carry, and about how long that takes, is told first.",
			Command: "candid route add to-" + peer + " --to " + peer + " --volumes name=" + volume,
			Link:    "/sites?do=route"},
		{Code: "copy", Done: l.copied, Text: "See the first copy arrive", Help: "It is checked there before it counts.",
			Command: "candid route list", Link: "/sites"},
		{Code: "back", Done: l.back, Text: "Bring a file back from there, before you need to",
			Help: "candid browse " + volume + " shows what there is. It is laid beside the original, which is not touched.",
			Command: "candid restore " + volume + " PATH --at latest --to " + filepath.Join(root, "brought-back") +
				" --from-site " + peer, Link: "/volumes/" + l.volume},
	}
}

func (s *Service) lookFirst() (*firstLook, error) {
	l := &firstLook{}
	if len(s.Conf.Roots) > 0 {
		l.root = s.Conf.Roots[0]
	}
	vols, err := s.Catalog.Volumes()
	if err != nil {
		return nil, err
	}
	look, err := s.lookAt(vols, s.Clock.Now())
	if err != nil {
		return nil, err
	}
	for _, v := range vols {
		l.grown = l.grown || !v.ActiveAt(s.Name()) || s.Clock.Now().Sub(v.Added.Time) > beginsFor
		if !v.Protected || !v.ActiveAt(s.Name()) {
			continue
		}
		l.volume = cmp.Or(l.volume, v.Name)
		if look.Counts[v.Name][0] > 0 {
			l.snapshot = cmp.Or(l.snapshot, v.Name)
		}
		if l.chosen == "" {
			rs, err := s.rules.RulesFor(v)
			if err != nil {
				return nil, err
			}
			if len(rs.Policies) > 0 {
				l.chosen = v.Name
			}
		}
	}
	return l, s.lookFar(l)
}

// lookFar sees what stands of other places.
func (s *Service) lookFar(l *firstLook) error {
	peers, err := s.Catalog.Peers()
	if err != nil {
		return err
	}
	routes, err := s.Catalog.Routes()
	if err != nil {
		return err
	}
	if len(peers) > 0 {
		l.peer = peers[0].Name
	}
	for _, r := range routes {
		if !r.Terms.V.Pull {
			l.route, l.peer = cmp.Or(l.route, r.Name), r.Peer
		}
	}
	carried, taken, err := s.Catalog.AnyElsewhere()
	if err != nil {
		return err
	}
	if taken { // by a site that takes copies for itself
		l.route = cmp.Or(l.route, "taken")
	}
	l.copied = carried || taken
	back, err := s.Catalog.Setting(recovery.BroughtBack)
	l.back = back != ""
	return err
}

// aloneSentence says that there is no copy anywhere else, while that is so.
func (s *Service) aloneSentence(st *api.Status, add func(api.Sentence)) error {
	here := 0
	for _, v := range st.Volumes {
		if v.Protected && v.Active == s.Name() && v.Snapshots > 0 {
			here++
		}
	}
	peers, err := s.Catalog.Peers()
	if err != nil || here == 0 || len(peers) > 0 || s.IsPlace {
		return err
	}
	add(api.Sentence{Text: "All snapshots lie at this site alone: what takes the site takes every copy.",
		Weight: "look", Next: "Pair a second site", Command: "candid begin", Link: "/sites"})
	return nil
}
