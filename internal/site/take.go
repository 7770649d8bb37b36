package site

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
	"candidharbor/internal/store"
	"candidharbor/internal/volume/tree"

	"golang.org/x/sync/errgroup"
)

// reading is one volume on its way into a snapshot.
type reading struct {
	dir, root    string // where the volume lies
	v            *catalog.Volume
	rs           *ruleset
	last         *catalog.Snapshot
	cache        *tree.Cache
	w            *store.Writer
	ck           *chunker.Chunker
	prog         tree.Progress
	began, ended time.Time
	res          *tree.Scanned
	how          *tree.Followed
	row          *catalog.Snapshot
	anyway       bool // a safety snapshot is taken of whatever is there
}

// prepare gets ready to read a volume. The caller holds it, and ends the reading.
func (s *Site) prepare(volume string) (*reading, error) {
	v, err := s.cat.Volume(volume)
	if err != nil {
		return nil, err
	}
	r := &reading{v: v}
	if r.rs, err = s.rulesFor(v); err != nil {
		return nil, err
	}
	if r.ck, err = chunkerOf(v); err != nil {
		return nil, err
	}
	if r.dir, r.root, err = s.fixed(v.Path); err != nil {
		return nil, err
	}
	if r.last, err = s.cat.LastSnapshot(s.Place(), v.Lineage); err != nil {
		return nil, err
	}
	r.cache = s.scanCache(v)
	r.w = s.store.NewWriter(s.store.NewLease())
	if r.last != nil {
		r.prog.Total.Store(r.last.Bytes)
	}
	return r, nil
}

func (r *reading) end() {
	r.w.Close()
	r.cache.Close()
}

// read scans the volume into the store.
func (s *Site) read(ctx context.Context, j *job, r *reading) error {
	v := r.v
	r.began = s.clock.Now()
	ground, meant, err := s.standing(v)
	if err != nil {
		return err
	}
	if r.anyway {
		ground, meant = "", true
	}
	r.res, r.how, err = s.follower(v, r.root, r.dir).Read(ctx, tree.ScanOptions{Excludes: v.Excludes.V, Chunker: r.ck, Sink: r.w, Get: s.store.Get, Cache: r.cache, Progress: &r.prog, Ground: ground}, r.began)
	if err := s.doubted(r, meant, err); err != nil {
		return explainScan(v, err)
	}
	r.ended = s.clock.Now()
	s.followers.note(v.Lineage, r.how)
	if len(r.how.Untold) > 0 {
		j.logf("everything was looked at, as once a day, and changes were found that the journal had not told, the first in %s; from now on every snapshot looks at everything", printable([]byte(r.how.Untold[0])))
		j.remark()
		s.log.Error("the change journal missed a change; it is not relied on any more until the service starts anew", "volume", v.Name, "directory", r.how.Untold[0], "directories", len(r.how.Untold))
	}
	return nil
}

// stands reports whether the last snapshot is still what was read, so that it need not be
// taken again.
func (s *Site) stands(r *reading, t taking) bool {
	return t.cause == object.CauseScheduled && (r.rs.skip || t.onChange) && r.res.Unchanged && r.res.RemarkCount == 0 &&
		r.last != nil && r.last.GraceUntil.IsZero() && s.sameTop(r.last, r.res)
}

// sight notes that the last snapshot was found unchanged.
func (s *Site) sight(r *reading) error {
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
func (s *Site) remember(j *job, r *reading) {
	if err := s.believed(r); err != nil {
		s.log.Warn("it could not be noted where a volume stands", "volume", r.v.Name, "error", err)
	}
	if err := r.res.Remember(); err != nil {
		s.log.Warn("the scan cache could not be kept; the next snapshot reads more", "volume", r.v.Name, "error", err)
		s.unfollow(r.v.Lineage)
	} else {
		r.how.Done(true)
		s.followers.stands(r.v.Lineage, r.row.ID)
	}
	for i, rm := range r.res.Remarks {
		if i == 50 {
			j.logf("… and %d more; candid snapshot show %s lists them", r.res.RemarkCount-50, r.row.ID[:12])
			break
		}
		j.logf("%s: %s", printable(rm.Path), rm.What)
	}
	if r.res.RemarkCount > 0 {
		j.remark()
	}
}

// takeAll takes a snapshot of a volume or of its whole group, and returns that of the
// volume.
func (s *Site) takeAll(ctx context.Context, j *job, g *catalog.Group, members []string, volume string, t taking) (*catalog.Snapshot, string, error) {
	j.say("waiting for another run on this volume")
	for _, name := range members { // in one order everywhere
		release, err := s.hold(ctx, "volume "+name)
		if err != nil {
			return nil, "", err
		}
		defer release()
	}
	return s.takeHeld(ctx, j, g, members, volume, t)
}

// takeHeld is takeAll for a caller that holds the volumes.
func (s *Site) takeHeld(ctx context.Context, j *job, g *catalog.Group, members []string, volume string, t taking) (*catalog.Snapshot, string, error) {
	var all []*reading
	defer func() {
		for _, r := range all {
			r.end()
		}
	}()
	var vols []*catalog.Volume
	var rules []*ruleset
	for _, name := range members {
		r, err := s.prepare(name)
		if err != nil {
			return nil, "", err
		}
		r.anyway = t.cause == object.CauseSafety
		all, vols, rules = append(all, r), append(vols, r.v), append(rules, r.rs)
	}
	j.begin(func() api.Progress {
		var p api.Progress
		for _, r := range all {
			p.DoneBytes += r.prog.Bytes.Load()
			p.TotalBytes += max(r.prog.Total.Load(), r.prog.Bytes.Load())
			p.Files += r.prog.Files.Load()
		}
		return p
	})
	group := ""
	if g != nil {
		group = g.Name
	}
	quiet, err := s.frozen(ctx, j, holdsOf(g, rules...), vols, group, func() error {
		j.say("reading")
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
	if !slices.ContainsFunc(all, func(r *reading) bool { return !s.stands(r, t) }) {
		for i, r := range all {
			if err := s.sight(r); err != nil {
				for _, r := range all[i:] {
					r.res.Forget()
				}
				return nil, "", err
			}
		}
		mine := rowOfVolume(all, volume)
		return mine, fmt.Sprintf("unchanged since %s; seen until %s", mine.Began.Format("2006-01-02 15:04"), mine.SeenUntil.Format("2006-01-02 15:04:05")), nil
	}
	j.say("making it durable")
	if err := s.commitAll(g, all, t, quiet); err != nil {
		forget()
		if errors.Is(err, store.ErrNoObject) { // what was taken over from the last reading is not all there
			for _, r := range all {
				r.cache.Drop()
				s.unfollow(r.v.Lineage)
			}
			err = fmt.Errorf("%w; the next snapshot reads everything anew", err)
		}
		return nil, "", err
	}
	for _, r := range all {
		s.remember(j, r)
	}
	s.changed("snapshots", members...)
	if err := s.store.KeepBallast(); err != nil {
		s.log.Error("the ballast could not be kept", "error", err)
	}
	mine := rowOfVolume(all, volume)
	if g != nil {
		return mine, setWords(g, all), nil
	}
	return mine, fmt.Sprintf("snapshot %s: %d files, %s, of which %s were new in the store%s", mine.ID[:12], mine.Files, size(mine.Bytes), size(mine.Stored), remarkWords(mine.Remarks)), nil
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
func (s *Site) commitAll(g *catalog.Group, all []*reading, t taking, quiet bool) error {
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
			case quiet && len(holdsOf(g, r.rs)) > 0:
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
		return s.cat.PutSnapshots(rows)
	}()
	if err != nil {
		if len(done) > 0 {
			err = errors.Join(err, s.store.RemoveRoots(done...))
		}
		return err
	}
	for _, r := range all {
		s.reached(r.v.Name, s.Place(), r.began)
	}
	return nil
}

// commit makes one snapshot durable in the store and sets its row, not yet in the
// catalogue. The id is zero when nothing can be there, also after an error.
func (s *Site) commit(r *reading, t taking, set *object.Set, consistency object.Consistency) (object.ID, error) {
	v, res := r.v, r.res
	pos := lineage.Position{Term: 1}
	root := &object.Root{Lineage: lineageOf(v.Lineage), Volume: v.Name, Origin: s.Name(), Path: []byte(v.Path), Labels: v.Labels.V, Excludes: v.Excludes.V,
		Began: r.began.UnixNano(), Ended: r.ended.UnixNano(), Consistency: consistency, Cause: t.cause, Top: res.Top, Links: res.Links, HasLinks: res.HasLinks,
		Files: res.Files, Dirs: res.Dirs, Others: res.Others, Bytes: res.Bytes, Remarks: res.Remarks, RemarkCount: res.RemarkCount, ChunkAvg: uint32(v.ChunkAvg), Set: set}
	if r.last != nil {
		root.Predecessor, _ = object.ParseID(r.last.ID)
	}
	// No position is taken twice, also not that of one which waits for the rest of its set.
	term, sequence, err := s.cat.HighestPosition(v.Lineage)
	if err != nil {
		return object.ID{}, err
	}
	if term > 0 {
		pos = lineage.Position{Term: uint64(term), Sequence: uint64(sequence)}
	}
	if text, err := s.cat.Setting(termSetting + v.Lineage); err != nil {
		return object.ID{}, err
	} else if t, _ := strconv.ParseUint(text, 10, 64); t > pos.Term {
		pos = lineage.Position{Term: t}
	}
	pos = pos.Next()
	root.Term, root.Sequence = pos.Term, pos.Sequence
	id, err := r.w.Commit(root)
	if err != nil {
		return id, err
	}
	mark := func(m object.Mark) error {
		m.Root, m.At = id, r.ended.UnixNano()
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
		return id, err
	}
	if r.last != nil && t.cause == object.CauseScheduled && r.last.Began.Sub(r.began) > retention.Ahead {
		err = mark(object.Mark{Kind: object.MarkArrival, Place: s.Place(), Text: fmt.Sprintf("it is dated %s, and the one before it, %s, is dated %s: the clock of this host was wrong when one of them was taken",
			stamp(r.began), r.last.ID[:12], stamp(r.last.Began.Time))})
		if err != nil {
			return id, err
		}
	}
	if r.row, err = s.rowOf(id, root); err != nil {
		return id, err
	}
	r.row.Volume = v.Name
	_, r.row.Stored, _ = r.w.Stats()
	return id, nil
}
