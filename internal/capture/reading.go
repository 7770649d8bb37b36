package capture

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"candidharbor/core/chunker"
	"candidharbor/core/lineage"
	"candidharbor/core/object"
	"candidharbor/core/retention"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/records"
	"candidharbor/internal/rules"
	"candidharbor/internal/run"
	"candidharbor/internal/store"
	"candidharbor/internal/volume/tree"
)

// reading is one volume on its way into a snapshot.
type reading struct {
	Dir, Root    string // where the volume lies
	Leave        []string
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
	disk         *diskReading // nil: it is a tree
	anyway       bool         // a safety snapshot is taken of whatever is there
	left         bool         // it is of what nobody had when another site took over
	term         uint64       // of what was left: the one in which this site was active
}

// Prepare gets ready to read a volume. The caller holds it, and ends the reading.
func (s *Service) Prepare(volume string) (*reading, error) { return s.prepare(volume, 0) }

// prepare is Prepare; of what was left behind, before a term, it looks at what this site itself had last.
func (s *Service) prepare(volume string, before uint64) (*reading, error) {
	v, err := s.Catalog.Volume(volume)
	if err != nil {
		return nil, err
	}
	r := &reading{v: v, left: before > 0, Leave: v.Excludes.V}
	if r.rs, err = s.rules.RulesFor(v); err != nil {
		return nil, err
	}
	if r.left {
		r.term = s.authority.OwnTerm(v, before)
		r.last, err = s.Catalog.LastOfTerm(s.Place(), v.Lineage, s.Name(), int64(r.term))
	} else {
		r.last, err = s.Catalog.LastSnapshot(s.Place(), v.Lineage)
	}
	if err != nil {
		return nil, err
	}
	if v.IsDisk() {
		return r, s.prepareDisk(r)
	}
	if r.Ck, err = ChunkerOf(v); err != nil {
		return nil, err
	}
	if r.Dir, r.Root, err = s.Fixed(v.Path); err != nil {
		return nil, err
	}
	if r.Leave, err = s.LeftOut(r.Dir, v.Excludes.V); err != nil {
		return nil, err
	}
	r.Cache = s.ScanCache(v, r.Leave)
	r.W = s.Store.NewWriter(s.Store.NewLease())
	if r.last != nil {
		r.Prog.Total.Store(r.last.Bytes)
	}
	return r, nil
}

// End gives free what was read and not committed.
func (r *reading) End() {
	r.W.Close()
	if r.Cache != nil {
		r.Cache.Close()
	}
	r.disk.end()
}

// read scans the volume into the store.
func (s *Service) read(ctx context.Context, j *run.Job, r *reading) error {
	v := r.v
	r.began = s.Clock.Now()
	ground, meant, err := s.standing(v)
	if err != nil {
		return err
	}
	if r.anyway || r.left {
		ground, meant = "", true
	}
	r.res, r.how, err = s.follower(v, r.Root, r.Dir, r.Leave).Read(ctx, tree.ScanOptions{Excludes: r.Leave, Chunker: r.Ck,
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
	same := t.Cause == object.CauseScheduled && (r.rs.Skip || t.onChange) || r.left
	if r.disk != nil {
		return same && s.isDiskCurrent(r)
	}
	return same && r.res.Unchanged && r.res.RemarkCount == 0 &&
		r.last != nil && r.last.GraceUntil.IsZero() && s.sameTop(r.last, r.res)
}

// sight notes that the last snapshot was found unchanged.
func (s *Service) sight(r *reading) error {
	if r.disk != nil {
		r.row = r.last
		return errors.Join(s.sighted(r.last, r.began, false), r.disk.stored())
	}
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
	if r.disk != nil {
		s.rememberDisk(r)
		return
	}
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

// commit makes one snapshot durable in the store and sets its row, not yet in the
// catalogue. The id is zero when nothing can be there, also after an error.
func (s *Service) commit(r *reading, t Taking, set *object.Set, consistency object.Consistency) (object.ID, error) {
	v := r.v
	pos := lineage.Position{Term: 1}
	name, _, _ := strings.Cut(v.Name, "@")
	root := &object.Root{Lineage: records.LineageOf(v.Lineage), Volume: name, Origin: v.Origin, Path: []byte(v.Path),
		Labels: v.Labels.V, Excludes: r.Leave, Began: r.began.UnixNano(), Ended: r.ended.UnixNano(),
		Consistency: consistency, Cause: t.Cause, ChunkAvg: uint32(v.ChunkAvg), Set: set}
	if r.disk != nil {
		r.disk.describe(root)
	} else {
		res := r.res
		root.Top, root.Links, root.HasLinks = res.Top, res.Links, res.HasLinks
		root.Files, root.Dirs, root.Others, root.Bytes = res.Files, res.Dirs, res.Others, res.Bytes
		root.Remarks, root.RemarkCount = res.Remarks, res.RemarkCount
	}
	if v.Origin != s.Name() {
		root.TakenBy = s.Name()
	}
	if r.last != nil {
		root.Predecessor, _ = object.ParseID(r.last.ID)
	}
	// No position is taken twice, also not that of one which waits for the rest of its set.
	term, sequence, err := s.Catalog.HighestPosition(v.Lineage)
	if err != nil {
		return object.ID{}, err
	}
	if r.left { // of the term that is over
		term, sequence = int64(r.term), 0
		if r.last != nil && r.last.Term >= term {
			term, sequence = r.last.Term, r.last.Sequence
		}
	}
	if term > 0 {
		pos = lineage.Position{Term: uint64(term), Sequence: uint64(sequence)}
	}
	if h, err := s.Catalog.History(v.Lineage); err != nil {
		return object.ID{}, err
	} else if h.Term > pos.Term && !r.left {
		pos = lineage.Position{Term: h.Term}
	}
	var id object.ID
	put := func(since uint64) (err error) {
		if since > pos.Term {
			pos = lineage.Position{Term: since}
		}
		pos = pos.Next()
		root.Term, root.Sequence = pos.Term, pos.Sequence
		id, err = r.W.Commit(root)
		return err
	}
	if r.left { // of a term that is over, by who was active in it
		err = put(0)
	} else {
		err = s.authority.Within(v, put)
	}
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
