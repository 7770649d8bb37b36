package site

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"unicode/utf8"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/core/treediff"
	"candidharbor/internal/store"
	"candidharbor/internal/visible"
	"candidharbor/internal/volume/tree"

	udiff "github.com/aymanbagabas/go-udiff"
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
func (s *Site) sideOf(volume, at string) (_ *side, release func(), err error) {
	h, err := s.holdMoment(volume, at)
	if err != nil {
		return nil, nil, err
	}
	return &side{api.ComparedSide{At: h.row.Began.Time, Snapshot: h.row.ID, Answer: h.answer}, h.root.Top}, h.release, nil
}

// nowOf reads the volume as it is without storing anything. What is not in the store
// already is found by get.
func (s *Site) nowOf(ctx context.Context, volume string) (_ *side, get object.Getter, done func(), err error) {
	v, err := s.cat.Volume(volume)
	if err != nil {
		return nil, nil, nil, err
	}
	if v.Origin != s.Name() {
		return nil, nil, nil, conflict("volume %s lives at the site %s: how it is now can be compared there alone", v.Name, v.Origin)
	}
	release, err := s.hold(ctx, "volume "+v.Name)
	if err != nil {
		return nil, nil, nil, err
	}
	defer release()
	r, err := s.prepare(volume)
	if err != nil {
		return nil, nil, nil, err
	}
	over := &overStore{w: r.w, mem: map[object.ID]object.Envelope{}}
	now := s.clock.Now()
	res, err := tree.Scan(ctx, tree.ScanOptions{Path: r.dir, Beneath: r.root, Excludes: v.Excludes.V, Chunker: r.ck, Sink: over, Get: s.store.Get, Cache: r.cache, Progress: &r.prog})
	if err != nil {
		r.end()
		return nil, nil, nil, explainScan(v, err)
	}
	res.Forget()
	get = func(id object.ID) (object.Envelope, error) {
		if env, ok := over.mem[id]; ok {
			return env, nil
		}
		return s.store.Get(id)
	}
	return &side{api.ComparedSide{At: now, Answer: "as it is now"}, res.Top}, get, r.end, nil
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

// Compare tells what differs between two moments of a volume, or a moment and now.
func (s *Site) Compare(ctx context.Context, volume, path, from, to string) (*api.Comparison, error) {
	rel, err := cleanAsked(path)
	if err != nil {
		return nil, err
	}
	if from == nowSide {
		return nil, bad("from is a moment in the past; now can only be what it is compared with")
	}
	a, release, err := s.sideOf(volume, from)
	if err != nil {
		return nil, err
	}
	defer release()
	get := object.Getter(s.store.Get)
	var b *side
	var done func()
	if to == nowSide {
		b, get, done, err = s.nowOf(ctx, volume)
	} else {
		b, done, err = s.sideOf(volume, to)
	}
	if err != nil {
		return nil, err
	}
	defer done()
	one, err := under(s.store.Get, &a.top, rel)
	if err != nil {
		return nil, err
	}
	other, err := under(get, &b.top, rel)
	if err != nil {
		return nil, err
	}
	if one == nil && other == nil {
		return nil, missing("neither of the two moments has %s: candid find %s %s looks for names like it", printable([]byte(rel)), volume, visible.Word(printable([]byte(pathBase(rel)))))
	}
	out := &api.Comparison{Volume: volume, Path: printable([]byte(rel)), From: a.api, To: b.api, Changes: []api.Difference{}}
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
		d := api.Difference{Path: printable([]byte(c.Path)), What: string(c.What), From: printable([]byte(c.From)), Below: c.Below}
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
	out.Counts = api.Differences{Added: n[treediff.Added], Removed: n[treediff.Removed], Changed: n[treediff.Changed], Renamed: n[treediff.Renamed], Adjusted: n[treediff.Adjusted]}
	out.AddedBytes, out.RemovedBytes, out.Cut = res.AddedBytes, res.RemovedBytes, res.Cut
	out.Summary = countWords([]counted{{out.Counts.Added, "added"}, {out.Counts.Removed, "removed"}, {out.Counts.Changed, "changed"}, {out.Counts.Renamed, "renamed"}, {out.Counts.Adjusted, "adjusted"}})
	return out, nil
}

// under finds a path below an entry; nil is not there.
func under(get object.Getter, top *object.Entry, rel string) (*object.Entry, error) {
	look := lookups{get: get, known: map[lookKey]*object.Entry{}}
	return look.find(&object.Root{Top: *top}, rel)
}

func (s *Site) entryAside(get object.Getter, e *object.Entry) api.Entry {
	one := *e
	one.Content, one.HasContent = object.ID{}, false
	v := entryView(s.store.Get, &one)
	if e.Kind == object.Dir {
		if n, err := object.CountDir(get, e.Content); err == nil {
			v.Entries = int64(n)
		}
	}
	return v
}

// mostText is the largest file of which a difference is told line by line.
const mostText = 512 << 10

// TextDifference tells line by line how a text file differs between two snapshots.
func (s *Site) TextDifference(volume, path, from, to string) (*api.TextDifference, error) {
	rel, err := cleanAsked(path)
	if err != nil {
		return nil, err
	}
	out := &api.TextDifference{Path: printable([]byte(rel)), Lines: []api.TextLine{}}
	var texts [2]string
	for i, at := range []string{from, to} {
		one, release, err := s.sideOf(volume, at)
		if err != nil {
			return nil, err
		}
		defer release()
		e, err := under(s.store.Get, &one.top, rel)
		switch {
		case err != nil:
			return nil, err
		case e == nil:
			return nil, missing("%s has no %s as of %s", volume, out.Path, stamp(one.api.At))
		case e.Kind != object.File:
			return nil, bad("%s is a %s: only files are compared line by line", out.Path, e.Kind)
		case e.Size > mostText:
			out.Refused = fmt.Sprintf("it has %s; up to %s are compared line by line", size(e.Size), size(mostText))
			return out, nil
		}
		var b bytes.Buffer
		if err := tree.CopyContent(s.store.Get, e, &b); err != nil {
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
			lines = append(lines, api.TextLine{What: "skipped", Text: many(h.FromLine-oldEnd, "line")})
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
	if left := strings.Count(a, "\n") + 1 - oldEnd; len(lines) > 0 && left > 0 && !(strings.HasSuffix(a, "\n") && left == 1) {
		lines = append(lines, api.TextLine{What: "skipped", Text: many(left, "line")})
	}
	return slices.Clip(lines), nil
}

// cleanAsked reads a path that was asked for.
func cleanAsked(path string) (string, error) {
	rel, err := tree.CleanPath(rawPath(path))
	if err != nil {
		return "", &Error{Misuse, err}
	}
	return rel, nil
}
