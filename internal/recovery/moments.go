package recovery

import (
	"cmp"
	"errors"
	"fmt"
	"path"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/core/retention"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
	"candidharbor/internal/volume/tree"
)

// Snapshots lists a volume's snapshots, newest first.
func (s *Service) Snapshots(volume string, f catalog.SnapshotFilter) (api.Page[api.Snapshot], error) {
	page := api.Page[api.Snapshot]{Items: []api.Snapshot{}}
	v, err := s.Catalog.Volume(volume)
	if err != nil {
		return page, err
	}
	d, err := s.rules.Decide(v)
	if err != nil {
		return page, err
	}
	limit := f.Limit
	if limit > 0 {
		f.Limit++
	}
	rows, err := s.Catalog.Snapshots(s.Place(), volume, f)
	if err != nil {
		return page, err
	}
	for i, r := range rows {
		if limit > 0 && i == limit {
			page.Next = rows[i-1].Cursor()
			break
		}
		view, err := s.rules.SnapshotView(r, cmp.Or(d.Of(r), &retention.Verdict{}))
		if err != nil {
			return page, err
		}
		page.Items = append(page.Items, *view)
	}
	return page, nil
}

// Snapshot returns one snapshot with remarks and exact space figures.
func (s *Service) Snapshot(id string) (*api.Snapshot, error) {
	row, err := s.Catalog.Snapshot(id)
	if err != nil {
		return nil, err
	}
	v, err := s.rules.SnapshotView(row, nil)
	if err != nil {
		return nil, err
	}
	root, err := s.rules.RootOf(row)
	if err != nil {
		return nil, err
	}
	v.Part = phrase.PartWords(root.Derived)
	for _, r := range root.Remarks {
		v.Remarks = append(v.Remarks, api.Remark{Path: phrase.Printable(r.Path), What: r.What})
	}
	oid, _ := object.ParseID(row.ID)
	if v.Referenced, err = s.Store.Referenced(oid); err != nil {
		return nil, err
	}
	if v.Unique, err = s.Store.Freed([]object.ID{oid}); err != nil {
		return nil, err
	}
	at, err := s.Catalog.CarriedTo([]string{row.ID})
	if err != nil {
		return nil, err
	}
	v.FarPlaces = at[row.ID]
	return v, nil
}

const browsePage = 1000

// Browse lists a directory as of a moment. after is the cursor.
func (s *Service) Browse(volume, at, dir, after string) (*api.Browse, error) {
	return s.ViewerFor(nil).Browse(volume, at, dir, after)
}

// Browse lists a directory as of a moment. after is the cursor.
func (e *Viewer) Browse(volume, at, dir, after string) (*api.Browse, error) {
	s := e.s
	v, err := e.tree(volume)
	if err != nil {
		return nil, err
	}
	row, answer, err := s.rules.Moment(v, at)
	if err != nil {
		return nil, err
	}
	root, err := s.rules.RootOf(row)
	if err != nil {
		return nil, err
	}
	get, root := e.through(volume, s.Store.Get, root)
	rel, err := tree.CleanPath(phrase.RawPath(dir))
	if err != nil {
		return nil, refusal.Wrap(refusal.Misuse, err)
	}
	view, err := s.rules.SnapshotView(row, nil)
	if err != nil {
		return nil, err
	}
	out := &api.Browse{Volume: volume, Path: phrase.Printable([]byte(rel)), Snapshot: *view, Answer: answer,
		Entries: []api.Entry{}}
	if e.who != nil { // the rest is told to those who look after it
		out.Snapshot = api.Snapshot{ID: view.ID, Volume: view.Volume, Place: view.Place, Taken: view.Taken,
			SeenUntil: view.SeenUntil, State: view.State, Reasons: []string{}}
	}
	found, err := tree.Lookup(get, root, rel)
	if err != nil {
		if errors.Is(err, tree.ErrNoPath) {
			return nil, refusal.Missingf("%s has no %s as of %s", volume, out.Path, phrase.Stamp(row.Began.Time))
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
		cursor = []byte(phrase.RawPath(after))
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
	v := api.Entry{Name: phrase.Printable(e.Name), Kind: e.Kind.String(), Mode: fmt.Sprintf("%04o", e.Mode), UID: e.UID,
		GID:      e.GID,
		Modified: time.Unix(0, e.MTime), Size: e.Size, Target: phrase.Printable(e.Target)}
	if e.Kind == object.Dir {
		if n, err := object.CountDir(get, e.Content); err == nil {
			v.Entries = int64(n)
		}
	}
	return v
}
