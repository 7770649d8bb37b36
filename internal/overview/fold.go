package overview

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/internal/phrase"
)

// mostNamed is how many volumes a sentence names that is about many.
const mostNamed = 3

// folds gather what is to be said of volumes one by one, so that each cause is told once.
type folds struct {
	order []string
	by    map[string]*fold
}

type fold struct {
	cause, at string
	first     api.Sentence
	names     []string
	oldest    time.Duration // of the newest states of those that are late
}

func (f *folds) add(v *api.Volume, x api.Sentence) {
	key := v.Cause + "\x00" + v.CauseAt + "\x00" + x.Weight + "\x00" + x.Next
	if v.Cause == "" {
		key += v.Name
	}
	if f.by == nil {
		f.by = map[string]*fold{}
	}
	one := f.by[key]
	if one == nil {
		one = &fold{cause: v.Cause, at: v.CauseAt, first: x}
		f.by[key] = one
		f.order = append(f.order, key)
	}
	one.names = append(one.names, v.Name)
	for _, p := range v.Places {
		if p.Place == v.CauseAt || v.Cause == api.CauseLateCopy {
			one.oldest = max(one.oldest, time.Duration(p.LagSeconds)*time.Second)
		}
	}
}

// tell says each cause, in the order in which the first volume had it.
func (f *folds) tell(add func(api.Sentence)) {
	for _, key := range f.order {
		one := f.by[key]
		x := one.first
		if x.About = one.cause; one.cause == "" {
			x.About = "volume " + one.names[0]
		}
		if one.at != "" {
			x.About += " at " + one.at
		}
		x.Volumes = one.names
		if len(one.names) > 1 {
			one.many(&x)
		}
		add(x)
	}
}

// many makes a sentence about one volume that about all.
func (f *fold) many(x *api.Sentence) {
	slices.Sort(f.names)
	n := phrase.Many(len(f.names), "volume")
	x.Link = "/volumes"
	switch f.cause {
	case api.CauseNoPolicy:
		x.Text = fmt.Sprintf("No policy chooses %s, so nothing of them is taken by itself", n)
		x.Next, x.Link = "Write a policy for them", "/policies"
	case api.CauseNoCadence:
		x.Text = fmt.Sprintf("The policies of %s take nothing by themselves: none has a cadence", n)
	case api.CauseNoSnapshot:
		x.Text = n + " have no snapshot yet"
	case api.CauseNoCopy:
		x.Text, x.Link = fmt.Sprintf("%s has no copy yet of %s", phrase.UpperFirst(f.at), n), "/sites"
	case api.CauseLate:
		x.Text = fmt.Sprintf("At %s the newest states of %s are older than their objectives, up to %s", f.at, n,
			phrase.Ago(f.oldest))
	case api.CauseLateCopy:
		x.Text = fmt.Sprintf("The newest copies from %s of %s are older than their objectives, up to %s", f.at, n,
			phrase.Ago(f.oldest))
	case api.CauseGap:
		x.Text = "The last snapshots due of " + n + " were not taken"
	case api.CausePaused:
		x.Text = n + " are paused: nothing is taken of them, and nothing they have here expires"
		x.Next, x.Command = "See which", "candid volume list"
	case api.CausePolicyPaused:
		x.Text = "The policies of " + n + " are paused: nothing is taken of them, and nothing they have here expires"
	default:
		x.Text = n + " need a look"
	}
	x.Text += ": " + phrase.Names(f.names, mostNamed) + "."
	if strings.HasPrefix(x.Command, "candid snapshot take ") {
		x.Command = "candid snapshot take --due"
	}
}
