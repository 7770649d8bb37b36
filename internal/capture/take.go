package capture

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"time"

	"candidharbor/api"
	"candidharbor/core/chunker"
	"candidharbor/core/lineage"
	"candidharbor/core/object"
	"candidharbor/core/retention"
	"candidharbor/internal/catalog"
	"candidharbor/internal/pairing"
	"candidharbor/internal/phrase"
	"candidharbor/internal/records"
	"candidharbor/internal/rules"
	"candidharbor/internal/run"
	"candidharbor/internal/store"
	"candidharbor/internal/volume/tree"

	"golang.org/x/sync/errgroup"
)

// reading is one volume on its way into a snapshot.
type reading struct {
	Dir, Root    string // where the volume lies
	v            *catalog.Volume
	rs           *rules.Ruleset
	last         *catalog.Snapshot
	Cache        *tree.Cache
	W            *store.Writer
	Ck           *chunker.Chunker
	Prog         tree.Progress
	began, ended time.Time
	res          *tree.Scanned
	how          *tree.Followed
	row          *catalog.Snapshot
	anyway       bool // a safety snapshot is taken of whatever is there
}

// Prepare gets ready to read a volume. The caller holds it, and ends the reading.
func (s *Service) Prepare(volume string) (*reading, error) {
	v, err := s.Catalog.Volume(volume)
	if err != nil {
		return nil, err
	}
	r := &reading{v: v}
	if r.rs, err = s.rules.RulesFor(v); err != nil {
		return nil, err
	}
	if r.Ck, err = ChunkerOf(v); err != nil {
		return nil, err
	}
	if r.Dir, r.Root, err = s.Fixed(v.Path); err != nil {
		return nil, err
	}
	if r.last, err = s.Catalog.LastSnapshot(s.Place(), v.Lineage); err != nil {
		return nil, err
	}
	r.Cache = s.ScanCache(v)
	r.W = s.Store.NewWriter(s.Store.NewLease())
	if r.last != nil {
		r.Prog.Total.Store(r.last.Bytes)
	}
	return r, nil
}

// End gives free what was read and not committed.
func (r *reading) End() {
	r.W.Close()
	r.Cache.Close()
}

// read scans the volume into the store.
func (s *Service) read(ctx context.Context, j *run.Job, r *reading) error {
	v := r.v
	r.began = s.Clock.Now()
	ground, meant, err := s.standing(v)
	if err != nil {
		return err
	}
	if r.anyway {
		ground, meant = "", true
	}
	r.res, r.how, err = s.follower(v, r.Root, r.Dir).Read(ctx, tree.ScanOptions{Excludes: v.Excludes.V, Chunker: r.Ck,
		Sink: r.W, Get: s.Store.Get, Cache: r.Cache, Progress: &r.Prog, Ground: ground}, r.began)
	if err := s.doubted(r, meant, err); err != nil {
		return ExplainScan(v, err)
	}
	r.ended = s.Clock.Now()
	s.followers.note(v.Lineage, r.how)
	if len(r.how.Untold) > 0 {
		j.Logf("everything was looked at, as once a day, and changes were found that the journal had not told, the first "+
			"in %s; from now on every snapshot looks at everything", phrase.Printable([]byte(r.how.Untold[0])))
		j.Remark()
		s.Log.Error("the change journal missed a change; it is not relied on any more until the service starts anew",
			"volume", v.Name, "directory", r.how.Untold[0], "directories", len(r.how.Untold))
	}
	return nil
}

// isCurrent reports whether the last snapshot is still what was read, so that it need not be
// taken again.
func (s *Service) isCurrent(r *reading, t Taking) bool {
	return t.Cause == object.CauseScheduled && (r.rs.Skip || t.onChange) && r.res.Unchanged && r.res.RemarkCount == 0 &&
		r.last != nil && r.last.GraceUntil.IsZero() && s.sameTop(r.last, r.res)
}

// sight notes that the last snapshot was found unchanged.
func (s *Service) sight(r *reading) error {
	if err := s.sighted(r.last, r.began, r.how.Watched && s.followers.standing(r.v.Lineage) == r.last.ID); err != nil {
		return err
	}
	r.row = r.last
	if err := errors.Join(s.believed(r), r.res.Remember()); err != nil {
		return err
	}
	r.how.Done(false)
	return nil
}

// remember makes the reading the one that the next is compared with, and tells of what
// could not be read.
func (s *Service) remember(j *run.Job, r *reading) {
	if err := s.believed(r); err != nil {
		s.Log.Warn("it could not be noted where a volume stands", "volume", r.v.Name, "error", err)
	}
	if err := r.res.Remember(); err != nil {
		s.Log.Warn("the scan cache could not be kept; the next snapshot reads more", "volume", r.v.Name, "error", err)
		s.Unfollow(r.v.Lineage)
	} else {
		r.how.Done(true)
		s.followers.stands(r.v.Lineage, r.row.ID)
	}
	for i, rm := range r.res.Remarks {
		if i == 50 {
			j.Logf("… and %d more; candid snapshot show %s lists them", r.res.RemarkCount-50, r.row.ID[:12])
			break
		}
		j.Logf("%s: %s", phrase.Printable(rm.Path), rm.What)
	}
	if r.res.RemarkCount > 0 {
		j.Remark()
	}
}

// takeAll takes a snapshot of a volume or of its whole group, and returns that of the
// volume.
func (s *Service) takeAll(ctx context.Context, j *run.Job, g *catalog.Group, members []string, volume string,
	t Taking) (*catalog.Snapshot, string, error) {
	j.Say("waiting for another run on this volume")
	for _, name := range members { // in one order everywhere
		release, err := s.run.Hold(ctx, run.KeyVolume.Of(name))
		if err != nil {
			return nil, "", err
		}
		defer release()
	}
	return s.TakeHeld(ctx, j, g, members, volume, t)
}

// TakeHeld is takeAll for a caller that holds the volumes.
func (s *Service) TakeHeld(ctx context.Context, j *run.Job, g *catalog.Group, members []string, volume string,
	t Taking) (*catalog.Snapshot, string, error) {
	var all []*reading
	defer func() {
		for _, r := range all {
			r.End()
		}
	}()
	var vols []*catalog.Volume
	var rules []*rules.Ruleset
	for _, name := range members {
		r, err := s.Prepare(name)
		if err != nil {
			return nil, "", err
		}
		r.anyway = t.Cause == object.CauseSafety
		all, vols, rules = append(all, r), append(vols, r.v), append(rules, r.rs)
	}
	j.Begin(func() api.Progress {
		var p api.Progress
		for _, r := range all {
			p.DoneBytes += r.Prog.Bytes.Load()
			p.TotalBytes += max(r.Prog.Total.Load(), r.Prog.Bytes.Load())
			p.Files += r.Prog.Files.Load()
		}
		return p
	})
	group := ""
	if g != nil {
		group = g.Name
	}
	quiet, err := s.frozen(ctx, j, HoldsOf(g, rules...), vols, group, func() error {
		j.Say("reading")
		eg, ctx := errgroup.WithContext(ctx)
		for _, r := range all {
			eg.Go(func() error { return s.read(ctx, j, r) })
		}
		return eg.Wait()
	})
	forget := func() {
		for _, r := range all {
			if r.res != nil {
				r.res.Forget()
			}
		}
	}
	if err != nil {
		forget()
		return nil, "", err
	}
	if !slices.ContainsFunc(all, func(r *reading) bool { return !s.isCurrent(r, t) }) {
		for i, r := range all {
			if err := s.sight(r); err != nil {
				for _, r := range all[i:] {
					r.res.Forget()
				}
				return nil, "", err
			}
		}
		mine := rowOfVolume(all, volume)
		return mine, fmt.Sprintf("unchanged since %s; seen until %s", mine.Began.Format("2006-01-02 15:04"),
			mine.SeenUntil.Format("2006-01-02 15:04:05")), nil
	}
	j.Say("making it durable")
	if err := s.commitAll(g, all, t, quiet); err != nil {
		forget()
		if errors.Is(err, store.ErrNoObject) { // what was taken over from the last reading is not all there
			for _, r := range all {
				r.Cache.Drop()
				s.Unfollow(r.v.Lineage)
			}
			err = fmt.Errorf("%w; the next snapshot reads everything anew", err)
		}
		return nil, "", err
	}
	for _, r := range all {
		s.remember(j, r)
	}
	s.run.Changed("snapshots", members...)
	if err := s.Store.KeepBallast(); err != nil {
		s.Log.Error("the ballast could not be kept", "error", err)
	}
	mine := rowOfVolume(all, volume)
	if g != nil {
		return mine, setWords(g, all), nil
	}
	return mine, fmt.Sprintf("snapshot %s: %d files, %s, of which %s were new in the store%s", mine.ID[:12], mine.Files,
		phrase.Size(mine.Bytes), phrase.Size(mine.Stored), RemarkWords(mine.Remarks)), nil
}

func rowOfVolume(all []*reading, volume string) *catalog.Snapshot {
	for _, r := range all {
		if r.v.Name == volume {
			return r.row
		}
	}
	return all[0].row
}

// commitAll makes snapshots of all readings, or of none. They are shown together, once the
// last is durable.
func (s *Service) commitAll(g *catalog.Group, all []*reading, t Taking, quiet bool) error {
	var set *object.Set
	if g != nil {
		set = &object.Set{Group: g.Name, Of: uint32(len(all))}
		rand.Read(set.ID[:])
	}
	var done []object.ID
	var rows []*catalog.Snapshot
	err := func() error {
		for _, r := range all {
			consistency := object.Spread
			switch {
			case quiet && len(HoldsOf(g, r.rs)) > 0:
				consistency = object.Quiesced
			case r.how.Still:
				consistency = object.Still
			}
			id, err := s.commit(r, t, set, consistency)
			if !id.IsZero() {
				done = append(done, id)
			}
			if err != nil {
				return err
			}
			rows = append(rows, r.row)
		}
		return s.Catalog.PutSnapshots(rows)
	}()
	if err != nil {
		if len(done) > 0 {
			err = errors.Join(err, s.Store.RemoveRoots(done...))
		}
		return err
	}
	for _, r := range all {
		s.rules.Reached(r.v.Name, s.Place(), r.began)
	}
	return nil
}

// commit makes one snapshot durable in the store and sets its row, not yet in the
// catalogue. The id is zero when nothing can be there, also after an error.
func (s *Service) commit(r *reading, t Taking, set *object.Set, consistency object.Consistency) (object.ID, error) {
	v, res := r.v, r.res
	pos := lineage.Position{Term: 1}
	root := &object.Root{Lineage: records.LineageOf(v.Lineage), Volume: v.Name, Origin: s.Name(), Path: []byte(v.Path),
		Labels: v.Labels.V, Excludes: v.Excludes.V,
		Began: r.began.UnixNano(), Ended: r.ended.UnixNano(), Consistency: consistency, Cause: t.Cause, Top: res.Top,
		Links: res.Links, HasLinks: res.HasLinks,
		Files: res.Files, Dirs: res.Dirs, Others: res.Others, Bytes: res.Bytes, Remarks: res.Remarks,
		RemarkCount: res.RemarkCount, ChunkAvg: uint32(v.ChunkAvg), Set: set}
	if r.last != nil {
		root.Predecessor, _ = object.ParseID(r.last.ID)
	}
	// No position is taken twice, also not that of one which waits for the rest of its set.
	term, sequence, err := s.Catalog.HighestPosition(v.Lineage)
	if err != nil {
		return object.ID{}, err
	}
	if term > 0 {
		pos = lineage.Position{Term: uint64(term), Sequence: uint64(sequence)}
	}
	if text, err := s.Catalog.Setting(pairing.TermSetting + v.Lineage); err != nil {
		return object.ID{}, err
	} else if t, _ := strconv.ParseUint(text, 10, 64); t > pos.Term {
		pos = lineage.Position{Term: t}
	}
	pos = pos.Next()
	root.Term, root.Sequence = pos.Term, pos.Sequence
	id, err := r.W.Commit(root)
	if err != nil {
		return id, err
	}
	mark := func(m object.Mark) error {
		m.Root, m.At = id, r.ended.UnixNano()
		return s.Store.PutMark(&m)
	}
	if t.Ask.Note != "" {
		err = errors.Join(err, mark(object.Mark{Kind: object.MarkNote, Text: t.Ask.Note}))
	}
	if len(t.Ask.Labels) > 0 {
		err = errors.Join(err, mark(object.Mark{Kind: object.MarkLabels, Labels: t.Ask.Labels}))
	}
	if t.Ask.KeepUntil != nil {
		err = errors.Join(err, mark(object.Mark{Kind: object.MarkEnd, Until: t.Ask.KeepUntil.UnixNano()}))
	}
	if err != nil {
		return id, err
	}
	if r.last != nil && t.Cause == object.CauseScheduled && r.last.Began.Sub(r.began) > retention.Ahead {
		err = mark(object.Mark{Kind: object.MarkArrival, Place: s.Place(),
			Text: fmt.Sprintf("it is dated %s, and the one before it, %s, is dated %s: the clock of this host was wrong when "+
				"one of them was taken",
				phrase.Stamp(r.began), r.last.ID[:12], phrase.Stamp(r.last.Began.Time))})
		if err != nil {
			return id, err
		}
	}
	if r.row, err = s.records.RowOf(id, root); err != nil {
		return id, err
	}
	r.row.Volume = v.Name
	_, r.row.Stored, _ = r.W.Stats()
	return id, nil
}
