package store

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"

	"candidharbor/core/object"

	"github.com/RoaringBitmap/roaring/v2"
	"golang.org/x/time/rate"
)

// VerifyOptions say how a verification runs.
type VerifyOptions struct {
	BytesPerSecond int64 // reading budget; 0: none
	Anew           bool  // do not go on with one that was interrupted
	Again          bool  // after healing: read only what the last one did not find whole
	Progress       func(done, total int64)
}

// BadRecord is a root record or a mark that is not what was written.
type BadRecord struct {
	Snapshot object.ID `json:"snapshot"`
	File     string    `json:"file"`
	Root     bool      `json:"root"` // the snapshot's own record, and not a mark beside it
	What     string    `json:"what"`
}

// VerifyResult is the outcome of a verification.
type VerifyResult struct {
	Objects   int64       `json:"objects"`
	Bytes     int64       `json:"bytes"`
	Snapshots int         `json:"snapshots"` // whose tree was compared with index and packs
	Resumed   bool        `json:"resumed"`   // it went on with one that was interrupted
	Damage    []Damage    `json:"damage"`
	Records   []BadRecord `json:"records"`
	Censuses  int         `json:"censuses"` // that were not what the trees need, and were made anew
}

// Whole reports whether every snapshot was found whole. Damage that no snapshot needs is
// told, and a sweep takes it away.
func (r *VerifyResult) Whole() bool {
	return len(r.Records) == 0 && !slices.ContainsFunc(r.Damage, func(d Damage) bool { return len(d.Snapshots) > 0 })
}

// verifyMaxAge is how old an interrupted verification may be to be gone on with.
const verifyMaxAge = 30 * 24 * time.Hour

// verification reads packs one after the other beside all other work. Its state is kept
// after each pack, so that an interrupted one goes on where it was.
type verification struct {
	s    *Store
	opt  VerifyOptions
	res  VerifyResult
	good *roaring.Bitmap // ordinals whose record was found whole
	last uint32          // pack number

	limit *rate.Limiter
	total int64
}

type verifyState struct {
	Epoch   uint64    `json:"epoch"`
	Began   time.Time `json:"began"`
	Last    uint32    `json:"last"`
	Objects int64     `json:"objects"`
	Bytes   int64     `json:"bytes"`
	Good    []byte    `json:"good"`
	Ended   bool      `json:"ended,omitempty"` // it came to its end and found damage
}

// Verify reads all stored bytes and recomputes every identity; it walks the tree of every
// snapshot and compares it with the index and the census; and it checks every root record
// and mark. It says which snapshots and paths a damage concerns. Damaged objects, and what
// leads to them, become absent to writers and peers, so that the next snapshot or carry
// puts them anew. When all is whole, what was put aside is removed.
func (s *Store) Verify(ctx context.Context, opt VerifyOptions) (VerifyResult, error) {
	s.verifying.Lock()
	defer s.verifying.Unlock()
	v := &verification{s: s, opt: opt, good: roaring.New()}
	if opt.BytesPerSecond > 0 {
		v.limit = rate.NewLimiter(rate.Limit(opt.BytesPerSecond), 4<<20)
	}
	aside, err := s.asideNames()
	if err != nil {
		return VerifyResult{}, err
	}
	began := time.Now()
	if !opt.Anew {
		began = v.resume(began)
	}
	if err := v.readPacks(ctx, began); err != nil {
		return v.res, err
	}
	bad, err := v.readRest(ctx)
	if err != nil {
		return v.res, err
	}
	v.checkRecords()
	lacking, err := v.compareTrees(ctx)
	if err != nil {
		return v.res, err
	}
	if err := v.conclude(ctx, bad, lacking); err != nil {
		return v.res, err
	}
	if !v.res.Whole() {
		v.keep(began, true)
		return v.res, nil
	}
	os.Remove(v.path())
	for _, name := range aside {
		os.Remove(name)
	}
	return v.res, nil
}

func (v *verification) path() string { return filepath.Join(v.s.dir, "verify") }

func (v *verification) resume(now time.Time) (began time.Time) {
	raw, err := readSealed(v.path())
	var st verifyState
	if err != nil || json.Unmarshal(raw, &st) != nil || st.Epoch != v.s.stamp(object.ID{}).Epoch ||
		now.Sub(st.Began) > verifyMaxAge || st.Ended != v.opt.Again {
		return now
	}
	good, err := bitmapFrom(st.Good)
	if err != nil {
		return now
	}
	v.good, v.last, v.res.Objects, v.res.Bytes, v.res.Resumed = good, st.Last, st.Objects, st.Bytes, !st.Ended
	return st.Began
}

// keep writes the state without fsync: a torn one fails its seal.
func (v *verification) keep(began time.Time, ended bool) {
	raw, err := json.Marshal(verifyState{v.s.stamp(object.ID{}).Epoch, began, v.last, v.res.Objects, v.res.Bytes,
		bitmapBytes(v.good), ended})
	if err == nil {
		tmp := v.path() + ".new"
		if err = os.WriteFile(tmp, sealed(raw), 0o600); err == nil {
			err = os.Rename(tmp, v.path())
		}
	}
	if err != nil {
		v.s.log.Warn("how far the verification is could not be kept; it begins anew when it is interrupted", "error", err)
	}
}

func (v *verification) pace(ctx context.Context, n int64) error {
	v.res.Bytes += n
	if v.opt.Progress != nil {
		v.opt.Progress(v.res.Bytes, max(v.total, v.res.Bytes))
	}
	for v.limit != nil && n > 0 {
		step := min(n, int64(v.limit.Burst()))
		if err := v.limit.WaitN(ctx, int(step)); err != nil {
			return err
		}
		n -= step
	}
	return ctx.Err()
}

// readPacks reads the packs that are there, and those that came meanwhile.
func (v *verification) readPacks(ctx context.Context, began time.Time) error {
	for {
		v.s.mu.RLock()
		packs := slices.Clone(v.s.files.Packs)
		v.s.mu.RUnlock()
		v.total = 0
		for _, p := range packs {
			v.total += p.Bytes
		}
		packs = slices.DeleteFunc(packs, func(p packInfo) bool { return p.Num <= v.last })
		if len(packs) == 0 {
			return nil
		}
		for _, p := range packs {
			if err := v.readPack(ctx, p); err != nil {
				return err
			}
			v.last = p.Num
			v.keep(began, false)
		}
	}
}

func (v *verification) report(d Damage) { v.res.Damage = append(v.res.Damage, d) }

// readPack reads a pack from end to end and notes which objects of the index lie there
// whole. What is not noted is looked at by readRest.
func (v *verification) readPack(ctx context.Context, p packInfo) error {
	r, err := v.s.media.Open(p.Name)
	if passing(err) {
		return err
	}
	if err != nil {
		return nil // swept meanwhile, or readRest reports all that should lie there
	}
	defer r.Close()
	head := make([]byte, packHead)
	if _, err := r.ReadAt(head, 0); err != nil || !bytes.Equal(head, packHeader) {
		v.s.packAnew(p.Num)
		v.report(Damage{Kind: "pack head", Pack: p.Name, What: "damaged: the head of the pack is not what was written"})
	}
	if r.Size() != p.Bytes {
		v.s.packAnew(p.Num)
		v.report(Damage{Kind: "pack", Pack: p.Name, Offset: r.Size(),
			What: fmt.Sprintf("damaged: the pack has %d bytes, %d were written", r.Size(), p.Bytes)})
	}
	end := min(p.Bytes, r.Size())
	raw := make([]byte, 0, 1<<20)
	for at := int64(packHead); at < end; {
		size, objects, err := v.readOne(r, p, at, end, &raw)
		if err != nil { // nothing tells where the next one begins
			v.s.packAnew(p.Num)
			next, _ := resync(r, at+1)
			size, objects = min(next, end)-at, 1
			v.report(Damage{Kind: "pack", Pack: p.Name, Offset: at,
				What: fmt.Sprintf("damaged: %d bytes from here on are no whole record", size)})
		}
		v.res.Objects += int64(objects)
		at += size
		if err := v.pace(ctx, size); err != nil {
			return err
		}
	}
	return nil
}

// readOne reads the record or the bundle at an offset.
func (v *verification) readOne(r MediaReader, p packInfo, at, end int64, buf *[]byte) (size int64, objects int,
	err error) {
	var head [recordHead]byte
	if _, err := r.ReadAt(head[:], at); err != nil {
		return 0, 0, err
	}
	if size, err = blockSize(head[:]); err != nil || at+size > end {
		return 0, 0, ErrDamaged
	}
	if int64(cap(*buf)) < size {
		*buf = make([]byte, size)
	}
	raw := (*buf)[:size]
	if _, err := r.ReadAt(raw, at); err != nil {
		return 0, 0, err
	}
	if verifyBlock(raw) != nil {
		return 0, 0, ErrDamaged
	}
	v.s.mu.RLock()
	defer v.s.mu.RUnlock()
	err = visitBlock(raw, at, func(e *indexEntry) error {
		objects++
		loc, ok, err := v.s.lookup(&e.id)
		if err == nil && ok && loc.pack == p.Num && int64(loc.offset) == at {
			v.good.Add(loc.ordinal)
		}
		return nil
	})
	return size, objects, err
}

func verifyRecord(raw []byte, id object.ID) error {
	if _, err := checkRecord(raw); err != nil {
		return err
	}
	b, err := openRecord(nil, raw, id)
	if err == nil {
		_, err = object.Decode(b)
	}
	return err
}

// readRest reads one by one what no pack showed whole: small commits in the log, what was
// moved meanwhile, and what is damaged.
func (v *verification) readRest(ctx context.Context) (bad *roaring.Bitmap, err error) {
	bad = roaring.New()
	v.s.bundles.Purge() // what lies on the medium is wanted, not what was read of it before
	check := func(e *indexEntry) error {
		if v.good.Contains(e.ordinal) {
			return nil
		}
		raw, err := v.s.readRecord(e.id, nil)
		if err == nil {
			err = verifyRecord(raw, e.id)
			v.res.Objects++
		}
		if passing(err) {
			return err
		}
		loc, lerr := v.s.ordinalOf(e.id)
		switch {
		case errors.Is(lerr, ErrNoObject): // swept meanwhile
			return nil
		case lerr != nil:
			return lerr
		case err != nil:
			if loc.ordinal == e.ordinal {
				bad.Add(loc.ordinal)
				v.report(Damage{Object: e.id, Kind: loc.kind.String(), Pack: v.s.fileOf(loc.pack), Offset: int64(loc.offset),
					What: err.Error()})
			}
		case loc.ordinal == e.ordinal:
			v.good.Add(loc.ordinal)
		}
		return v.pace(ctx, e.size())
	}
	v.s.mu.RLock()
	logged := make([]indexEntry, 0, len(v.s.mem))
	for id, loc := range v.s.mem {
		logged = append(logged, indexEntry{id, loc})
	}
	v.s.mu.RUnlock()
	for i := range logged {
		if err := check(&logged[i]); err != nil {
			return bad, err
		}
	}
	return bad, v.s.eachCurrent(check)
}

// eachCurrent visits what the sealed part of the index has. A sweep that replaces the
// index meanwhile makes it begin again.
func (s *Store) eachCurrent(visit func(*indexEntry) error) error {
	for {
		s.mu.RLock()
		runs, gone := s.runs, s.gone.Clone() // commits beside this one add to it
		s.mu.RUnlock()
		err := mergeRuns(runs, gone, visit)
		if !errors.Is(err, fs.ErrClosed) {
			return err
		}
	}
}

func (s *Store) fileOf(pack uint32) string {
	if pack&logBit != 0 {
		return "log/" + logName(pack&^logBit)
	}
	s.mu.RLock()
	defer s.mu.RUnlock()
	if i := s.files.packIndex(pack); i >= 0 {
		return s.files.Packs[i].Name
	}
	return ""
}

// checkRecords opens every root record and mark.
func (v *verification) checkRecords() {
	for _, id := range v.s.Roots() {
		if _, _, err := v.s.Root(id); err != nil && v.s.stillThere(id) {
			v.res.Records = append(v.res.Records, BadRecord{Snapshot: id, File: rootName(id), Root: true, What: err.Error()})
		}
		bad, err := v.s.badMarks(id)
		if err != nil && v.s.stillThere(id) {
			bad = append(bad, BadRecord{Snapshot: id, File: "marks/" + id.String(), What: err.Error()})
		}
		v.res.Records = append(v.res.Records, bad...)
	}
}

// conclude names what is concerned and makes it absent.
func (v *verification) conclude(ctx context.Context, bad *roaring.Bitmap, lacking bool) error {
	s := v.s
	for it := bad.Clone().Iterator(); it.HasNext(); { // put anew while this went on
		o := it.Next()
		if id, _, _, ok := s.ords.get(o); ok {
			if loc, err := s.ordinalOf(id); err == nil && loc.ordinal != o {
				bad.Remove(o)
				v.res.Damage = slices.DeleteFunc(v.res.Damage, func(d Damage) bool { return d.Object == id })
			}
		}
	}
	taint := roaring.New()
	if lacking || !bad.IsEmpty() {
		var err error
		if taint, err = s.traceDamage(ctx, bad, &v.res.Damage); err != nil {
			return err
		}
	}
	// A stretch of a pack says nothing more where the objects that lie there are named.
	hit := map[string]bool{}
	for _, d := range v.res.Damage {
		hit[d.Pack] = hit[d.Pack] || !d.Object.IsZero()
	}
	v.res.Damage = slices.DeleteFunc(v.res.Damage, func(d Damage) bool {
		return d.Object.IsZero() && d.Kind == "pack" && hit[d.Pack]
	})
	return s.setDamaged(bad, taint)
}
