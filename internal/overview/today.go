package overview

import (
	"cmp"
	"maps"
	"slices"
	"strings"

	"candidharbor/api"
	"candidharbor/internal/refusal"
)

const (
	byState, byNothing, byLabel = "state", "nothing", "label "

	comingShown = 8
	fewLines    = 24 // as many are shown without folds
)

// standings are how volumes stand, in the order in which they need a hand; the first needy of them do.
var standings = []string{"late", "gap", "unprotected", "paused", "on target", "removed"}

const needy = 3

// Today tells how everything stands in what fits on a page. By is state, "label KEY", nothing, or empty: as is best
// for so many; so is that of a label that no volume has.
func (s *Service) Today(by string) (*api.Today, error) {
	if by != "" && by != byState && by != byNothing && !strings.HasPrefix(by, byLabel) {
		return nil, refusal.Badf("volumes are not folded by %q: say state, nothing, or label and a key, as in \"label tier\"",
			by)
	}
	st, err := s.Status()
	if err != nil {
		return nil, err
	}
	out := &api.Today{Site: st.Site, Now: st.Now, Sentences: st.Sentences, Running: st.Running,
		Coming: st.Coming[:min(comingShown, len(st.Coming))], Usage: st.Usage, Volumes: len(st.Volumes)}
	keys := map[string]bool{}
	for i := range st.Volumes {
		for k := range st.Volumes[i].Labels {
			keys[k] = true
		}
	}
	out.Bys = []string{byState}
	for _, k := range slices.Sorted(maps.Keys(keys)) {
		out.Bys = append(out.Bys, byLabel+k)
	}
	out.Bys = append(out.Bys, byNothing)
	if out.By = by; !slices.Contains(out.Bys, by) {
		out.By = byNothing
		if len(st.Volumes) > fewLines {
			out.By = byState
		}
	}
	out.Folds = foldLines(st.Volumes, out.By)
	return out, nil
}

// standing is how a volume stands, in a place of standings. One that is protected no more is not in need.
func standing(v *api.Volume) int {
	if !v.Protected {
		return len(standings) - 1
	}
	return slices.Index(standings, v.Protection)
}

// foldLines puts what needs a hand first, and the rest under headings of what is asked for.
func foldLines(volumes []api.Volume, by string) []api.Fold {
	sorted := make([]*api.Volume, len(volumes))
	for i := range volumes {
		sorted[i] = &volumes[i]
	}
	slices.SortStableFunc(sorted, func(a, b *api.Volume) int {
		return cmp.Or(cmp.Compare(standing(a), standing(b)), strings.Compare(a.Name, b.Name))
	})
	label, isLabel := strings.CutPrefix(by, byLabel)
	folds := []api.Fold{}
	at := map[string]int{}
	for _, v := range sorted {
		st := standing(v)
		f := api.Fold{Key: "all", Open: true}
		if by != byNothing {
			f.Open, f.Label = st < needy, standings[st]
			if isLabel {
				f.Label = "needs a hand"
				if value, has := v.Labels[label]; !f.Open && has {
					f.Label = value
				} else if !f.Open {
					f.Label = "without " + label
				}
			}
			f.Key = "rest " + f.Label
			if f.Open {
				f.Key = "hand " + f.Label
			}
		}
		i, is := at[f.Key]
		if !is {
			i, at[f.Key] = len(folds), len(folds)
			folds = append(folds, f)
		}
		line := api.RulerLine{Name: v.Name, Places: max(1, len(v.Places))}
		if st < needy {
			line.State = standings[st]
		}
		folds[i].Lines = append(folds[i].Lines, line)
	}
	if isLabel && len(folds) > 0 {
		rest := folds
		if folds[0].Open {
			rest = folds[1:]
		}
		slices.SortFunc(rest, func(a, b api.Fold) int { return strings.Compare(a.Label, b.Label) })
	}
	return folds
}
