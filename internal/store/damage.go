package store

import (
	"context"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"

	"candidharbor/core/object"

	"github.com/RoaringBitmap/roaring/v2"
)

// Damage is one stored object that is not what was written, or is missing.
type Damage struct {
	Object    object.ID         `json:"object"` // zero when not even its head can be read
	Kind      string            `json:"kind"`
	Pack      string            `json:"pack"` // empty when the index does not have the object
	Offset    int64             `json:"offset"`
	What      string            `json:"what"`
	Snapshots []DamagedSnapshot `json:"snapshots"` // none: nothing needs it
}

// DamagedSnapshot names the paths of a snapshot that a damage concerns.
type DamagedSnapshot struct {
	ID    object.ID `json:"id"`
	Paths []string  `json:"paths"`
	More  int       `json:"more"` // paths beyond those listed
}

const pathsListed = 50

type damagedFile struct {
	Epoch uint64 `json:"epoch"`
	Bad   []byte `json:"damaged"`
	Taint []byte `json:"tainted"`
	Stale []byte `json:"stale,omitempty"` // damaged copies that good ones stand for
}

// addDamaged makes objects absent to writers and peers, durably. What leads to them is
// found by the next verification; until then no snapshot with them can be committed.
func (s *Store) addDamaged(bad *roaring.Bitmap) error {
	s.mu.RLock()
	taint := roaring.Or(s.taint, bad)
	s.mu.RUnlock()
	return s.setDamaged(bad, taint)
}

// setDamaged replaces the list of damaged objects and of all that leads to them. Copies
// that were damaged and that good ones stand for now stay noted until they are gone.
func (s *Store) setDamaged(bad, taint *roaring.Bitmap) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	stale := s.stale.Clone()
	for it := s.taint.Iterator(); it.HasNext(); {
		o := it.Next()
		if id, _, _, ok := s.ords.get(o); ok {
			if loc, found, err := s.lookup(&id); err == nil && found && loc.ordinal != o {
				stale.Add(o)
			}
		}
	}
	stale.AndNot(s.gone)
	taint = roaring.AndNot(taint, stale)
	if taint.IsEmpty() && s.taint.IsEmpty() && stale.IsEmpty() {
		return nil
	}
	raw, err := json.Marshal(damagedFile{s.epoch, bitmapBytes(bad), bitmapBytes(taint), bitmapBytes(stale)})
	if err != nil {
		return err
	}
	if err := ReplaceFile(filepath.Join(s.dir, "damaged"), sealed(raw)); err != nil {
		return err
	}
	s.absent.AndNot(s.taint)
	s.absent.Or(s.gone)
	s.absent.Or(taint)
	s.absent.Or(stale)
	s.taint, s.stale = taint, stale
	s.nodes.Purge()
	return nil
}

func (s *Store) loadDamaged() error {
	path := filepath.Join(s.dir, "damaged")
	raw, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	// One of the version before has no seal and ends in the brace of its JSON.
	body, whole := unsealed(raw)
	var d damagedFile
	if err := json.Unmarshal(body, &d); err != nil || !whole && raw[len(raw)-1] != '}' {
		s.find(Finding{Code: FindDamaged, File: "damaged"})
		return nil
	}
	if d.Epoch != s.epoch {
		return nil
	}
	taint, err := bitmapFrom(d.Taint)
	stale, serr := bitmapFrom(d.Stale)
	if err != nil || serr != nil {
		s.find(Finding{Code: FindDamaged, File: "damaged"})
		return nil
	}
	s.taint, s.stale = taint, stale
	s.absent.Or(taint)
	s.absent.Or(stale)
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
	if s.taint.IsEmpty() && s.stale.IsEmpty() {
		return
	}
	if loc, ok, err := s.lookup(id); err == nil && ok && (s.taint.Contains(loc.ordinal) || s.stale.Contains(loc.ordinal)) {
		s.heals++
		s.stale.Add(loc.ordinal)
		s.absent.Add(loc.ordinal)
	}
}

// Repaired reports whether anything was put anew after damage, so that ordinals no
// longer ascend from children to parents everywhere.
func (s *Store) Repaired() bool {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.heals > 0 || !s.lost.IsEmpty()
}

// traceDamage says which snapshots and paths are concerned by damaged objects, and adds
// those that are missing. It returns the ordinals of all that leads to them.
func (s *Store) traceDamage(ctx context.Context, bad *roaring.Bitmap, list *[]Damage) (*roaring.Bitmap, error) {
	at := map[object.ID]int{}
	for i, d := range *list {
		if !d.Object.IsZero() {
			at[d.Object] = i
		}
	}
	w := &damageWalk{s: s, ctx: ctx, bad: bad, taint: bad.Clone(), clean: roaring.New()}
	for _, id := range s.Roots() {
		root, _, err := s.Root(id)
		if err != nil {
			continue // told as a damaged record
		}
		w.found = map[object.ID]*DamagedSnapshot{}
		for i, top := range tops(root) {
			if _, err := w.visit(top, [...]string{"", "(hard links)"}[i]); err != nil {
				return nil, err
			}
		}
		if !s.stillThere(id) {
			continue
		}
		for o, f := range w.found {
			f.ID = id
			i, ok := at[o]
			if !ok {
				i = len(*list)
				*list = append(*list, Damage{Object: o, Kind: "object", What: "missing: the index does not have it"})
				at[o] = i
			}
			(*list)[i].Snapshots = append((*list)[i].Snapshots, *f)
		}
	}
	return w.taint, nil
}

// damageWalk visits every distinct object below a root once over all roots, except
// that paths are followed wherever there is damage.
type damageWalk struct {
	s                 *Store
	ctx               context.Context
	bad, taint, clean *roaring.Bitmap
	found             map[object.ID]*DamagedSnapshot
}

func (w *damageWalk) note(id object.ID, path string) {
	f := w.found[id]
	if f == nil {
		f = &DamagedSnapshot{}
		w.found[id] = f
	}
	if len(f.Paths) < pathsListed {
		f.Paths = append(f.Paths, path)
	} else {
		f.More++
	}
}

func (w *damageWalk) visit(id object.ID, path string) (tainted bool, err error) {
	loc, err := w.s.ordinalOf(id)
	if errors.Is(err, ErrNoObject) {
		w.note(id, path)
		return true, nil
	}
	if err == nil {
		err = w.ctx.Err()
	}
	if err != nil || w.clean.Contains(loc.ordinal) {
		return false, err
	}
	if w.bad.Contains(loc.ordinal) {
		w.note(id, path)
		return true, nil
	}
	switch loc.kind {
	case object.KindChunk:
	case object.KindDir:
		tainted, err = w.visitDir(id, path)
	default:
		err = w.s.eachChild(id, loc.kind, func(child object.ID) error {
			t, err := w.visit(child, path)
			tainted = tainted || t
			return err
		})
	}
	if err != nil {
		if !errors.Is(err, ErrDamaged) || passing(err) {
			return tainted, err
		}
		w.note(id, path)
		tainted = true
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
		return true, err
	}
	pages, err := object.DirPages(env)
	if err != nil {
		return true, errors.Join(ErrDamaged, err)
	}
	for _, page := range pages {
		t, err := w.visit(page, path+"/")
		if err != nil {
			return tainted, err
		}
		tainted = tainted || t
	}
	err = object.PageEntries(env, func(e object.Entry) error {
		if !e.HasContent {
			return nil
		}
		t, err := w.visit(e.Content, path+"/"+string(e.Name))
		tainted = tainted || t
		return err
	})
	return tainted, err
}
