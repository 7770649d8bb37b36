package store

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"candidharbor/core/object"

	"github.com/RoaringBitmap/roaring/v2"
	"golang.org/x/time/rate"
)

// VerifyOptions say how a verification runs.
type VerifyOptions struct {
	BytesPerSecond int64 // reading budget; 0: none
	Progress       func(done, total int64)
}

// Damage is one stored object that is not what was written.
type Damage struct {
	Object    object.ID         `json:"object"` // zero when not even its head can be read
	Kind      string            `json:"kind"`
	Pack      string            `json:"pack"`
	Offset    int64             `json:"offset"`
	What      string            `json:"what"`
	Snapshots []DamagedSnapshot `json:"snapshots"` // none: nothing needs it
	entry     indexEntry
}

// DamagedSnapshot names the paths of a snapshot that a damage concerns.
type DamagedSnapshot struct {
	ID    object.ID `json:"id"`
	Paths []string  `json:"paths"`
	More  int       `json:"more"` // paths beyond those listed
}

// VerifyResult is the outcome of a verification.
type VerifyResult struct {
	Objects int64    `json:"objects"`
	Bytes   int64    `json:"bytes"`
	Damage  []Damage `json:"damage"`
}

const pathsListed = 50

// Verify reads all stored bytes, recomputes every identity and says which snapshots
// and paths a damage concerns. Damaged objects, and what leads to them, become absent
// to writers and peers, so that the next snapshot or carry puts them anew.
func (s *Store) Verify(ctx context.Context, opt VerifyOptions) (VerifyResult, error) {
	s.maint.Lock()
	defer s.maint.Unlock()
	var res VerifyResult
	s.adm.Lock()
	s.mu.RLock()
	packs := slices.Clone(s.man.Packs)
	logged := make([]indexEntry, 0, len(s.mem))
	for id, loc := range s.mem {
		logged = append(logged, indexEntry{id, loc})
	}
	logName := logName(s.logf.num)
	s.mu.RUnlock()
	s.adm.Unlock()
	var total int64
	for _, p := range packs {
		total += p.Bytes
	}
	var limit *rate.Limiter
	if opt.BytesPerSecond > 0 {
		limit = rate.NewLimiter(rate.Limit(opt.BytesPerSecond), 4<<20)
	}
	pace := func(n int64) error {
		res.Bytes += n
		if opt.Progress != nil {
			opt.Progress(res.Bytes, total)
		}
		for limit != nil && n > 0 {
			step := min(n, int64(limit.Burst()))
			if err := limit.WaitN(ctx, int(step)); err != nil {
				return err
			}
			n -= step
		}
		return ctx.Err()
	}
	for _, p := range packs {
		if err := s.verifyPack(p, &res, pace); err != nil {
			return res, err
		}
	}
	for i := range logged {
		raw, err := s.readAt(logged[i].location, nil)
		if err == nil {
			err = verifyRecord(raw, logged[i].id)
		}
		res.Objects++
		if err != nil {
			res.Damage = append(res.Damage, Damage{Object: logged[i].id, Kind: logged[i].kind.String(), Pack: "log/" + logName,
				Offset: int64(logged[i].offset), What: err.Error(), entry: logged[i]})
		}
		if err := pace(logged[i].size()); err != nil {
			return res, err
		}
	}
	return res, s.noteDamage(ctx, &res)
}

func verifyRecord(raw []byte, id object.ID) error {
	h, err := checkRecord(raw)
	if err != nil {
		return err
	}
	if h.id != id {
		return fmt.Errorf("%w: another object lies here", ErrDamaged)
	}
	b, err := openRecord(nil, raw)
	if err == nil {
		_, err = object.Decode(b)
	}
	return err
}

// verifyPack reads a pack from end to end. Where a record's head is unreadable, the
// index says where the next ones begin.
func (s *Store) verifyPack(p packInfo, res *VerifyResult, pace func(int64) error) error {
	report := func(d Damage) {
		d.Pack = p.Name
		res.Damage = append(res.Damage, d)
	}
	var placed []indexEntry
	if err := s.eachPlaced(func(e *indexEntry) error {
		if e.pack == p.Num {
			placed = append(placed, *e)
		}
		return nil
	}); err != nil {
		return err
	}
	slices.SortFunc(placed, func(a, b indexEntry) int { return cmp.Compare(a.offset, b.offset) })
	r, err := s.media.Open(p.Name)
	if err != nil {
		for _, e := range placed {
			report(Damage{Object: e.id, Kind: e.kind.String(), Offset: int64(e.offset), What: "the pack cannot be opened: " + err.Error(), entry: e})
		}
		return nil
	}
	defer r.Close()
	head := make([]byte, packHead)
	if _, err := r.ReadAt(head, 0); err != nil || !bytes.Equal(head, packHeader) {
		report(Damage{Kind: "pack head", What: "damaged: the head of the pack is not what was written"})
	}
	if r.Size() != p.Bytes {
		report(Damage{Kind: "pack", Offset: r.Size(), What: fmt.Sprintf("damaged: the pack has %d bytes, %d were written", r.Size(), p.Bytes)})
	}
	next := 0
	for at := int64(packHead); at < p.Bytes; {
		for next < len(placed) && int64(placed[next].offset) < at {
			next++
		}
		known := next < len(placed) && int64(placed[next].offset) == at
		raw := make([]byte, recordHead)
		_, err := r.ReadAt(raw, at)
		var h recordHeader
		if err == nil {
			h, err = parseHeader(raw)
		}
		size := h.size()
		if known {
			size = placed[next].size()
		}
		if err == nil || known {
			if at+size > p.Bytes {
				size = p.Bytes - at
			}
			raw = make([]byte, size)
			if _, rerr := r.ReadAt(raw, at); rerr != nil {
				err = fmt.Errorf("%w: %w", ErrDamaged, rerr)
			}
		}
		want := h.id
		if known {
			want = placed[next].id
		}
		if err == nil {
			err = verifyRecord(raw, want)
		}
		res.Objects++
		if err != nil {
			d := Damage{Object: want, Kind: h.kind.String(), Offset: at, What: err.Error()}
			if known {
				d.entry, d.Kind = placed[next], placed[next].kind.String()
			}
			report(d)
			if !known { // a dead record whose length cannot be trusted: go on at the next known one
				skip := p.Bytes - at
				if next < len(placed) {
					skip = int64(placed[next].offset) - at
				}
				size = skip
			}
		}
		at += size
		if err := pace(size); err != nil {
			return err
		}
	}
	return nil
}

// noteDamage finds which snapshots and paths are concerned, and makes the damaged
// objects and everything that leads to them absent, durably.
func (s *Store) noteDamage(ctx context.Context, res *VerifyResult) error {
	bad := roaring.New()
	at := map[uint32]*Damage{}
	res.Damage = slices.DeleteFunc(res.Damage, func(d Damage) bool { // put anew since: a sweep takes the old copy away
		loc, err := s.ordinalOf(d.entry.id)
		return err == nil && !d.entry.id.IsZero() && loc.ordinal != d.entry.ordinal
	})
	for i := range res.Damage {
		d := &res.Damage[i]
		if d.entry.size() == recordHead && d.entry.id.IsZero() {
			continue
		}
		loc, err := s.ordinalOf(d.entry.id)
		if err != nil || loc.ordinal != d.entry.ordinal {
			continue // superseded by a good copy, or dead
		}
		bad.Add(loc.ordinal)
		at[loc.ordinal] = d
	}
	taint := bad.Clone()
	if !bad.IsEmpty() {
		w := &damageWalk{s: s, bad: bad, taint: taint, clean: roaring.New()}
		for _, id := range s.Roots() {
			if err := ctx.Err(); err != nil {
				return err
			}
			root, _, err := s.Root(id)
			if err != nil {
				continue
			}
			w.found = map[uint32]*DamagedSnapshot{}
			if _, err := w.visit(root.Tree(), "", true); err != nil {
				return err
			}
			if root.HasLinks {
				if _, err := w.visit(root.Links, "(hard links)", true); err != nil {
					return err
				}
			}
			for o, f := range w.found {
				f.ID = id
				at[o].Snapshots = append(at[o].Snapshots, *f)
			}
		}
	}
	return s.saveDamaged(bad, taint)
}

type damagedFile struct {
	Epoch uint64 `json:"epoch"`
	Bad   []byte `json:"damaged"`
	Taint []byte `json:"tainted"`
}

func (s *Store) saveDamaged(bad, taint *roaring.Bitmap) error {
	path := filepath.Join(s.dir, "damaged")
	s.mu.Lock()
	defer s.mu.Unlock()
	if bad.IsEmpty() && s.taint.IsEmpty() {
		return nil
	}
	raw, err := json.Marshal(damagedFile{s.man.Epoch, bitmapBytes(bad), bitmapBytes(taint)})
	if err != nil {
		return err
	}
	if err := ReplaceFile(path, raw); err != nil {
		return err
	}
	s.absent.AndNot(s.taint)
	s.absent.Or(s.gone)
	s.absent.Or(taint)
	s.taint = taint
	s.nodes.Purge()
	return nil
}

func (s *Store) loadDamaged() error {
	raw, err := os.ReadFile(filepath.Join(s.dir, "damaged"))
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	var d damagedFile
	if json.Unmarshal(raw, &d) != nil || d.Epoch != s.man.Epoch {
		return nil
	}
	taint, err := bitmapFrom(d.Taint)
	if err != nil {
		return nil
	}
	s.taint = taint
	s.absent.Or(taint)
	return nil
}

// noteHealed counts a repair when a damaged or tainted object is put anew: its new
// copy has a new ordinal, which earlier censuses do not know.
func (s *Store) noteHealed(id *object.ID) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.noteHealedLocked(id)
}

func (s *Store) noteHealedLocked(id *object.ID) {
	if s.taint.IsEmpty() {
		return
	}
	if loc, ok, err := s.lookup(id); err == nil && ok && s.taint.Contains(loc.ordinal) {
		s.man.Heals++
	}
}

// Repaired reports whether anything was put anew after damage, so that ordinals no
// longer ascend from children to parents everywhere.
func (s *Store) Repaired() bool {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.man.Heals > 0
}

// damageWalk visits every distinct object below a root once over all roots, except
// that paths are followed wherever there is damage.
type damageWalk struct {
	s                 *Store
	bad, taint, clean *roaring.Bitmap
	found             map[uint32]*DamagedSnapshot
}

func (w *damageWalk) note(ordinal uint32, path string) {
	f := w.found[ordinal]
	if f == nil {
		f = &DamagedSnapshot{}
		w.found[ordinal] = f
	}
	if len(f.Paths) < pathsListed {
		f.Paths = append(f.Paths, path)
	} else {
		f.More++
	}
}

func (w *damageWalk) visit(id object.ID, path string, isDir bool) (tainted bool, err error) {
	loc, err := w.s.ordinalOf(id)
	if errors.Is(err, ErrNoObject) {
		return true, nil
	}
	if err != nil || w.clean.Contains(loc.ordinal) {
		return false, err
	}
	if w.bad.Contains(loc.ordinal) {
		w.note(loc.ordinal, path)
		return true, nil
	}
	switch loc.kind {
	case object.KindChunk:
	case object.KindDir:
		tainted, err = w.visitDir(id, path)
	default:
		err = w.s.eachChild(id, loc.kind, func(child object.ID) error {
			t, err := w.visit(child, path, false)
			tainted = tainted || t
			return err
		})
	}
	if err != nil {
		return tainted, err
	}
	if tainted {
		w.taint.Add(loc.ordinal)
	} else {
		w.clean.Add(loc.ordinal)
	}
	return tainted, nil
}

func (w *damageWalk) visitDir(id object.ID, path string) (tainted bool, err error) {
	// Index nodes and pages between a directory and its entries may be the damaged
	// ones: visit the raw children first, then the entries for their names.
	env, err := w.s.Get(id)
	if err != nil {
		return true, nil
	}
	pages, err := object.DirPages(env)
	if err != nil {
		return true, nil
	}
	for _, page := range pages {
		t, err := w.visit(page, path+"/", true)
		if err != nil {
			return tainted, err
		}
		tainted = tainted || t
	}
	err = object.PageEntries(env, func(e object.Entry) error {
		if !e.HasContent {
			return nil
		}
		t, err := w.visit(e.Content, path+"/"+string(e.Name), e.Kind == object.Dir)
		tainted = tainted || t
		return err
	})
	return tainted, err
}
