package overview

import (
	"slices"
	"strings"

	"candidharbor/internal/capture"
	"candidharbor/internal/catalog"
	"candidharbor/internal/policy"
	"candidharbor/internal/rules"
)

// explainGroup says with what a volume is taken, and how its writers are held.
func (s *Service) explainGroup(v *catalog.Volume, rs *rules.Ruleset, say func(format string, args ...any)) error {
	if !v.ActiveAt(s.Name()) {
		return nil
	}
	g, members, err := s.capture.GroupOf(v.Name)
	if err != nil {
		return err
	}
	if g != nil {
		others := slices.DeleteFunc(slices.Clone(members), func(m string) bool { return m == v.Name })
		say("It is taken together with %s, as one set of the group %s, whenever one of them is due; what is kept of a set "+
			"is all of it.", strings.Join(others, ", "), g.Name)
	}
	for _, q := range capture.HoldsOf(g, rs) {
		words := "nothing lets them go"
		if q.Thaw != "" {
			words = q.Thaw + " lets them go"
		}
		failing := "nothing is taken"
		if q.Failing == policy.FailingSpread {
			failing = "it is taken nevertheless, as spread"
		}
		say("While it is read its writers are held by the hook %s, and %s; if they cannot be held, %s.", q.Freeze, words,
			failing)
	}
	return nil
}
