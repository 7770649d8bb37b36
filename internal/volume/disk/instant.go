package disk

import (
	"context"
	"errors"
	"fmt"
	"runtime"
	"slices"
	"sync"
	"time"

	"candidharbor/core/object"
	"candidharbor/internal/store"

	"golang.org/x/sync/errgroup"
)

// Instant is one moment of a disk while it is stored. It ends with Stored or GiveUp.
type Instant struct {
	d      *Disk
	At     time.Time
	size   int64
	base   Stored
	frozen *bitmap // the blocks that belong to it

	mu    sync.Mutex // held for no wait but that for the side file
	done  *bitmap    // frozen blocks that were read
	aside *asides
	lost  error // why it cannot be stored any more
	ended bool
}

// ErrGivenUp is wrapped when an instant could not be stored.
var ErrGivenUp = errors.New("the instant was given up")

// Busy is returned when an instant of a disk is being stored already.
var ErrBusy = errors.New("an instant of the disk is being stored")

// Freeze takes one instant of several disks, which the caller gives in one order everywhere. Writes that
// began before it belong to it, on all of them; what began after that does not.
func Freeze(disks ...*Disk) ([]*Instant, error) {
	baseless := make([]bool, len(disks))
	for i, d := range disks {
		lost, err := d.lostBase()
		if err != nil {
			return nil, err
		}
		baseless[i] = lost
	}
	for i, d := range disks {
		d.gate.mu.Lock()
		if d.instant.Load() != nil || d.closed.Load() {
			err := ErrBusy
			if d.closed.Load() {
				err = ErrClosed
			}
			for _, o := range disks[:i+1] {
				o.gate.mu.Unlock()
			}
			return nil, err
		}
	}
	var all []*Instant
	var failed error
	for _, d := range disks {
		in := &Instant{d: d, At: d.opt.Now(), size: d.size, done: newBitmap(d.blocks),
			aside: newAsides(d.opt, d.block)}
		if err := d.maps.flip(); err != nil {
			failed = errors.Join(failed, err)
		}
		in.frozen = d.maps.frozen
		d.gate.flip()
		d.instant.Store(in)
		all = append(all, in)
	}
	for _, d := range disks {
		d.gate.mu.Unlock()
	}
	if failed != nil {
		for _, in := range all {
			failed = errors.Join(failed, in.GiveUp())
		}
		return nil, failed
	}
	for i, in := range all {
		if !baseless[i] {
			in.base = in.d.Base()
		}
	}
	return all, nil
}

// lostBase reports whether the map that changes are relative to leads to what is damaged. Then all blocks count
// as changed: the next snapshot reads them from the image, and what was damaged is stored again.
func (d *Disk) lostBase() (bool, error) {
	base := d.Base()
	if base.Map.IsZero() {
		return false, nil
	}
	whole, err := d.store.IsWhole(base.Map)
	if err != nil || whole {
		return false, err
	}
	d.shapeMu.RLock()
	defer d.shapeMu.RUnlock()
	return true, d.maps.write(secChanged, d.maps.changed.Load(), 0, d.blocks, true)
}

// needed reports whether what the image has of a block is still to be read for an instant.
func (d *Disk) needed(b int64) bool {
	in := d.instant.Load()
	return in != nil && in.wants(b)
}

func (in *Instant) wants(b int64) bool {
	in.mu.Lock()
	defer in.mu.Unlock()
	return in.lost == nil && in.pending(b)
}

// pending reports whether a block is still to be read. Writes that belong to the instant and are under way may add
// blocks to it; who writes after it waits for those of its own blocks.
func (in *Instant) pending(b int64) bool { return in.frozen.has(b) && !in.done.has(b) }

// due is the instant for which a write has to keep something of its blocks aside; nil: it has not.
func (d *Disk) due(w *write) *Instant {
	in := d.instant.Load()
	if in == nil || w.changed == in.frozen { // or it belongs to the instant itself
		return nil
	}
	for b := w.first; b < w.end; b++ {
		if in.pending(b) {
			return in
		}
	}
	return nil
}

// keepAside keeps what a stretch of a block was at the instant that is being stored, before a write of after it.
// A write of no bytes, which leaves the image alone, keeps only where the bytes are. The caller holds the block's
// stripe.
func (d *Disk) keepAside(w *write, b, from, to int64) {
	if in := d.due(w); in != nil {
		in.keep(b, from, to, d.readImage)
	}
}

// keep is keepAside. It reports false when read failed with errWouldWait, and nothing was kept.
func (in *Instant) keep(b, from, to int64, read func(p []byte, off int64) error) bool {
	in.mu.Lock()
	defer in.mu.Unlock()
	if in.lost != nil || !in.pending(b) {
		return true
	}
	err := in.aside.keep(b, from, to, in.d.where(b), min(in.d.block, in.d.size-b*in.d.block), read)
	if errors.Is(err, errWouldWait) {
		return false
	}
	if err != nil { // the client's write goes on; nobody has acknowledged the snapshot yet
		in.giveUp(err)
	}
	return true
}

// errWouldWait is of what was to take no wait.
var errWouldWait = errors.New("it would wait")

// giveUp has nothing kept aside any more. The caller holds mu.
func (in *Instant) giveUp(why error) {
	if in.lost == nil {
		in.lost = fmt.Errorf("%w: %w", ErrGivenUp, why)
	}
	in.aside.forget()
}

// read reads a block as it was at the instant; nil: it was all zeros. fromOrigin: it is as the origin has it.
func (in *Instant) read(b int64, buf []byte) (raw []byte, from source, err error) {
	d := in.d
	defer d.lock(b, b+1)()
	in.mu.Lock()
	k, is := in.aside.kept[b]
	lost := in.lost
	in.mu.Unlock()
	switch {
	case lost != nil:
		return nil, 0, lost
	case is:
		from = k.from
	default:
		from = d.where(b)
	}
	if from == fromImage {
		raw = buf[:min(d.block, d.size-b*d.block)]
		if err := d.readImage(raw, b*d.block); err != nil {
			return nil, 0, err
		}
	}
	in.mu.Lock()
	defer in.mu.Unlock()
	if in.lost != nil {
		return nil, 0, in.lost
	}
	if is {
		if err := in.aside.take(b, raw); err != nil {
			return nil, 0, err
		}
	}
	in.done.set(b)
	return raw, from, nil
}

// Harvested is what storing an instant came to.
type Harvested struct {
	Map     Stored
	Changed int64 // blocks that were read
	Bytes   int64 // of them
	Lost    int64 // blocks that could not be read, as far as this harvest found
}

// Harvest stores what belongs to the instant: the blocks that changed, and a map of all. progress is called
// with bytes read; it may be nil.
func (in *Instant) Harvest(ctx context.Context, w *store.Writer, progress func(int64)) (h Harvested, err error) {
	d := in.d
	if err := d.gate.drained(ctx); err != nil {
		return h, err
	}
	if !in.base.Map.IsZero() {
		if err := w.Has(in.base.Map); err != nil {
			return h, err
		}
	}
	g := &harvest{in: in, w: w, progress: progress, blocks: d.frozenNow(), pace: newPace(d)}
	workers, going := errgroup.WithContext(ctx)
	for range runtime.GOMAXPROCS(0) {
		workers.Go(func() error { return g.work(going) })
	}
	err = workers.Wait()
	g.pace.end()
	if err == nil {
		err = ctx.Err() // not all was looked at
	}
	h.Changed, h.Bytes = int64(len(g.changes)), g.bytes
	if err != nil {
		return h, err
	}
	changes := g.changes
	slices.SortFunc(changes, func(a, b object.BlockChange) int { return int(a.Block - b.Block) })
	put := func(children []object.ID, fresh []bool, payload []byte) (object.ID, error) {
		return w.PutFrom(object.KindMap, children, fresh, payload)
	}
	top, err := object.ChangeMap(d.store.Get, put, in.base.top(uint32(d.block)), d.blocks, changes)
	h.Map = Stored{Map: top.ID, Size: in.size}
	return h, err
}

// harvest is the storing of an instant's blocks, by several at once.
type harvest struct {
	in       *Instant
	w        *store.Writer
	progress func(int64)
	pace     *pace
	blocks   *bitmap

	mu      sync.Mutex // of what follows
	next    int64      // the first block that nobody took yet
	changes []object.BlockChange
	bytes   int64
}

// take is the next block; negative: none is left. Who takes one while clients ask for something waits, and the others
// with it.
func (g *harvest) take(ctx context.Context) (block int64, yields bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	d := g.in.d
	b := g.blocks.next(g.next)
	if b >= d.blocks {
		return -1, false
	}
	g.next = b + 1
	return b, !g.in.pressed() && g.pace.rest(ctx)
}

// work stores one block after the other.
func (g *harvest) work(ctx context.Context) error {
	d := g.in.d
	buf := make([]byte, object.Headroom+d.block)
	for {
		b, yields := g.take(ctx)
		if b < 0 || ctx.Err() != nil {
			return nil
		}
		began := time.Now()
		raw, from, err := g.in.read(b, buf[object.Headroom:])
		if err != nil {
			return fmt.Errorf("block %d: %w", b, err)
		}
		var s object.Slot
		do := func() error {
			s, err = d.store1(g.w, b, buf, raw, from)
			return err
		}
		if yields {
			do = g.pace.behind(do)
		}
		if err := do(); err != nil {
			return err
		}
		g.pace.took(time.Since(began))
		if g.progress != nil {
			g.progress(d.block)
		}
		g.mu.Lock()
		g.changes = append(g.changes, object.BlockChange{Block: b, Slot: s})
		g.bytes += int64(len(raw))
		g.mu.Unlock()
	}
}

// store1 stores one block and tells its slot.
func (d *Disk) store1(w *store.Writer, b int64, buf, raw []byte, from source) (object.Slot, error) {
	if from == fromOrigin {
		arriving := d.origin.arrival.Load() != nil
		s, err := d.origin.slot(b)
		if err == nil && s.State == object.Held {
			err = w.Has(s.Chunk)
			if d.origin.arrives && errors.Is(err, store.ErrNotClosed) {
				if err := d.origin.demand(b, s); err != nil {
					return s, err
				}
				err = w.Has(s.Chunk)
			}
		}
		if err != nil && arriving {
			return s, err // it is not lost: it has not come yet
		}
		if errors.Is(err, store.ErrNotClosed) || errors.Is(err, ErrUnreadable) { // as the disk itself reads it
			return object.Slot{State: object.Lost}, nil
		}
		return s, err
	}
	if raw == nil || object.AllZero(raw) {
		return object.Slot{}, nil
	}
	id, err := w.PutChunk(buf[:object.Headroom+len(raw)])
	return object.Slot{State: object.Held, Chunk: id}, err
}

// pressed reports whether the room for what was written meanwhile comes to its end.
func (in *Instant) pressed() bool {
	in.mu.Lock()
	defer in.mu.Unlock()
	return in.aside.pressed()
}

// frozenNow is the map of blocks that belong to the instant.
func (d *Disk) frozenNow() *bitmap {
	d.maps.wordMu.Lock()
	defer d.maps.wordMu.Unlock()
	return d.maps.frozen
}

// Stored ends an instant whose snapshot is durable: from here on what changes is relative to it.
func (in *Instant) Stored(m Stored) error {
	d := in.d
	d.stateMu.Lock()
	st := d.state
	st.Base, st.Arriving.Unstored = m, false
	err := d.setState(st)
	d.stateMu.Unlock()
	if err != nil { // relative to the earlier one, then
		return errors.Join(err, in.GiveUp())
	}
	return in.end(true)
}

// GiveUp ends an instant that is not stored. Its blocks count as changed again.
func (in *Instant) GiveUp() error { return in.end(false) }

func (in *Instant) end(stored bool) error {
	d := in.d
	in.mu.Lock()
	if in.ended {
		in.mu.Unlock()
		return nil
	}
	in.ended = true
	in.giveUp(errors.New("it is over"))
	in.mu.Unlock()
	// Writes of it that are under way mark what they write in what is frozen, which counts until they left.
	err := d.gate.drained(context.Background())
	err = errors.Join(err, d.maps.thaw(stored))
	d.instant.Store(nil)
	return errors.Join(err, in.aside.close())
}
