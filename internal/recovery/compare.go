package recovery

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"unicode/utf8"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/core/treediff"
	"candidharbor/internal/authority"
	"candidharbor/internal/capture"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
	"candidharbor/internal/run"
	"candidharbor/internal/store"
	"candidharbor/internal/visible"
	"candidharbor/internal/volume/tree"

	"github.com/aymanbagabas/go-udiff"
)

// changesTold bounds the changes of a comparison that are listed; all are counted.
const changesTold = 1000

// nowSide is the moment that means the volume as it is.
const nowSide = "now"

// side is one of two things compared.
type side struct {
	api api.ComparedSide
	top object.Entry
}

// sideOf finds the tree that stands for a moment, which stays until it is released.
func (s *Service) sideOf(volume, at string) (_ *side, release func(), err error) {
	h, err := s.holdMoment(volume, at)
	if err != nil {
		return nil, nil, err
	}
	return &side{api.ComparedSide{At: h.row.Began.Time, Snapshot: h.row.ID, Answer: h.answer}, h.root.Top}, h.release, nil
}

// fromSide is sideOf of what is here, or of the copy of another site, and how its objects are had. Of that copy it
// fetches the directories below a path that the store here lacks.
func (s *Service) fromSide(ctx context.Context, ask CompareAsk, rel string) (*side, object.Getter, func(), error) {
	if ask.FromSite == "" {
		one, release, err := s.sideOf(ask.Volume, ask.From)
		return one, s.Store.Get, release, err
	}
	v, err := s.tree(ask.Volume)
	if err != nil {
		return nil, nil, nil, err
	}
	row, answer, peer, err := s.resolve(ctx, v, ask.From, ask.FromSite)
	if err != nil {
		return nil, nil, nil, err
	}
	if peer == nil { // an object is what its identity says, wherever it lies
		one, release, err := s.sideOf(ask.Volume, row.ID)
		if err == nil {
			one.api.Answer = answer
		}
		return one, s.Store.Get, release, err
	}
	far, err := s.RecallOf(ctx, peer, v, row)
	if err != nil {
		return nil, nil, nil, err
	}
	if err := far.lookThrough([]string{rel}); err != nil {
		far.lease.Release()
		return nil, nil, nil, err
	}
	return &side{api.ComparedSide{At: row.Began.Time, Snapshot: row.ID, Answer: answer}, far.root.Top}, far.Get,
		func() { far.lease.Release() }, nil
}

// comparable fails when files that are the same would not be seen to be, for they were cut otherwise.
func (s *Service) comparable(a, b string) error {
	var avg [2]int
	for i, name := range []string{a, b} {
		v, err := s.tree(name)
		if err != nil {
			return err
		}
		avg[i] = int(v.ChunkAvg)
	}
	if avg[0] != avg[1] {
		return refusal.Conflictf("%s and %s cannot be compared: their files are stored in pieces of another size", a, b)
	}
	return nil
}

// nowOf reads the volume as it is without storing anything. What is not in the store
// already is found by get.
func (s *Service) nowOf(ctx context.Context, volume string) (_ *side, get object.Getter, done func(), err error) {
	v, err := s.tree(volume)
	if err != nil {
		return nil, nil, nil, err
	}
	if !v.ActiveAt(s.Name()) {
		return nil, nil, nil, authority.Elsewhere(v, "how it is now can be compared there alone")
	}
	release, err := s.run.Hold(ctx, run.KeyVolume.Of(v.Name))
	if err != nil {
		return nil, nil, nil, err
	}
	defer release()
	r, err := s.capture.Prepare(volume)
	if err != nil {
		return nil, nil, nil, err
	}
	over := &overStore{w: r.W, mem: map[object.ID]object.Envelope{}}
	now := s.Clock.Now()
	res, err := tree.Scan(ctx, tree.ScanOptions{Path: r.Dir, Beneath: r.Root, Excludes: r.Leave, Chunker: r.Ck,
		Sink: over, Get: s.Store.Get, Cache: r.Cache, Progress: &r.Prog})
	if err != nil {
		r.End()
		return nil, nil, nil, capture.ExplainScan(v, err)
	}
	res.Forget()
	get = func(id object.ID) (object.Envelope, error) {
		if env, ok := over.mem[id]; ok {
			return env, nil
		}
		return s.Store.Get(id)
	}
	return &side{api.ComparedSide{At: now, Answer: "as it is now"}, res.Top}, get, r.End, nil
}

// overStore takes what a scan makes: directories and lists that the store does not have
// stay in memory, content is only identified.
type overStore struct {
	w   *store.Writer
	mu  sync.Mutex
	mem map[object.ID]object.Envelope
}

// Put is part of tree.Sink.
func (o *overStore) Put(kind object.Kind, children []object.ID, payload []byte) (object.ID, error) {
	raw := object.Encode(nil, kind, children, payload)
	id := object.Sum(raw)
	if o.w.Has(id) == nil {
		return id, nil
	}
	env, err := object.Decode(raw)
	o.mu.Lock()
	defer o.mu.Unlock()
	o.mem[id] = env
	return id, err
}

// PutChunk is part of tree.Sink.
func (o *overStore) PutChunk(buf []byte) (object.ID, error) {
	return object.Sum(object.EncodeChunkInPlace(buf)), nil
}

// Has is part of tree.Sink.
func (o *overStore) Has(id object.ID) error {
	o.mu.Lock()
	_, ok := o.mem[id]
	o.mu.Unlock()
	if ok {
		return nil
	}
	return o.w.Has(id)
}

// CompareAsk asks what differs between two moments of a volume, or between one of it and one of another volume.
type CompareAsk struct {
	Volume, Path string
	From         string
	FromSite     string // whose copy it is; empty: what is here
	To           string // a moment, or now
	With         string // the volume that To is of; empty: the same
}

// Compare tells what differs between two moments, or a moment and now.
func (s *Service) Compare(ctx context.Context, ask CompareAsk) (*api.Comparison, error) {
	volume, with := ask.Volume, cmp.Or(ask.With, ask.Volume)
	rel, err := cleanAsked(ask.Path)
	if err != nil {
		return nil, err
	}
	if ask.From == nowSide {
		return nil, refusal.Badf("from is a moment in the past; now can only be what it is compared with")
	}
	if err := s.comparable(volume, with); err != nil {
		return nil, err
	}
	a, getOld, release, err := s.fromSide(ctx, ask, rel)
	if err != nil {
		return nil, err
	}
	defer release()
	getNew := object.Getter(s.Store.Get)
	var b *side
	var done func()
	if ask.To == nowSide {
		b, getNew, done, err = s.nowOf(ctx, with)
	} else {
		b, done, err = s.sideOf(with, ask.To)
	}
	if err != nil {
		return nil, err
	}
	defer done()
	get := func(id object.ID) (object.Envelope, error) {
		env, err := getNew(id)
		if err != nil && ask.FromSite != "" {
			return getOld(id)
		}
		return env, err
	}
	one, err := under(getOld, &a.top, rel)
	if err != nil {
		return nil, err
	}
	other, err := under(get, &b.top, rel)
	if err != nil {
		return nil, err
	}
	if one == nil && other == nil {
		return nil, refusal.Missingf("neither of the two moments has %s: candid find %s %s looks for names like it",
			phrase.Printable([]byte(rel)), volume, visible.Word(phrase.Printable([]byte(pathBase(rel)))))
	}
	out := &api.Comparison{Volume: volume, With: ask.With, Path: phrase.Printable([]byte(rel)), From: a.api, To: b.api,
		Changes: []api.Difference{}}
	within := func(id object.ID) (object.Envelope, error) { // ends when who asked has left
		if err := ctx.Err(); err != nil {
			return object.Envelope{}, err
		}
		return get(id)
	}
	res, err := treediff.Entries(within, rel, one, other, changesTold)
	if err != nil {
		return nil, err
	}
	for _, c := range res.Changes {
		d := api.Difference{Path: phrase.Printable([]byte(c.Path)), What: string(c.What),
			From: phrase.Printable([]byte(c.From)), Below: c.Below}
		if c.Old != nil {
			e := s.entryAside(get, c.Old)
			d.Old = &e
		}
		if c.New != nil {
			e := s.entryAside(get, c.New)
			d.New = &e
		}
		out.Changes = append(out.Changes, d)
	}
	n := res.Counts
	out.Counts = api.Differences{Added: n[treediff.Added], Removed: n[treediff.Removed], Changed: n[treediff.Changed],
		Renamed: n[treediff.Renamed], Adjusted: n[treediff.Adjusted]}
	out.AddedBytes, out.RemovedBytes, out.Cut = res.AddedBytes, res.RemovedBytes, res.Cut
	out.Summary = phrase.CountWords([]phrase.Counted{{N: out.Counts.Added, What: "added"},
		{N: out.Counts.Removed, What: "removed"}, {N: out.Counts.Changed, What: "changed"},
		{N: out.Counts.Renamed, What: "renamed"}, {N: out.Counts.Adjusted, What: "adjusted"}})
	return out, nil
}

// under finds a path below an entry; nil is not there.
func under(get object.Getter, top *object.Entry, rel string) (*object.Entry, error) {
	look := lookups{get: get, known: map[lookKey]*object.Entry{}}
	return look.find(&object.Root{Top: *top}, rel)
}

func (s *Service) entryAside(get object.Getter, e *object.Entry) api.Entry {
	one := *e
	one.Content, one.HasContent = object.ID{}, false
	v := entryView(s.Store.Get, &one)
	if e.Kind == object.Dir {
		if n, err := object.CountDir(get, e.Content); err == nil {
			v.Entries = int64(n)
		}
	}
	return v
}

// mostText is the largest file that is compared line by line.
const mostText = 512 << 10

// TextDifference tells line by line how a text file differs between two snapshots.
func (s *Service) TextDifference(volume, path, from, to string) (*api.TextDifference, error) {
	rel, err := cleanAsked(path)
	if err != nil {
		return nil, err
	}
	out := &api.TextDifference{Path: phrase.Printable([]byte(rel)), Lines: []api.TextLine{}}
	var texts [2]string
	for i, at := range []string{from, to} {
		one, release, err := s.sideOf(volume, at)
		if err != nil {
			return nil, err
		}
		defer release()
		e, err := under(s.Store.Get, &one.top, rel)
		switch {
		case err != nil:
			return nil, err
		case e == nil:
			return nil, refusal.Missingf("%s has no %s as of %s", volume, out.Path, phrase.Stamp(one.api.At))
		case e.Kind != object.File:
			return nil, refusal.Badf("%s is a %s: only files are compared line by line", out.Path, e.Kind)
		case e.Size > mostText:
			out.Refused = fmt.Sprintf("it has %s; up to %s are compared line by line", phrase.Size(e.Size),
				phrase.Size(mostText))
			return out, nil
		}
		var b bytes.Buffer
		if err := tree.CopyContent(s.Store.Get, e, &b); err != nil {
			return nil, err
		}
		if !utf8.Valid(b.Bytes()) || bytes.IndexByte(b.Bytes(), 0) >= 0 {
			out.Refused = "it is not text"
			return out, nil
		}
		texts[i] = b.String()
	}
	out.Same = texts[0] == texts[1]
	if out.Lines, err = linesOf(texts[0], texts[1]); err != nil {
		return nil, err
	}
	return out, nil
}

func linesOf(a, b string) ([]api.TextLine, error) {
	u, err := udiff.ToUnifiedDiff("", "", a, udiff.Lines(a, b), 3)
	if err != nil {
		return nil, err
	}
	lines := []api.TextLine{}
	oldEnd := 1
	for _, h := range u.Hunks {
		if h.FromLine > oldEnd {
			lines = append(lines, api.TextLine{What: "skipped", Text: phrase.Many(h.FromLine-oldEnd, "line")})
		}
		old, new := h.FromLine, h.ToLine
		for _, l := range h.Lines {
			one := api.TextLine{Text: strings.TrimRight(l.Content, "\r\n")}
			switch l.Kind {
			case udiff.Delete:
				one.What, one.Old = "removed", old
				old++
			case udiff.Insert:
				one.What, one.New = "added", new
				new++
			default:
				one.What, one.Old, one.New = "same", old, new
				old++
				new++
			}
			lines = append(lines, one)
		}
		oldEnd = old
	}
	if left := strings.Count(a, "\n") + 1 - oldEnd; len(lines) > 0 && left > 0 && !(strings.HasSuffix(a, "\n") &&
		left == 1) {
		lines = append(lines, api.TextLine{What: "skipped", Text: phrase.Many(left, "line")})
	}
	return slices.Clip(lines), nil
}

// cleanAsked reads a path that was asked for.
func cleanAsked(path string) (string, error) {
	rel, err := tree.CleanPath(phrase.RawPath(path))
	if err != nil {
		return "", refusal.Wrap(refusal.Misuse, err)
	}
	return rel, nil
}
