package capture

import (
	"fmt"
	"slices"
	"time"

	"candidharbor/core/cadence"
	"candidharbor/core/lineage"
	"candidharbor/core/object"
	"candidharbor/core/retention"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
	"candidharbor/internal/rules"
	"candidharbor/internal/run"
)

// turnSpans are the stretches of time within which arrivals are counted against the cadence.
var turnSpans = []time.Duration{time.Hour, 12 * time.Hour, 5 * 24 * time.Hour}

// turnsSpare is how many snapshots beyond its cadence a volume may have within a span:
// those that caught up, and those that a start of the service took.
const turnsSpare = 4

// Disorder is why an arrival is out of turn; without a cause it is not.
type Disorder struct {
	Cause  object.MarkCause
	Branch string // of the history that it is of, where it is of another
	Text   string
	Until  time.Time // up to when it is kept; zero: until a person admits it
}

// OutOfTurn says why a scheduled snapshot that comes from elsewhere must not displace
// others: there are more than its cadence takes, or it is dated against its place in the
// history.
func (s *Service) OutOfTurn(row *catalog.Snapshot) (d Disorder, err error) {
	if left, err := s.LeftBehind(row); err != nil || left.Cause != "" {
		return left, err
	}
	if twin, err := s.Catalog.Twin(s.Place(), row); err != nil {
		return d, err
	} else if twin != "" {
		branch, err := s.branchOf(row)
		return Disorder{Cause: object.ArrivedOfBranch, Branch: branch,
			Text: fmt.Sprintf("it is of the branch %s of the history: it has the place "+
				"of %s, so its site was put back to an earlier state, or there are two of it", branch, twin[:12])}, err
	}
	if row.Origin == s.Name() || row.Cause != string(object.CauseScheduled) {
		return d, nil
	}
	v, err := s.Catalog.VolumeOfLineage(row.Lineage)
	if err != nil {
		return d, err
	}
	next, err := s.Catalog.Neighbours(s.Place(), row.Lineage, row.Term, row.Sequence, retention.Ahead)
	if err != nil {
		return d, err
	}
	at := lineage.Position{Term: uint64(row.Term), Sequence: uint64(row.Sequence)}
	for _, o := range next {
		after := at.Compare(lineage.Position{Term: uint64(o.Term), Sequence: uint64(o.Sequence)}) > 0
		if d := o.Began.Sub(row.Began.Time); after && d > retention.Ahead || !after && -d > retention.Ahead {
			return Disorder{Cause: object.ArrivedMisdated,
				Text: fmt.Sprintf("it is dated %s, and its place in the history says "+
					"otherwise: %s is dated %s", phrase.Stamp(row.Began.Time), o.ID[:12], phrase.Stamp(o.Began.Time))}, nil
		}
	}
	var take []*cadence.Cadence
	for _, text := range []string{v.Proposed, v.Offered} {
		policies, err := rules.ProposedPolicies(text)
		if err != nil {
			return d, err
		}
		for _, p := range policies {
			take = append(take, p.Take...)
		}
	}
	if len(take) == 0 {
		return d, nil // nothing is known of its cadence
	}
	widest := slices.Max(turnSpans)
	took, err := s.Catalog.InTurn(s.Place(), row.Volume, row.Began.Add(-widest), row.Began.Add(widest))
	if err != nil {
		return d, err
	}
	for _, span := range turnSpans {
		for _, from := range []time.Time{row.Began.Add(-span), row.Began.Time} {
			to, n := from.Add(span), 1
			for _, o := range took {
				if !o.Before(from) && !o.After(to) {
					n++
				}
			}
			if most := dueWithin(take, from, to, n) + turnsSpare; n > most {
				return Disorder{Cause: object.ArrivedTooClosely, Text: fmt.Sprintf("it would be number %d within %s, and its "+
					"cadence takes at most %d", n, retention.Words(span), most)}, nil
			}
		}
	}
	return d, nil
}

// branchOf names the branch that a snapshot is of whose place in the history another one has:
// by the first snapshot of the branch that arrived.
func (s *Service) branchOf(row *catalog.Snapshot) (string, error) {
	beside, err := s.Catalog.Branches(s.Place(), row.Lineage, row.Term, row.Sequence-1, row.Sequence+1)
	if err != nil || len(beside) == 0 {
		return row.ID[:8], err
	}
	return beside[0], nil
}

// dueWithin counts the due times of cadences between two times, up to limit.
func dueWithin(take []*cadence.Cadence, from, to time.Time, limit int) int {
	n := 0
	for _, c := range take {
		if _, least, looks := c.OnChange(); looks {
			n += int(to.Sub(from) / max(least, time.Minute))
			continue
		}
		for range c.Between(from, to) {
			if n++; n >= limit {
				return n
			}
		}
	}
	return n
}

// Admit lets snapshots of a volume that arrived out of turn count from now on: those named,
// or all of them.
func (s *Service) Admit(name string, ids []string) (string, error) {
	release, err := s.run.Hold(s.run.Context(), run.KeyPrune.Of(""))
	if err != nil {
		return "", err
	}
	defer release()
	rows, err := s.Catalog.OutOfTurn(s.Place(), name)
	if err != nil {
		return "", err
	}
	if len(ids) > 0 {
		var named []*catalog.Snapshot
		for _, id := range ids {
			row, err := s.Catalog.Snapshot(id)
			if err != nil {
				return "", err
			}
			i := slices.IndexFunc(rows, func(r *catalog.Snapshot) bool { return r.ID == row.ID })
			if i < 0 {
				return "", refusal.Conflictf("snapshot %s is not one of %s that arrived out of turn; nothing was changed",
					row.ID[:12], name)
			}
			named = append(named, rows[i])
		}
		rows = named
	}
	if _, err := s.Catalog.Volume(name); err != nil {
		return "", err
	}
	if len(rows) == 0 {
		return "", refusal.Conflictf("no snapshot of %s arrived out of turn", name)
	}
	for _, row := range rows {
		id, err := object.ParseID(row.ID)
		if err != nil {
			return "", err
		}
		if err := s.Store.PutMark(&object.Mark{Kind: object.MarkAdmit, Root: id, At: s.Clock.Now().UnixNano(),
			Place: s.Place()}); err != nil {
			return "", err
		}
		row.OutOfTurn = ""
		if err := s.Catalog.PutSnapshot(row); err != nil {
			return "", err
		}
	}
	s.run.Changed("snapshots", name)
	return fmt.Sprintf("%s of %s counted in: the rules decide on them from now on, and the next pruning sends into "+
		"grace what is kept no more.", phrase.Many(len(rows), "snapshot"), name), nil
}
