package rules

import (
	"errors"
	"time"

	"candidharbor/core/retention"
	"candidharbor/internal/catalog"
)

// Set returns all snapshots here that were taken with one, itself among them.
func (s *Service) Set(row *catalog.Snapshot) ([]*catalog.Snapshot, error) {
	if row.SetID == "" {
		return []*catalog.Snapshot{row}, nil
	}
	return s.Catalog.SetRows(row.Place, row.SetID)
}

// bySet keeps what would go of sets of which something stays: a set is decided as one.
func (s *Service) bySet(v *catalog.Volume, d *decided, now time.Time, rules func(*catalog.Volume) (*Ruleset,
	error)) error {
	if !d.ofSets {
		return nil
	}
	going := map[string][]int{}
	for i, r := range d.Rows {
		if r.SetID != "" && !d.Verdicts[i].Kept() {
			going[r.SetID] = append(going[r.SetID], i)
		}
	}
	mates, err := s.Catalog.SetMates(s.Place(), v.Name)
	if err != nil {
		return err
	}
	d.setMembers = mates
	if len(going) == 0 {
		return nil
	}
	for _, name := range mates {
		mate, err := s.Catalog.Volume(name)
		if errors.Is(err, catalog.ErrNone) {
			continue
		} else if err != nil {
			return err
		}
		rs, err := rules(mate)
		if err != nil {
			return err
		}
		rows, err := s.Catalog.Snapshots(s.Place(), name, catalog.SnapshotFilter{})
		if err != nil {
			return err
		}
		theirs, err := s.decideAlone(mate, rows, rs, now)
		if err != nil {
			return err
		}
		for k, r := range theirs.Rows {
			at := going[r.SetID]
			if r.SetID == "" || len(at) == 0 || !theirs.Verdicts[k].Kept() || !r.GraceUntil.IsZero() && putOut(r) {
				continue
			}
			reason := retention.Reason{Rule: retention.RuleSet, Text: name + " is kept: " +
				theirs.Verdicts[k].Reasons[0].String()}
			if end, ok := theirs.Verdicts[k].Ends(); ok {
				reason.Until = end
			}
			for _, i := range at {
				d.Verdicts[i].Reasons = append(d.Verdicts[i].Reasons, reason)
				d.Verdicts[i].LetGo = ""
			}
		}
	}
	return nil
}
