package rules

import (
	"errors"
	"fmt"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/core/retention"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
)

// Moment finds the snapshot that stands for a moment: RFC 3339, "latest" or "" for the
// newest, or a snapshot's id. The answer says how exactly it does.
func (s *Service) Moment(v *catalog.Volume, at string) (row *catalog.Snapshot, answer string, err error) {
	if at == "" || at == "latest" {
		row, err := s.Catalog.LastSnapshot(s.Place(), v.Lineage)
		if err == nil && row == nil {
			err = refusal.Missingf("volume %s has no snapshot here yet: take one with: candid snapshot take %s", v.Name, v.Name)
		}
		if err != nil {
			return nil, "", err
		}
		return row, "the newest snapshot, taken " + phrase.Stamp(row.Began.Time), nil
	}
	t, terr := time.Parse(time.RFC3339Nano, at)
	if terr != nil {
		row, err := s.Catalog.Snapshot(at)
		if err != nil {
			row = &catalog.Snapshot{}
		}
		if row.Volume != v.Name { // whether it is another volume's is not for everybody who may see this one
			return nil, "", refusal.Badf("%q is neither a moment (such as 2026-03-04T14:05:00Z), nor latest, nor the id of a "+
				"snapshot of %s here", at, v.Name)
		}
		return row, "the snapshot taken " + phrase.Stamp(row.Began.Time), nil
	}
	rows, err := s.Catalog.Snapshots(s.Place(), v.Name, catalog.SnapshotFilter{To: t, Limit: 64})
	if err != nil {
		return nil, "", err
	}
	if len(rows) == 0 {
		all, err := s.Catalog.Snapshots(s.Place(), v.Name, catalog.SnapshotFilter{})
		if err != nil {
			return nil, "", err
		}
		if len(all) == 0 {
			return nil, "", refusal.Missingf("volume %s has no snapshot here yet: take one with: candid snapshot take %s",
				v.Name, v.Name)
		}
		first := all[len(all)-1]
		return nil, "", refusal.Missingf("nothing is known of %s at %s: its first snapshot here is of %s; ask for that "+
			"moment or a later one", v.Name, phrase.Stamp(t), phrase.Stamp(first.Began.Time))
	}
	row = rows[0]
	for _, r := range rows { // of several taken before, the highest position
		if r.Term > row.Term || (r.Term == row.Term && r.Sequence > row.Sequence) {
			row = r
		}
	}
	return row, Exactness(row, t), nil
}

// Exactness says how well a snapshot stands for a moment at or after it.
func Exactness(row *catalog.Snapshot, t time.Time) string {
	switch seen := row.SeenUntil.Time; {
	case !t.After(row.Ended.Time):
		return "exactly: it was being read at that moment"
	case !t.After(row.WatchedUntil.Time):
		return fmt.Sprintf("exactly as it was: watched without a change from %s to %s", phrase.Stamp(row.Began.Time),
			phrase.Stamp(row.WatchedUntil.Time))
	case !t.After(seen):
		return fmt.Sprintf("unchanged when looked at %s and %s", phrase.Stamp(row.Began.Time), phrase.Stamp(seen))
	}
	at := NewestState(row)
	return fmt.Sprintf("nearest before: %s, %s older", phrase.Stamp(at), phrase.Ago(t.Sub(at)))
}

// RootOf reads the root of a row.
func (s *Service) RootOf(row *catalog.Snapshot) (*object.Root, error) {
	id, err := object.ParseID(row.ID)
	if err != nil {
		return nil, err
	}
	root, _, err := s.Store.Root(id)
	return root, err
}

// SnapshotView describes a snapshot. With a verdict it says why it stays.
func (s *Service) SnapshotView(r *catalog.Snapshot, verdict *retention.Verdict) (*api.Snapshot, error) {
	v := &api.Snapshot{ID: r.ID, Volume: r.Volume, Place: r.Place, Origin: r.Origin, Term: r.Term, Sequence: r.Sequence,
		Taken: r.Began.Time, Ended: r.Ended.Time,
		SeenUntil: r.SeenUntil.Ptr(), WatchedUntil: r.WatchedUntil.Ptr(), Cause: r.Cause, Consistency: r.Consistency,
		Files: r.Files, Directories: r.Dirs, Others: r.Others, Bytes: r.Bytes,
		Stored: r.Stored, RemarkCount: r.Remarks, Note: r.Note, Labels: r.Labels.V, State: "kept", Arrived: r.Arrived.Ptr(),
		OutOfTurn: r.OutOfTurn, Keep: r.KeepWhy, KeepUntil: r.KeepUntil.Ptr(), OwnEnd: r.OwnEnd.Ptr(),
		Reasons: []string{}}
	v.Group, v.SetID = r.SetName, r.SetID
	if !r.GraceUntil.IsZero() {
		v.State, v.GraceUntil, v.LetGo = "in grace", r.GraceUntil.Ptr(), r.LetGo
		v.LetGoCause = r.LetGoCause
		return v, nil
	}
	if verdict == nil {
		vol, err := s.Catalog.Volume(r.Volume)
		if err != nil {
			if errors.Is(err, catalog.ErrNone) {
				return v, nil
			}
			return nil, err
		}
		d, err := s.Decide(vol)
		if err != nil {
			return nil, err
		}
		if verdict = d.Of(r); verdict == nil {
			return v, nil
		}
	}
	for _, reason := range verdict.Reasons {
		v.Reasons = append(v.Reasons, reason.String())
	}
	if !verdict.Kept() {
		v.LetGo = verdict.LetGo
	}
	if t, ok := verdict.Widest(); ok {
		v.Tier = t.String()
	}
	if end, ok := verdict.Ends(); ok {
		v.Ends = &end
	}
	return v, nil
}
