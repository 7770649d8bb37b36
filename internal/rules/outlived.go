package rules

import (
	"context"

	"candidharbor/core/retention"
	"candidharbor/internal/catalog"
)

// outlived counts snapshots that no rule keeps and that are here nevertheless.
type outlived map[catalog.Outlived]int

func (o outlived) add(volume string, cause catalog.OutlivedCause, place string) {
	o[catalog.Outlived{Volume: volume, Cause: cause, Place: place}]++
}

// count adds those of a volume that something else than rules keeps. The floor is a bound that the site has set, and
// what arrived out of turn waits for a person, who is told of it.
func (o outlived) count(volume string, v retention.Verdict) {
	var owed []string
	used, ahead := false, false
	for _, r := range v.Reasons {
		switch r.Rule {
		case retention.RuleOwed:
			owed = append(owed, r.Place)
		case retention.RuleInUse:
			used = true
		case retention.RuleDatedAhead:
			ahead = true
		default:
			return
		}
	}
	switch {
	case used:
		o.add(volume, catalog.OutlivedInUse, "")
	case ahead:
		o.add(volume, catalog.OutlivedAhead, "")
	default:
		for _, place := range owed {
			o.add(volume, catalog.OutlivedOwed, place)
		}
	}
}

func (o outlived) rows() (all []catalog.Outlived) {
	for key, n := range o {
		key.Snapshots = n
		all = append(all, key)
	}
	return all
}

// countHeld counts what would go if removal were not held.
func (s *Service) countHeld(ctx context.Context, o outlived) error {
	vols, err := s.Catalog.Volumes()
	if err != nil {
		return err
	}
	now := s.Clock.Now()
	for _, v := range vols {
		if err := ctx.Err(); err != nil {
			return err
		}
		rs, err := s.RulesFor(v)
		if err != nil {
			return err
		}
		d, err := s.DecideWith(v, rs, now)
		if err != nil {
			return err
		}
		for i, row := range d.Rows {
			over := !row.GraceUntil.IsZero() && !now.Before(row.GraceUntil.Time)
			if !d.Verdicts[i].Kept() && (row.GraceUntil.IsZero() || over) {
				o.add(v.Name, catalog.OutlivedHeld, "")
			}
		}
	}
	return nil
}
