package site

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/core/chunker"
	"candidharbor/core/lineage"
	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/store"
	"candidharbor/internal/volume/tree"
)

// taking is what a snapshot run is asked for.
type taking struct {
	cause object.Cause
	ask   api.SnapshotTake
	due   time.Time // scheduled ones
	// onChange says that nothing was to be taken unless something changed.
	onChange bool
}

// TakeSnapshot starts a snapshot by hand.
func (s *Site) TakeSnapshot(volume string, ask api.SnapshotTake, by string) (api.Run, error) {
	v, err := s.cat.Volume(volume)
	if err != nil {
		return api.Run{}, err
	}
	if err := s.takeable(v); err != nil {
		return api.Run{}, err
	}
	if ask.KeepUntil != nil && !ask.KeepUntil.After(s.clock.Now()) {
		return api.Run{}, bad("keep-until %s has passed already: give a time to come", ask.KeepUntil.Format(time.RFC3339))
	}
	j, err := s.startSnapshot(v.Name, taking{cause: object.CauseByHand, ask: ask}, by)
	if err != nil {
		return api.Run{}, err
	}
	return j.view(), nil
}

func (s *Site) takeable(v *catalog.Volume) error {
	if v.Origin != s.Name() {
		return conflict("volume %s belongs to the site %s: take its snapshots there", v.Name, v.Origin)
	}
	if !v.Protected {
		return conflict("volume %s is no longer protected: add it again first, with candid volume add %s --path %s", v.Name, v.Name, v.Path)
	}
	return nil
}

func (s *Site) startSnapshot(volume string, t taking, by string) (*job, error) {
	return s.start("snapshot", volume, by, func(ctx context.Context, j *job) (any, string, error) {
		j.say("waiting for another run on this volume")
		release, err := s.hold(ctx, "volume "+volume)
		if err != nil {
			return nil, "", err
		}
		defer release()
		row, outcome, err := s.take(ctx, j, volume, t)
		if err != nil {
			return nil, "", err
		}
		s.changed("snapshots", volume)
		view, err := s.snapshotView(row, nil)
		return view, outcome, err
	})
}

// chunkerOf returns the lineage's pinned chunker.
func chunkerOf(v *catalog.Volume) (*chunker.Chunker, error) {
	p, err := chunker.ForAverage(v.ChunkAvg)
	if err != nil {
		return nil, fmt.Errorf("volume %s: %w", v.Name, err)
	}
	return chunker.New(p), nil
}

func (s *Site) scanCache(v *catalog.Volume) *tree.Cache {
	return tree.OpenCache(filepath.Join(s.dir, "scan"), v.Lineage, settingsOf(v))
}

// take reads the volume and commits the snapshot. The caller holds the volume.
func (s *Site) take(ctx context.Context, j *job, volume string, t taking) (*catalog.Snapshot, string, error) {
	v, err := s.cat.Volume(volume)
	if err != nil {
		return nil, "", err
	}
	rs, err := s.rulesFor(v)
	if err != nil {
		return nil, "", err
	}
	ck, err := chunkerOf(v)
	if err != nil {
		return nil, "", err
	}
	if _, _, err := s.underRoot(v.Path, true); err != nil {
		return nil, "", err
	}
	last, err := s.cat.LastSnapshot(s.Place(), v.Lineage)
	if err != nil {
		return nil, "", err
	}
	cache := s.scanCache(v)
	defer cache.Close()
	w := s.store.NewWriter(s.store.NewLease())
	defer w.Close()
	var prog tree.Progress
	if last != nil {
		prog.Total.Store(last.Bytes)
	}
	j.begin(func() api.Progress {
		return api.Progress{DoneBytes: prog.Bytes.Load(), TotalBytes: max(prog.Total.Load(), prog.Bytes.Load()), Files: prog.Files.Load()}
	})
	j.say("reading")
	began := s.clock.Now()
	res, how, err := s.follower(v).Read(ctx, tree.ScanOptions{Path: v.Path, Excludes: v.Excludes.V, Chunker: ck, Sink: w, Get: s.store.Get, Cache: cache, Progress: &prog}, began)
	if err != nil {
		return nil, "", explainScan(v, err)
	}
	ended := s.clock.Now()
	s.followers.note(v.Lineage, how)
	if len(how.Untold) > 0 {
		j.logf("everything was looked at, as once a day, and changes were found that the journal had not told, the first in %s; from now on every snapshot looks at everything", printable([]byte(how.Untold[0])))
		j.remark()
		s.log.Error("the change journal missed a change; it is not relied on any more until the service starts anew", "volume", v.Name, "directory", how.Untold[0], "directories", len(how.Untold))
	}
	if t.cause == object.CauseScheduled && (rs.skip || t.onChange) && res.Unchanged && res.RemarkCount == 0 && last != nil && last.GraceUntil.IsZero() && s.sameTop(last, res) {
		if err := s.sighted(last, began, how.Watched && s.followers.standing(v.Lineage) == last.ID); err != nil {
			res.Forget()
			return nil, "", err
		}
		how.Done(false)
		return last, fmt.Sprintf("unchanged since %s; seen until %s", last.Began.Format("2006-01-02 15:04"), began.Format("2006-01-02 15:04:05")), res.Remember()
	}
	j.say("making it durable")
	consistency := object.Spread
	if how.Still {
		consistency = object.Still
	}
	row, err := s.commit(v, last, w, res, t, consistency, began, ended)
	if err != nil {
		res.Forget()
		return nil, "", err
	}
	if err := res.Remember(); err != nil {
		s.log.Warn("the scan cache could not be kept; the next snapshot reads more", "volume", v.Name, "error", err)
		s.unfollow(v.Lineage)
	} else {
		how.Done(true)
		s.followers.stands(v.Lineage, row.ID)
	}
	for i, r := range res.Remarks {
		if i == 50 {
			j.logf("… and %d more; candid snapshot show %s lists them", res.RemarkCount-50, row.ID[:12])
			break
		}
		j.logf("%s: %s", printable(r.Path), r.What)
	}
	if res.RemarkCount > 0 {
		j.remark()
	}
	return row, fmt.Sprintf("snapshot %s: %d files, %s, of which %s were new in the store%s", row.ID[:12], row.Files, size(row.Bytes), size(row.Stored), remarkWords(res.RemarkCount)), nil
}

func remarkWords(n int64) string {
	switch n {
	case 0:
		return ""
	case 1:
		return "; 1 remark"
	}
	return fmt.Sprintf("; %d remarks", n)
}

func explainScan(v *catalog.Volume, err error) error {
	if errors.Is(err, context.Canceled) {
		return err
	}
	var full *store.FullError
	if errors.As(err, &full) {
		return &Error{Full, err}
	}
	return fmt.Errorf("volume %s: %w", v.Name, err)
}

// sameTop compares the top directory's own metadata, which is not in the tree.
func (s *Site) sameTop(last *catalog.Snapshot, res *tree.Scanned) bool {
	id, err := object.ParseID(last.ID)
	if err != nil {
		return false
	}
	root, _, err := s.store.Root(id)
	return err == nil && root.Tree() == res.Top.Content && root.Top.Mode == res.Top.Mode && root.Top.UID == res.Top.UID &&
		root.Top.GID == res.Top.GID && root.Top.MTime == res.Top.MTime
}

// sighted notes that the newest snapshot was found unchanged.
func (s *Site) sighted(last *catalog.Snapshot, until time.Time, watched bool) error {
	id, err := object.ParseID(last.ID)
	if err != nil {
		return err
	}
	if watched {
		last.WatchedUntil = catalog.At(until)
	}
	m := object.Mark{Kind: object.MarkSighting, Root: id, At: until.UnixNano(), Until: until.UnixNano(), Place: s.Place()}
	if !last.WatchedUntil.IsZero() {
		m.Watched = last.WatchedUntil.UnixNano()
	}
	if err := s.store.PutMark(&m); err != nil {
		return err
	}
	last.SeenUntil = catalog.At(until)
	s.reached(last.Volume, last.Place, until)
	return s.cat.Sighted(last.Place, last.ID, until, last.WatchedUntil.Time)
}

func (s *Site) commit(v *catalog.Volume, last *catalog.Snapshot, w *store.Writer, res *tree.Scanned, t taking, consistency object.Consistency, began, ended time.Time) (*catalog.Snapshot, error) {
	pos := lineage.Position{Term: 1}
	root := &object.Root{Lineage: lineageOf(v.Lineage), Volume: v.Name, Origin: s.Name(), Path: []byte(v.Path), Labels: v.Labels.V, Excludes: v.Excludes.V,
		Began: began.UnixNano(), Ended: ended.UnixNano(), Consistency: consistency, Cause: t.cause, Top: res.Top, Links: res.Links, HasLinks: res.HasLinks,
		Files: res.Files, Dirs: res.Dirs, Others: res.Others, Bytes: res.Bytes, Remarks: res.Remarks, RemarkCount: res.RemarkCount, ChunkAvg: uint32(v.ChunkAvg)}
	if last != nil {
		pos = lineage.Position{Term: uint64(last.Term), Sequence: uint64(last.Sequence)}
		root.Predecessor, _ = object.ParseID(last.ID)
	}
	pos = pos.Next()
	root.Term, root.Sequence = pos.Term, pos.Sequence
	id, err := w.Commit(root)
	if err != nil {
		return nil, err
	}
	mark := func(m object.Mark) error {
		m.Root, m.At = id, ended.UnixNano()
		return s.store.PutMark(&m)
	}
	if t.ask.Note != "" {
		err = errors.Join(err, mark(object.Mark{Kind: object.MarkNote, Text: t.ask.Note}))
	}
	if len(t.ask.Labels) > 0 {
		err = errors.Join(err, mark(object.Mark{Kind: object.MarkLabels, Labels: t.ask.Labels}))
	}
	if t.ask.KeepUntil != nil {
		err = errors.Join(err, mark(object.Mark{Kind: object.MarkEnd, Until: t.ask.KeepUntil.UnixNano()}))
	}
	if err != nil {
		return nil, err
	}
	row, err := s.rowOf(id, root)
	if err != nil {
		return nil, err
	}
	row.Volume = v.Name
	_, row.Stored, _ = w.Stats()
	s.reached(row.Volume, row.Place, began)
	return row, s.cat.PutSnapshot(row)
}

// printable writes bytes of a path as UTF-8; what is not is written as %XX.
func printable(b []byte) string {
	var out strings.Builder
	for _, r := range splitRunes(b) {
		out.WriteString(r)
	}
	return out.String()
}
