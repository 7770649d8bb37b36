package site

import (
	"errors"
	"fmt"
	"path"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/core/retention"
	"candidharbor/internal/catalog"
	"candidharbor/internal/volume/tree"
)

// moment finds the snapshot that stands for a moment: RFC 3339, "latest" or "" for the
// newest, or a snapshot's id. The answer says how exactly it does.
func (s *Site) moment(v *catalog.Volume, at string) (row *catalog.Snapshot, answer string, err error) {
	if at == "" || at == "latest" {
		row, err := s.cat.LastSnapshot(s.Place(), v.Lineage)
		if err == nil && row == nil {
			err = missing("volume %s has no snapshot here yet: take one with: candid snapshot take %s", v.Name, v.Name)
		}
		if err != nil {
			return nil, "", err
		}
		return row, "the newest snapshot, taken " + stamp(row.Began.Time), nil
	}
	t, terr := time.Parse(time.RFC3339Nano, at)
	if terr != nil {
		row, err := s.cat.Snapshot(at)
		if err != nil {
			row = &catalog.Snapshot{}
		}
		if row.Volume != v.Name { // whether it is another volume's is not for everybody who may see this one
			return nil, "", bad("%q is neither a moment (such as 2026-03-04T14:05:00Z), nor latest, nor the id of a snapshot of %s here", at, v.Name)
		}
		return row, "the snapshot taken " + stamp(row.Began.Time), nil
	}
	rows, err := s.cat.Snapshots(s.Place(), v.Name, catalog.SnapshotFilter{To: t, Limit: 64})
	if err != nil {
		return nil, "", err
	}
	if len(rows) == 0 {
		all, err := s.cat.Snapshots(s.Place(), v.Name, catalog.SnapshotFilter{})
		if err != nil {
			return nil, "", err
		}
		if len(all) == 0 {
			return nil, "", missing("volume %s has no snapshot here yet: take one with: candid snapshot take %s", v.Name, v.Name)
		}
		first := all[len(all)-1]
		return nil, "", missing("nothing is known of %s at %s: its first snapshot here is of %s; ask for that moment or a later one", v.Name, stamp(t), stamp(first.Began.Time))
	}
	row = rows[0]
	for _, r := range rows { // of several taken before, the highest position
		if r.Term > row.Term || (r.Term == row.Term && r.Sequence > row.Sequence) {
			row = r
		}
	}
	return row, exactness(row, t), nil
}

// exactness says how well a snapshot stands for a moment at or after it.
func exactness(row *catalog.Snapshot, t time.Time) string {
	switch seen := row.SeenUntil.Time; {
	case !t.After(row.Ended.Time):
		return "exactly: it was being read at that moment"
	case !t.After(row.WatchedUntil.Time):
		return fmt.Sprintf("exactly as it was: watched without a change from %s to %s", stamp(row.Began.Time), stamp(row.WatchedUntil.Time))
	case !t.After(seen):
		return fmt.Sprintf("unchanged when looked at %s and %s", stamp(row.Began.Time), stamp(seen))
	}
	at := newestState(row)
	return fmt.Sprintf("nearest before: %s, %s older", stamp(at), ago(t.Sub(at)))
}

func stamp(t time.Time) string { return t.Local().Format("2006-01-02 15:04:05") }

// ago writes a duration with its two largest units.
func ago(d time.Duration) string {
	if d < 0 {
		d = -d
	}
	type unit struct {
		n    int64
		name string
	}
	secs := int64(d.Round(time.Second) / time.Second)
	units := []unit{{secs / 86400, "day"}, {secs / 3600 % 24, "hour"}, {secs / 60 % 60, "minute"}, {secs % 60, "second"}}
	var parts []string
	for i, u := range units {
		if u.n > 0 {
			name := u.name
			if u.n != 1 {
				name += "s"
			}
			parts = append(parts, fmt.Sprintf("%d %s", u.n, name))
		}
		if len(parts) == 2 || (len(parts) == 1 && i >= 2) || (len(parts) == 1 && units[0].n > 9) {
			break
		}
	}
	if len(parts) == 0 {
		return "less than a second"
	}
	return strings.Join(parts, " ")
}

// rootOf reads the root of a row.
func (s *Site) rootOf(row *catalog.Snapshot) (*object.Root, error) {
	id, err := object.ParseID(row.ID)
	if err != nil {
		return nil, err
	}
	root, _, err := s.store.Root(id)
	return root, err
}

// snapshotView describes a snapshot. With a verdict it says why it stays.
func (s *Site) snapshotView(r *catalog.Snapshot, verdict *retention.Verdict) (*api.Snapshot, error) {
	v := &api.Snapshot{ID: r.ID, Volume: r.Volume, Place: r.Place, Origin: r.Origin, Term: r.Term, Sequence: r.Sequence, Taken: r.Began.Time, Ended: r.Ended.Time,
		SeenUntil: r.SeenUntil.Ptr(), WatchedUntil: r.WatchedUntil.Ptr(), Cause: r.Cause, Consistency: r.Consistency, Files: r.Files, Directories: r.Dirs, Others: r.Others, Bytes: r.Bytes,
		Stored: r.Stored, RemarkCount: r.Remarks, Note: r.Note, Labels: r.Labels.V, State: "kept", Arrived: r.Arrived.Ptr(), OutOfTurn: r.OutOfTurn, Keep: r.KeepWhy, KeepUntil: r.KeepUntil.Ptr(), Reasons: []string{}}
	v.Group, v.SetID = r.SetName, r.SetID
	if !r.GraceUntil.IsZero() {
		v.State, v.GraceUntil, v.LetGo = "in grace", r.GraceUntil.Ptr(), r.LetGo
		return v, nil
	}
	if verdict == nil {
		vol, err := s.cat.Volume(r.Volume)
		if err != nil {
			if errors.Is(err, catalog.ErrNone) {
				return v, nil
			}
			return nil, err
		}
		d, err := s.decide(vol)
		if err != nil {
			return nil, err
		}
		i, ok := d.byID[r.ID]
		if !ok {
			return v, nil
		}
		verdict = &d.verdicts[i]
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

// Snapshots lists a volume's snapshots, newest first.
func (s *Site) Snapshots(volume string, f catalog.SnapshotFilter) (api.Page[api.Snapshot], error) {
	page := api.Page[api.Snapshot]{Items: []api.Snapshot{}}
	v, err := s.cat.Volume(volume)
	if err != nil {
		return page, err
	}
	d, err := s.decide(v)
	if err != nil {
		return page, err
	}
	limit := f.Limit
	if limit > 0 {
		f.Limit++
	}
	rows, err := s.cat.Snapshots(s.Place(), volume, f)
	if err != nil {
		return page, err
	}
	for i, r := range rows {
		if limit > 0 && i == limit {
			page.Next = rows[i-1].Cursor()
			break
		}
		var verdict *retention.Verdict
		if k, ok := d.byID[r.ID]; ok {
			verdict = &d.verdicts[k]
		} else {
			verdict = &retention.Verdict{}
		}
		view, err := s.snapshotView(r, verdict)
		if err != nil {
			return page, err
		}
		page.Items = append(page.Items, *view)
	}
	return page, nil
}

// Snapshot returns one snapshot with remarks and exact space figures.
func (s *Site) Snapshot(id string) (*api.Snapshot, error) {
	row, err := s.cat.Snapshot(id)
	if err != nil {
		return nil, err
	}
	v, err := s.snapshotView(row, nil)
	if err != nil {
		return nil, err
	}
	root, err := s.rootOf(row)
	if err != nil {
		return nil, err
	}
	v.Part = partWords(root.Derived)
	for _, r := range root.Remarks {
		v.Remarks = append(v.Remarks, api.Remark{Path: printable(r.Path), What: r.What})
	}
	oid, _ := object.ParseID(row.ID)
	if v.Referenced, err = s.store.Referenced(oid); err != nil {
		return nil, err
	}
	if v.Unique, err = s.store.Freed([]object.ID{oid}); err != nil {
		return nil, err
	}
	routes, err := s.cat.Routes()
	if err != nil {
		return nil, err
	}
	for _, r := range routes {
		carried, err := s.cat.CarriedBy(r.Name, s.Place(), row.Volume)
		if err != nil {
			return nil, err
		}
		if _, ok := carried[row.ID]; ok {
			v.FarPlaces = append(v.FarPlaces, r.Peer)
		}
	}
	return v, nil
}

const browsePage = 1000

// Browse lists a directory as of a moment. after is the cursor.
func (s *Site) Browse(volume, at, dir, after string) (*api.Browse, error) {
	return s.Eyes(nil).Browse(volume, at, dir, after)
}

// Browse lists a directory as of a moment. after is the cursor.
func (e *Eyes) Browse(volume, at, dir, after string) (*api.Browse, error) {
	s := e.s
	v, err := e.volume(volume)
	if err != nil {
		return nil, err
	}
	row, answer, err := s.moment(v, at)
	if err != nil {
		return nil, err
	}
	root, err := s.rootOf(row)
	if err != nil {
		return nil, err
	}
	get, root := e.through(volume, s.store.Get, root)
	rel, err := tree.CleanPath(rawPath(dir))
	if err != nil {
		return nil, &Error{Misuse, err}
	}
	view, err := s.snapshotView(row, nil)
	if err != nil {
		return nil, err
	}
	out := &api.Browse{Volume: volume, Path: printable([]byte(rel)), Snapshot: *view, Answer: answer, Entries: []api.Entry{}}
	if e.who != nil { // the rest is told to those who look after it
		out.Snapshot = api.Snapshot{ID: view.ID, Volume: view.Volume, Place: view.Place, Taken: view.Taken, SeenUntil: view.SeenUntil, State: view.State, Reasons: []string{}}
	}
	found, err := tree.Lookup(get, root, rel)
	if err != nil {
		if errors.Is(err, tree.ErrNoPath) {
			return nil, missing("%s has no %s as of %s", volume, out.Path, stamp(row.Began.Time))
		}
		return nil, err
	}
	if found.Kind != object.Dir {
		one := entryView(get, &found)
		one.Name = path.Base(out.Path)
		out.Entry = &one
		return out, nil
	}
	var cursor []byte
	if after != "" {
		cursor = []byte(rawPath(after))
	}
	err = object.WalkDir(get, found.Content, cursor, func(e object.Entry) error {
		if len(out.Entries) == browsePage {
			out.Next = out.Entries[browsePage-1].Name
			return object.ErrStop
		}
		out.Entries = append(out.Entries, entryView(get, &e))
		return nil
	})
	return out, err
}

func entryView(get object.Getter, e *object.Entry) api.Entry {
	v := api.Entry{Name: printable(e.Name), Kind: e.Kind.String(), Mode: fmt.Sprintf("%04o", e.Mode), UID: e.UID, GID: e.GID,
		Modified: time.Unix(0, e.MTime), Size: e.Size, Target: printable(e.Target)}
	if e.Kind == object.Dir {
		if n, err := object.CountDir(get, e.Content); err == nil {
			v.Entries = int64(n)
		}
	}
	return v
}

// size writes bytes in binary units.
func size(n int64) string {
	const units = "KMGTPE"
	if n < 1024 {
		return fmt.Sprintf("%d B", n)
	}
	v, i := float64(n)/1024, 0
	for v >= 1024 && i < len(units)-1 {
		v, i = v/1024, i+1
	}
	return fmt.Sprintf("%.1f %ciB", v, units[i])
}
