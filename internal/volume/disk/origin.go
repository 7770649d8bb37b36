package disk

import (
	"fmt"
	"sync"
	"sync/atomic"

	"candidharbor/core/object"
	"candidharbor/internal/store"

	lru "github.com/hashicorp/golang-lru/v2"
)

// origin is the stored map from which blocks come that are not in the image.
type origin struct {
	st      *store.Store
	top     object.MapTop
	arrives bool                    // it is one that the store did not have whole at first
	arrival atomic.Pointer[arrival] // what brings the rest; nil: the store has all of it

	mu     sync.Mutex
	reader *object.MapReader
	chunks *lru.Cache[object.ID, []byte]
	asked  int64 // the block for which the other site was asked last, and
	ahead  int64 // how many behind it were fetched with it
}

// fetchedAhead bounds how many blocks are fetched from another site before they are read.
const fetchedAhead = 64

// originChunks is how many chunks are kept unpacked: small reads within a block unpack it once.
const originChunks = 16

func newOrigin(st *store.Store, m Stored, block uint32) *origin {
	chunks, err := lru.New[object.ID, []byte](originChunks)
	if err != nil {
		panic(err) // of a size that is not positive
	}
	return &origin{st: st, top: m.top(block), reader: object.NewMapReader(st.Get), chunks: chunks}
}

func newArrivingOrigin(a *arrival, m Stored, block uint32) *origin {
	o := newOrigin(a.st, m, block)
	o.arrives, o.reader = true, object.NewMapReader(a.node)
	o.arrival.Store(a)
	return o
}

// demand has the chunk of a block in the store when it returns. When blocks are read one after the other, those behind
// it come with it.
func (o *origin) demand(block int64, s object.Slot) error {
	ids := []object.ID{s.Chunk}
	o.mu.Lock()
	if block > o.asked && block <= o.asked+o.ahead+2 {
		o.ahead = min(2*o.ahead+1, fetchedAhead)
	} else {
		o.ahead = 0
	}
	o.asked = block
	for b := block + 1; b <= block+o.ahead; b++ {
		if s, err := o.reader.At(o.top.ID, o.top.Level, b); err == nil && s.State == object.Held {
			ids = append(ids, s.Chunk)
		}
	}
	o.mu.Unlock()
	a := o.arrival.Load()
	if a == nil { // all has come
		return nil
	}
	err := a.demand(ids)
	if err != nil && o.arrival.Load() == nil { // meanwhile
		return nil
	}
	return err
}

// wholeRead is from how many bytes on the beginning of a block is read as if it were all of it.
const wholeRead = 32 << 10

var buffers = sync.Pool{New: func() any { return &store.Buffers{} }}

func chunkOf(env object.Envelope, err error, block int64) ([]byte, error) {
	if err == nil && env.Kind != object.KindChunk {
		err = fmt.Errorf("a %s where a chunk was expected", env.Kind)
	}
	if err != nil {
		return nil, fmt.Errorf("%w: block %d: %w", ErrUnreadable, block, err)
	}
	return env.Payload, nil
}

// slot is what the origin says of a block.
func (o *origin) slot(block int64) (object.Slot, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	s, err := o.reader.At(o.top.ID, o.top.Level, block)
	if err != nil {
		return s, fmt.Errorf("%w: block %d: %w", ErrUnreadable, block, err)
	}
	return s, nil
}

// read reads a part of a block.
func (o *origin) read(p []byte, block, within int64) error {
	s, err := o.slot(block)
	if err != nil {
		return err
	}
	return o.readSlot(p, block, within, s)
}

func (o *origin) readSlot(p []byte, block, within int64, s object.Slot) error {
	err := o.readStored(p, block, within, s)
	if o.arrives && lacks(err) {
		if err = o.demand(block, s); err == nil {
			err = o.readStored(p, block, within, s)
		}
	}
	return err
}

func (o *origin) readStored(p []byte, block, within int64, s object.Slot) error {
	switch s.State {
	case object.Hole:
		clear(p)
		return nil
	case object.Lost:
		return fmt.Errorf("%w: block %d was lost before it was stored", ErrUnreadable, block)
	}
	raw, ok := o.chunks.Get(s.Chunk)
	switch {
	case ok:
	case within == 0 && len(p) >= wholeRead: // it is not asked for again, and its memory can be used again
		buf := buffers.Get().(*store.Buffers)
		defer buffers.Put(buf)
		env, err := o.st.GetInto(s.Chunk, buf)
		if raw, err = chunkOf(env, err, block); err != nil {
			return err
		}
	default:
		env, err := o.st.Get(s.Chunk)
		if raw, err = chunkOf(env, err, block); err != nil {
			return err
		}
		o.chunks.Add(s.Chunk, raw)
	}
	n := 0
	if within < int64(len(raw)) {
		n = copy(p, raw[within:])
	}
	clear(p[n:])
	return nil
}
