package disk

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"sync"
	"sync/atomic"
	"time"

	"candidharbor/core/object"
	"candidharbor/internal/store"

	"golang.org/x/sys/unix"
)

// The errors of a disk's requests.
var (
	// ErrFailed is returned by writes and flushes after a sync failed: what was written since the last good
	// one may not be on the disk. It ends when the disk is opened again.
	ErrFailed = errors.New("a sync of the image failed")
	// ErrUnreadable is wrapped when a block's bytes are lost or cannot be had.
	ErrUnreadable = errors.New("the block cannot be read")
	// ErrBounds is of a request that is not within the disk.
	ErrBounds = errors.New("the request is not within the disk")
	// ErrOtherImage is returned by Open when the image is not the file that the disk was written to.
	ErrOtherImage = errors.New("the image is another file than the one that the disk was written to")
	// ErrClosed is of a request to a disk that is closed.
	ErrClosed = errors.New("the disk is closed")
)

// Options of Open.
type Options struct {
	Image File
	Files Files
	Store *store.Store
	Owner string // by which what the disk needs is pinned in the store
	// AsideRoom bounds the bytes that an instant keeps aside; 0: 1 GiB.
	AsideRoom int64
	// AsideMemory is how much of them is in memory, the rest in a file; 0: 16 MiB.
	AsideMemory int64
	// Fetch gets what another site has of an origin that arrives; nil: nothing comes.
	Fetch Fetch
	// Moved says that another image than the one that the disk was written to is a copy of that, with what
	// the last flush made durable. All of it counts as changed from then on.
	Moved bool
	Now   func() time.Time
}

// Shape is what a new disk is.
type Shape struct {
	Size   int64
	Block  uint32
	Origin Stored // a clone reads what was not written from there, and its first snapshot differs from it
	// Imported says that the image holds bytes already, all of which the first snapshot reads.
	Imported bool
}

// Disk is an open disk. Requests may be made by many at once.
type Disk struct {
	opt   Options
	store *store.Store
	image File
	block int64 // bytes of one

	imageID imageID // as it was opened

	// shapeMu is held, shared, by who looks at what Grow and GoBack replace, but for writes: those are
	// within the gate.
	shapeMu  sync.RWMutex
	size     int64
	blocks   int64
	maps     *maps
	origin   *origin                 // nil: none
	arrival  atomic.Pointer[arrival] // of the origin; nil: the store has all of it
	punching *bitmap                 // blocks whose room in the image can be given back
	intents  *intents

	stateMu sync.Mutex // what replaces the state record, one after the other
	state   state

	gate    gate
	stripes [stripes]sync.Mutex
	instant atomic.Pointer[Instant] // nil: none is being stored
	flusher flusher
	asked   atomic.Int64 // requests, so that others can yield to them
	failed  atomic.Pointer[error]
	closed  atomic.Bool
}

const stripes = 1024

// Create makes the records of a new disk beside its image, whose length it sets.
func Create(opt Options, shape Shape) error {
	if err := CheckShape(shape.Size, shape.Block); err != nil {
		return err
	}
	if _, err := opt.Files.Read(stateName); !errors.Is(err, fs.ErrNotExist) {
		return errors.Join(fmt.Errorf("there are records of a disk already"), err)
	}
	if err := opt.Image.Resize(shape.Size, false); err != nil {
		return err
	}
	if err := opt.Image.Sync(); err != nil {
		return err
	}
	id, err := opt.Image.ID()
	if err != nil {
		return err
	}
	st := state{Size: shape.Size, Block: shape.Block, Generation: 1, Origin: shape.Origin, Base: shape.Origin, Image: id}
	m := newMaps(object.Blocks(shape.Size, shape.Block))
	if shape.Imported {
		m.changed.Load().setRange(0, m.n)
	}
	if !shape.Origin.Map.IsZero() {
		if _, err := opt.Store.Pin(opt.Owner, shape.Origin.Map); err != nil {
			return err
		}
	}
	in, err := openIntents(opt.Files, shape.Size)
	if err == nil && shape.Imported {
		in.set.setRange(0, in.n)
	}
	if err == nil {
		err = in.write()
	}
	if err == nil {
		err = in.close()
	}
	if err == nil {
		err = m.makeDurable(opt.Files, st.Generation)
	}
	if err == nil {
		err = m.close()
	}
	if err == nil {
		err = st.write(opt.Files)
	}
	return err
}

// Open opens a disk. Image and files are the disk's from then on, also when that fails.
func Open(opt Options) (*Disk, error) {
	if opt.Now == nil {
		opt.Now = time.Now
	}
	if opt.AsideRoom == 0 {
		opt.AsideRoom = 1 << 30
	}
	if opt.AsideMemory == 0 {
		opt.AsideMemory = 16 << 20
	}
	d := &Disk{opt: opt, store: opt.Store, image: opt.Image}
	if err := d.open(); err != nil {
		return nil, errors.Join(err, d.release())
	}
	return d, nil
}

func (d *Disk) open() (err error) {
	if d.state, err = readState(d.opt.Files); err != nil {
		return err
	}
	st := &d.state
	d.size, d.block, d.blocks = st.Size, int64(st.Block), object.Blocks(st.Size, st.Block)
	id, err := d.image.ID()
	if err != nil {
		return err
	}
	d.imageID = id
	moved := !id.sameFile(st.Image)
	if moved && !d.opt.Moved {
		return ErrOtherImage
	}
	if err := d.image.Resize(d.size, false); err != nil {
		return err
	}
	d.maps, d.punching = newMaps(d.blocks), newBitmap(d.blocks)
	if err := d.maps.openDurable(d.opt.Files, st.Generation); err != nil {
		return err
	}
	if d.intents, err = openIntents(d.opt.Files, d.size); err != nil {
		return err
	}
	if d.intents.fresh || moved { // nobody knows into which regions was written
		if err := d.intents.setAll(); err != nil {
			return err
		}
	}
	believed, err := d.maps.openLive(d.opt.Files, st.Generation, id)
	if err != nil {
		return err
	}
	if d.maps.plain {
		if err := d.sealMaps(); err != nil {
			return err
		}
	}
	if !believed || d.intents.fresh || moved { // a power cut: what may have been written since then is read again
		d.intents.each(func(from, to int64) { d.maps.changed.Load().setRange(from/d.block, (to+d.block-1)/d.block) })
	}
	if !believed || d.intents.fresh || moved || d.maps.plain {
		if err := d.maps.writeLive(st.Generation, id); err != nil {
			return err
		}
	}
	if err := d.maps.thaw(false); err != nil { // an instant that was not stored is given up
		return err
	}
	if moved {
		st.Image = id
		if err := st.write(d.opt.Files); err != nil {
			return err
		}
	}
	for _, g := range []uint64{st.Generation - 1, st.Generation + 1} { // what a change of shape may have left
		if err := d.opt.Files.Remove(durableName(g)); err != nil {
			return err
		}
	}
	d.gate.init()
	d.flusher.init(d)
	d.flusher.dirty.Store(true)
	if err := d.openArriving(); err != nil {
		return err
	}
	d.setOrigin()
	return d.openPins()
}

// openArriving goes on with what arrives, or clears away what is left of what arrived.
func (d *Disk) openArriving() error {
	if d.state.Arriving.Site != "" {
		a, err := openArrival(d.opt, &d.state)
		d.arrival.Store(a)
		return err
	}
	for _, pin := range d.store.Pins(ArrivingOwner(d.opt.Owner)) {
		pin.Release()
	}
	return d.opt.Files.Remove(arrivingName)
}

// sealMaps makes the durable file anew, of a disk whose maps were read from files of the first form. The live
// file does not say this generation and counts no more.
func (d *Disk) sealMaps() error {
	if err := d.image.Sync(); err != nil { // before any bit promises what is in it
		return err
	}
	st, old := d.state, d.maps.durable
	st.Generation++
	if err := d.maps.makeDurable(d.opt.Files, st.Generation); err != nil {
		return errors.Join(err, old.Close())
	}
	if err := st.write(d.opt.Files); err != nil {
		return errors.Join(err, old.Close())
	}
	d.state = st
	return old.Close()
}

func (d *Disk) setOrigin() {
	d.origin = nil
	if a := d.arrival.Load(); a != nil {
		d.origin = newArrivingOrigin(a, d.state.Origin, d.state.Block)
	} else if !d.state.Origin.Map.IsZero() {
		d.origin = newOrigin(d.store, d.state.Origin, d.state.Block)
	}
}

// Size is the disk's size in bytes.
func (d *Disk) Size() int64 {
	d.shapeMu.RLock()
	defer d.shapeMu.RUnlock()
	return d.size
}

// Block is the size of a block.
func (d *Disk) Block() uint32 { return uint32(d.block) }

// Base is the map that what changed is relative to.
func (d *Disk) Base() Stored {
	d.stateMu.Lock()
	defer d.stateMu.Unlock()
	return d.state.Base
}

// ChangedBlocks is how many blocks may differ from the last snapshot.
func (d *Disk) ChangedBlocks() int64 {
	d.shapeMu.RLock()
	defer d.shapeMu.RUnlock()
	return d.maps.changed.Load().count() + d.frozenNow().count()
}

// Changed is the map that is stored, and the blocks that may differ from it: next is the first of them from a
// block on, negative when there is none.
func (d *Disk) Changed() (base Stored, next func(from int64) int64) {
	d.shapeMu.RLock()
	defer d.shapeMu.RUnlock()
	d.stateMu.Lock()
	defer d.stateMu.Unlock()
	all := newBitmap(d.blocks)
	all.or(d.maps.changed.Load())
	all.or(d.frozenNow())
	return d.state.Base, func(from int64) int64 {
		if b := all.next(from); b < all.n {
			return b
		}
		return -1
	}
}

// Allocated is the room that the image takes.
func (d *Disk) Allocated() int64 {
	if f, is := d.image.(interface{ Allocated() int64 }); is {
		return f.Allocated()
	}
	return 0
}

// Failed is why writes and flushes fail; nil: they do not.
func (d *Disk) Failed() error {
	if p := d.failed.Load(); p != nil {
		return *p
	}
	return nil
}

func (d *Disk) fail(err error) error {
	err = fmt.Errorf("%w: %w", ErrFailed, err)
	if d.failed.CompareAndSwap(nil, &err) {
		d.stateMu.Lock()
		defer d.stateMu.Unlock()
		st := d.state
		st.SuspectAt = d.opt.Now()
		if werr := d.setState(st); werr != nil {
			return errors.Join(err, werr)
		}
	}
	return err
}

// Suspect is when a sync failed, after which a person has not said yet that what is there is right; zero:
// none did.
func (d *Disk) Suspect() time.Time {
	d.stateMu.Lock()
	defer d.stateMu.Unlock()
	return d.state.SuspectAt
}

// Trust says that what is on the disk is right although a sync failed.
func (d *Disk) Trust() error {
	d.stateMu.Lock()
	defer d.stateMu.Unlock()
	if d.state.SuspectAt.IsZero() {
		return nil
	}
	st := d.state
	st.SuspectAt = time.Time{}
	return d.setState(st)
}

// Close flushes the disk and closes its files. Requests must be over. An instant that is being stored is
// given up.
func (d *Disk) Close() error {
	// What is done behind the clients' backs looks at closed within shapeMu, so that none of it reaches the image
	// later, when that may have been opened anew.
	if a := d.arrival.Load(); a != nil { // who waits for another site waits no longer
		a.cancel()
	}
	d.shapeMu.Lock()
	was := d.closed.Swap(true)
	d.shapeMu.Unlock()
	if was {
		return nil
	}
	var err error
	if d.Failed() == nil {
		err = d.Flush(context.Background())
	}
	return errors.Join(err, d.release())
}

func (d *Disk) release() error {
	err := d.image.Close()
	if a := d.arrival.Load(); a != nil {
		err = errors.Join(err, a.close())
	}
	if d.maps != nil {
		err = errors.Join(err, d.maps.close())
	}
	if d.intents != nil {
		err = errors.Join(err, d.intents.close())
	}
	return err
}

// Destroy lets go what a disk that is closed holds in the store, and removes its records.
func Destroy(files Files, st *store.Store, owner string) error {
	s, err := readState(files)
	if err != nil && !errors.Is(err, ErrDamaged) {
		return err
	}
	for _, name := range []string{stateName, liveName, intentName, arrivingName, durableName(s.Generation)} {
		if err := files.Remove(name); err != nil {
			return err
		}
	}
	for _, l := range append(st.Pins(owner), st.Pins(ArrivingOwner(owner))...) {
		l.Release()
	}
	return nil
}

// bounds checks a request and tells its first block and the one behind its last.
func (d *Disk) bounds(off, n int64) (first, end int64, err error) {
	if off < 0 || n <= 0 || off > d.size || n > d.size-off {
		return 0, 0, fmt.Errorf("%w: %d bytes at %d of %d", ErrBounds, n, off, d.size)
	}
	return off / d.block, (off + n + d.block - 1) / d.block, nil
}

// Errno is the number by which a client is told of an error.
func Errno(err error) unix.Errno {
	var errno unix.Errno
	switch {
	case err == nil:
		return 0
	case errors.Is(err, ErrBounds):
		return unix.EINVAL
	case errors.Is(err, ErrClosed):
		return unix.ESHUTDOWN
	case errors.Is(err, ErrUnreadable), errors.Is(err, ErrFailed):
		return unix.EIO
	case errors.As(err, &errno):
		switch errno {
		case unix.ENOSPC, unix.EDQUOT, unix.EFBIG:
			return unix.ENOSPC
		case unix.ENOMEM:
			return unix.ENOMEM
		}
	}
	return unix.EIO
}
