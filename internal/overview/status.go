package overview

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/internal/authority"
	"candidharbor/internal/catalog"
	"candidharbor/internal/datadir"
	"candidharbor/internal/phrase"
	"candidharbor/internal/route"
	"candidharbor/internal/rules"
)

// volumeView describes a volume and how well it is protected.
func (s *Service) volumeView(v *catalog.Volume, look *catalog.Looks) (*api.Volume, error) {
	rs, err := s.rules.RulesFor(v)
	if err != nil {
		return nil, err
	}
	now := s.Clock.Now()
	out := &api.Volume{Name: v.Name, Kind: v.Kind, Origin: v.Origin, Active: v.Active, Path: v.Path, Labels: v.Labels.V,
		Excludes: v.Excludes.V, Added: v.Added.Time,
		Protected: v.Protected, PausedSince: v.Paused.Ptr(), Policies: []string{}, Snapshots: look.Counts[v.Name][0],
		InGrace: look.Counts[v.Name][1], Places: []api.PlaceState{}}
	for _, p := range rs.Policies {
		name := p.Name
		if rs.Proposed {
			name += " (proposed by " + v.Origin + ")"
			out.RulesProposed = v.Proposed
		}
		out.Policies = append(out.Policies, name)
	}
	if next, ok := rs.Next(now); ok && v.Protected && v.Paused.IsZero() && v.ActiveAt(s.Name()) {
		out.NextDue = &next
	}
	out.Following = s.capture.Followed(v.Lineage)
	g := look.ByGroup[v.Name]
	if g != nil && v.ActiveAt(s.Name()) {
		out.Group = g.Name
	}
	out.OutOfTurn = look.OutOfTurn[v.Name]
	if !v.ActiveAt(s.Name()) {
		out.Standby = s.routes.StandbyView(v)
	}
	var newest time.Time
	if last := look.Last[v.Lineage]; last != nil {
		newest = last.Newest()
		out.Newest, out.LastFiles, out.LastBytes = &newest, last.Files, last.Bytes
	}
	here := placeState(s.Place(), newest, rs.Objectives[s.Place()], 0, now)
	out.Places = append(out.Places, here)
	for _, r := range look.Routes {
		if !s.routes.Carries(r, v) {
			continue
		}
		rv, err := s.routes.FarState(r, v, rs, now)
		if err != nil {
			return nil, err
		}
		var at time.Time
		if rv.Newest != nil {
			at = *rv.Newest
		}
		out.Places = append(out.Places, placeState(r.Peer, at, rs.Objectives[r.Peer], rv.Backlog, now))
	}
	for _, told := range look.Reports[v.Lineage] {
		if !slices.ContainsFunc(out.Places, func(p api.PlaceState) bool { return p.Place == told.Peer }) {
			p := placeState(told.Peer, told.Newest.Time, rs.Objectives[told.Peer], 0, now)
			p.Told = told.At.Ptr()
			out.Places = append(out.Places, p)
		}
	}
	err = s.protection(out, v, rs, look.Gaps[v.Name], newest, now)
	if err != nil || out.Group == "" || out.PausedSince != nil {
		return out, err
	}
	for _, m := range g.Members.V {
		if mate, err := s.Catalog.Volume(m); err == nil && !mate.Paused.IsZero() {
			out.NextDue = nil
			out.Sentence += fmt.Sprintf(" Its group %s waits, because %s is paused: nothing is taken of it.", g.Name, m)
			break
		}
	}
	return out, nil
}

func placeState(place string, newest time.Time, objective time.Duration, backlog int, now time.Time) api.PlaceState {
	p := api.PlaceState{Place: place, State: "on target", ObjectiveSeconds: int64(objective.Seconds()), Backlog: backlog}
	if newest.IsZero() {
		p.State = "unprotected"
		return p
	}
	p.Newest = &newest
	lag := max(0, now.Sub(newest))
	p.LagSeconds = int64(lag.Seconds())
	if objective > 0 && lag > objective {
		p.State = "late"
	}
	return p
}

// protection sums a volume's places up in one word and a sentence.
func (s *Service) protection(out *api.Volume, v *catalog.Volume, rs *rules.Ruleset, gap *catalog.Gap,
	newest, now time.Time) error {
	told := func(cause, at string) { out.Cause, out.CauseAt = cause, at }
	switch {
	case !v.ActiveAt(s.Name()):
		out.Protection = "on target"
		out.Sentence = fmt.Sprintf("Copies of %s, a volume of the site %s.", route.NameAtOrigin(v), v.Origin)
		switch {
		case v.ActiveSite() == authority.Nobody:
			out.Sentence = fmt.Sprintf("It is not known who is active of it: candid authority show %s.", v.Name)
			out.Protection = "late"
			return nil
		case v.Origin == s.Name():
			out.Sentence = fmt.Sprintf("Active at %s; what is here follows it.", v.ActiveSite())
		case v.Active != v.Origin:
			out.Sentence = fmt.Sprintf("Copies of %s, a volume of the site %s, which is active at %s.", route.NameAtOrigin(v),
				v.Origin, v.Active)
		}
		if v.Part != "" {
			out.Sentence = fmt.Sprintf("Copies of a part of %s, a volume of the site %s: %s.", route.NameAtOrigin(v), v.Origin,
				v.Part)
		}
		if v.Offered != "" {
			less, err := s.rules.Loosened(v, v.Offered)
			if err != nil {
				return err
			}
			out.Offered = less
			out.Sentence += fmt.Sprintf(" %s proposes to keep less here: %s. Until that is accepted, what either the old or "+
				"the new rules keep stays.", v.Origin, strings.Join(less, "; "))
		}
		if p := out.Places[0]; p.State == "late" {
			out.Protection = "late"
			told(api.CauseLateCopy, v.ActiveSite())
			out.Sentence = fmt.Sprintf("The newest copy from %s is %s old; the objective here is %s.", v.Active,
				phrase.Ago(now.Sub(newest)), phrase.Ago(time.Duration(p.ObjectiveSeconds)*time.Second))
		}
		return nil
	case !v.Protected:
		for i := range out.Places {
			out.Places[i].State = "unprotected"
		}
		out.Protection, out.Sentence = "unprotected", "It was removed: nothing is taken any more, its snapshots stay "+
			"until they are removed for themselves."
		return nil
	case !v.Paused.IsZero():
		for i := range out.Places {
			out.Places[i].State = "paused"
		}
		told(api.CausePaused, "")
		out.Protection, out.Sentence = "paused", "It "+pausedWords(v.Paused.Time)
		return nil
	case len(rs.Paused) > 0 && len(rs.Take) == 0:
		told(api.CausePolicyPaused, "")
		out.Protection, out.Sentence = "paused", fmt.Sprintf("Policy %s is paused: nothing is taken, and nothing it has "+
			"here expires.", strings.Join(rs.Paused, ", "))
		return nil
	case len(rs.Policies) == 0:
		for i := range out.Places {
			out.Places[i].State = "unprotected"
		}
		told(api.CauseNoPolicy, "")
		out.Protection, out.Sentence = "unprotected", "No policy chooses it: nothing is taken by itself."
		return nil
	case len(rs.Take) == 0:
		told(api.CauseNoCadence, "")
		out.Protection, out.Sentence = "unprotected", "Its policies take nothing by themselves: none has a cadence."
		return nil
	case newest.IsZero():
		told(api.CauseNoSnapshot, "")
		out.Protection, out.Sentence = "unprotected", "It has no snapshot yet."
		if out.NextDue != nil {
			out.Sentence += " The first is due " + phrase.Stamp(*out.NextDue) + "."
		}
		return nil
	}
	for _, p := range out.Places {
		switch {
		case p.State == "unprotected":
			out.Protection = "unprotected"
			told(api.CauseNoCopy, p.Place)
			out.Sentence = fmt.Sprintf("%s has no copy of it yet.", p.Place)
		case p.State == "late" && out.Protection == "":
			out.Protection = "late"
			told(api.CauseLate, p.Place)
			out.Sentence = fmt.Sprintf("At %s the newest state is %s old; the objective is %s.", p.Place,
				phrase.Ago(time.Duration(p.LagSeconds)*time.Second), phrase.Ago(time.Duration(p.ObjectiveSeconds)*time.Second))
		}
	}
	if out.Protection != "" {
		return nil
	}
	if g := gap; g != nil && !g.Due.Before(newest) {
		told(api.CauseGap, "")
		out.Protection, out.Sentence = "gap", fmt.Sprintf("The snapshot due %s was not taken: %s.", phrase.Stamp(g.Due.Time),
			g.Cause)
		return nil
	}
	out.Protection, out.Sentence = "on target", fmt.Sprintf("Its newest state is %s old.", phrase.Ago(now.Sub(newest)))
	return nil
}

func pausedWords(since time.Time) string {
	return fmt.Sprintf("is paused since %s: nothing is taken, and nothing it has here expires.", phrase.Stamp(since))
}

// Status tells how everything stands, in sentences first.
func (s *Service) Status() (*api.Status, error) { return s.status(false) }

// StatusAnew tells it from records alone, whatever was kept of looks before.
func (s *Service) StatusAnew() (*api.Status, error) { return s.status(true) }

func (s *Service) status(anew bool) (*api.Status, error) {
	now := s.Clock.Now()
	st := &api.Status{Site: s.Name(), Now: now, Running: s.run.Running(), Coming: []api.Coming{},
		Sentences: []api.Sentence{}}
	rows, err := s.Catalog.Volumes()
	if err != nil {
		return nil, err
	}
	if anew {
		s.looks.drop(nil)
		s.routes.ForgetFar()
	}
	if st.Volumes, err = s.views(rows); err != nil {
		return nil, err
	}
	if st.Routes, err = s.routes.RoutesOver(rows); err != nil {
		return nil, err
	}
	if st.Outlets, err = s.outlets.Outlets(); err != nil {
		return nil, err
	}
	u := s.Store.Usage()
	st.Usage = api.Usage{Place: s.Place(), Objects: u.Objects, Packs: u.Packs, StoredBytes: u.StoredBytes,
		DeadBytes: u.DeadBytes, Snapshots: u.Snapshots, FreeBytes: u.FreeBytes, Volumes: []api.VolumeUsage{}}
	held, err := s.Catalog.Setting(rules.HoldSetting)
	if err != nil {
		return nil, err
	}
	s.sentences(st, rows, held)
	for _, v := range st.Volumes {
		if v.NextDue != nil {
			st.Coming = append(st.Coming, api.Coming{At: *v.NextDue, Volume: v.Name, What: "snapshot"})
		}
	}
	slices.SortFunc(st.Coming, func(a, b api.Coming) int { return a.At.Compare(b.At) })
	return st, nil
}

// onTarget says how many volumes are where they should be, if not all are.
func onTarget(good, counted, paused int) string {
	words := fmt.Sprintf("%d of %s on target", good, phrase.ManyAre(counted, "volume"))
	switch {
	case counted == 1 && paused == 1:
		return "The one volume is paused."
	case counted == 1:
		return "The one volume is not on target."
	case good == 0:
		words = fmt.Sprintf("None of the %d volumes is on target", counted)
	}
	if paused > 0 {
		words += fmt.Sprintf(", %d paused", paused)
	}
	return words + "."
}

// newFor is how long a volume may lack its first copies before somebody must act.
const newFor = 24 * time.Hour

func (s *Service) sentences(st *api.Status, rows []*catalog.Volume, held string) {
	add := func(x api.Sentence) { st.Sentences = append(st.Sentences, x) }
	good, counted, paused := 0, 0, 0
	for _, v := range st.Volumes {
		if v.Protected || v.Active != s.Name() {
			counted++
			switch v.Protection {
			case "on target":
				good++
			case "paused":
				paused++
			}
		}
	}
	switch {
	case len(st.Volumes) == 0:
		add(api.Sentence{Text: "Nothing is protected yet.", Weight: "look", Next: "Begin",
			Command: "candid begin", Link: "/volumes?do=add"})
	case counted == 0:
		add(api.Sentence{Text: "Nothing is protected any more; what was taken of removed volumes stays.", Weight: "look",
			Next: "Add a volume", Command: "candid volume add NAME --path DIR", Link: "/volumes"})
	case good == counted && counted == 1:
		add(api.Sentence{Text: "The one volume is on target.", Weight: "calm"})
	case good == counted:
		add(api.Sentence{Text: fmt.Sprintf("All %d volumes are on target.", counted), Weight: "calm"})
	default:
		add(api.Sentence{Text: onTarget(good, counted, paused), Weight: "look"})
	}
	if held != "" {
		add(api.Sentence{Text: "Nothing is removed at present: " + held + ".", Weight: "act", About: "removal held",
			Next: "Release removal", Command: "candid store release"})
	}
	if x, is := s.upkeep.DamageSentence(); is {
		add(x)
	}
	if err := errors.Join(s.aloneSentence(st, add), s.outlivedSentences(add)); err != nil {
		s.Log.Error("it could not be told whether there are other sites, or what outlived its rules", "error", err)
	}
	doubted, err := s.capture.Doubts(rows, add)
	if err := errors.Join(err, s.pairing.StartSentences(add), s.disks.Sentences(add),
		s.failover.Sentences(rows, add)); err != nil {
		s.Log.Error("it could not be told what is in doubt", "error", err)
	}
	var of folds
	for _, v := range st.Volumes {
		if len(v.Offered) > 0 {
			add(api.Sentence{Text: fmt.Sprintf("%s proposes to keep less of %s here: %s. Until a person accepts that, what "+
				"either the old or the new rules keep stays.", v.Origin, v.Name, strings.Join(v.Offered, "; ")),
				Weight: "look", Next: "Accept it", Command: "candid volume accept-rules " + v.Name, Link: "/volumes/" + v.Name})
		}
		if v.Standby != nil && v.Standby.Error != "" {
			add(api.Sentence{Text: fmt.Sprintf("The standby of %s: %s", v.Name, v.Standby.Sentence), Weight: "act",
				About: "standby of " + v.Name, Next: "Look at the copy", Command: "candid volume show " + v.Name,
				Link: "/volumes/" + v.Name})
		}
		if v.OutOfTurn > 0 {
			add(api.Sentence{Text: fmt.Sprintf("%s of %s arrived out of turn: more than its cadence takes, or dated against "+
				"their order, or of another branch of its history. %s nothing until a person has looked.",
				phrase.Many(v.OutOfTurn, "snapshot"), v.Name, phrase.Pick(v.OutOfTurn, "It stays and displaces",
					"They stay and displace")),
				Weight: "act", About: "arrivals of " + v.Name, Next: "If they are meant, admit them",
				Command: "candid volume admit " + v.Name, Link: "/volumes/" + v.Name})
		}
		if v.Protection == "on target" || (!v.Protected && v.Active == s.Name()) || doubted[v.Name] ||
			v.Active == authority.Nobody {
			continue
		}
		x := api.Sentence{Text: fmt.Sprintf("%s is %s. %s", v.Name, v.Protection, v.Sentence), Weight: "act",
			Link: "/volumes/" + v.Name}
		if v.PausedSince != nil {
			x.Text = v.Name + " " + pausedWords(*v.PausedSince)
		}
		switch {
		case v.Protection == "unprotected" && len(v.Policies) > 0 && v.Protected && s.Clock.Now().Sub(v.Added) < newFor:
			x.Weight, x.Next, x.Command = "look", "Take a snapshot now", "candid snapshot take "+v.Name
		case v.PausedSince != nil:
			x.Weight, x.Next, x.Command = "look", "Go on", "candid volume resume "+v.Name
		case v.Protection == "paused":
			x.Weight, x.Next, x.Command, x.Link = "look", "Look at the policy", "candid policy list", "/policies"
		case len(v.Policies) == 0:
			x.Next, x.Command, x.Link = "Write a policy for it", "candid policy put FILE", "/policies"
		case v.Active != s.Name():
			x.Next, x.Command = "Look at the site it comes from", "candid site check "+v.Active
		default:
			x.Next, x.Command = "Take a snapshot now", "candid snapshot take "+v.Name
			for _, p := range v.Places[1:] {
				if p.State != "on target" {
					x.Next, x.Command, x.Link = "Look at the routes", "candid route list", "/sites"
					for _, r := range st.Routes {
						if r.To == p.Place {
							x.Next, x.Command, x.Link = "Carry now", "candid route run "+r.Name, "/routes/"+r.Name
						}
					}
				}
			}
		}
		of.add(&v, x)
	}
	of.tell(add)
	s.recovery.TestSentences(add)
	for _, r := range st.Routes {
		switch r.State {
		case "no line", "refused":
			peer := r.To
			if r.Pull {
				peer = r.From
			}
			add(api.Sentence{Text: fmt.Sprintf("Route %s: %s", r.Name, r.Sentence), Weight: "act", About: "route " + r.Name,
				Next: "Test the site", Command: "candid site check " + peer, Link: "/sites"})
		case "waiting":
			x := api.Sentence{Text: fmt.Sprintf("Route %s: %s", r.Name, r.Sentence), Weight: "look", Next: "Look at the route",
				Command: "candid route show " + r.Name, Link: "/sites"}
			if r.FailingSince != nil && r.Cause != string(catalog.CauseDetached) {
				x.Weight, x.About = "act", "route "+r.Name
			}
			add(x)
		case "behind", "seeding":
			add(api.Sentence{Text: fmt.Sprintf("Route %s: %s", r.Name, r.Sentence), Weight: "look", Next: "Carry now",
				Command: "candid route run " + r.Name, Link: "/sites"})
		}
	}
	for _, o := range st.Outlets {
		x := api.Sentence{Text: fmt.Sprintf("Outlet %s: %s", o.Name, o.Sentence), Weight: "act", About: "outlet " + o.Name,
			Next: "Look at the outlet", Command: "candid outlet show " + o.Name, Link: "/sites"}
		switch o.State {
		case "no line", "refused":
			add(x)
		case "behind", "seeding":
			x.Weight, x.About, x.Next, x.Command = "look", "", "Lay it out now", "candid outlet run "+o.Name
			add(x)
		}
	}
	for _, r := range st.Routes {
		if why := s.routes.Slow(&r); why != "" {
			add(api.Sentence{Text: why, Weight: "act", About: "run of route " + r.Name, Next: "Look at the route",
				Command: "candid route show " + r.Name, Link: "/sites"})
		}
	}
	if caps, err := s.rules.Caps(); err == nil {
		for _, c := range caps {
			if c.IsReached && c.Reached == datadir.StopTaking {
				add(api.Sentence{Text: fmt.Sprintf("The cap of %s %s is reached. %s", c.Scope, c.Name, c.Sentence), Weight: "act",
					About: "cap of " + c.Scope + " " + c.Name, Next: "See where it went", Command: "candid cap list", Link: "/space"})
			}
		}
	}
	if f, err := s.rules.Forecast(); err == nil && f.Full != nil && f.Full.Sub(s.Clock.Now()) < rules.ForecastSoon {
		add(api.Sentence{Text: f.Sentence, Weight: "look", Next: "See where it went", Command: "candid space",
			Link: "/space"})
	}
	if low, is, err := s.rules.LowState(); err == nil && is {
		_, free, want := s.Lacking()
		add(api.Sentence{Text: fmt.Sprintf("Only %s are free where the store lies, and %s must stay free, since %s. %s",
			phrase.Size(free), phrase.Size(want), phrase.Stamp(low.Since), strings.Join(low.Did, " ")),
			Weight: "act", About: "space", Next: "See where it went", Command: "candid space", Link: "/space"})
	} else if st.Usage.FreeBytes < 1<<30 {
		add(api.Sentence{Text: fmt.Sprintf("The store's filesystem has %d MiB left.", st.Usage.FreeBytes>>20), Weight: "act",
			About: "space", Next: "See what would come back", Command: "candid prune --dry-run"})
	}
}
