package transfer

import (
	"context"
	"crypto/ed25519"
	"errors"
	"fmt"
	"io"
	"runtime"
	"sync"
	"sync/atomic"

	"candidharbor/core/object"
	"candidharbor/internal/store"

	"github.com/RoaringBitmap/roaring/v2"
	"golang.org/x/time/rate"
)

// OpCarry is the request of a carry.
const OpCarry = "carry"

// CarryRequest opens a carry.
type CarryRequest struct {
	Lineage object.LineageID `cbor:"1,keyasint"`
	Volume  string           `cbor:"2,keyasint"` // at the origin
	Origin  string           `cbor:"3,keyasint"`
	Root    object.ID        `cbor:"4,keyasint"`
	Bases   []object.ID      `cbor:"5,keyasint"` // snapshots that the sender has
	Rules   string           `cbor:"6,keyasint"` // policy proposed for the receiving place, YAML; may be empty
	Bytes   int64            `cbor:"7,keyasint"` // stored bytes that the snapshot needs in all
}

// MaxBases is how many snapshots a request names.
const MaxBases = 4096

type carryBegin struct {
	HasRoot bool        `cbor:"1,keyasint"`
	Known   []object.ID `cbor:"2,keyasint"` // of the bases
}

type carryCommit struct {
	Root  []byte   `cbor:"1,keyasint,omitempty"` // signed record; empty when the receiver has it
	Marks [][]byte `cbor:"2,keyasint"`
}

type carryDone struct {
	Arrived int64 `cbor:"1,keyasint"` // when, by the receiver's clock
}

// Meter counts what a carry moves. All fields may be read at any time.
type Meter struct {
	OfferedObjects, OfferedBytes atomic.Int64 // objects beyond the common bases
	SentObjects, SentBytes       atomic.Int64 // records sent
	WireBytes                    atomic.Int64 // frames sent, of every kind
	TotalBytes                   atomic.Int64 // records to consider
}

// Sender is one carry from the sending side.
type Sender struct {
	Store   *store.Store
	Request CarryRequest
	Marks   [][]byte // signed mark records to bring along
	Limit   *rate.Limiter
	Meter   *Meter
}

// Run carries the snapshot over the link. When the receiver has it already only the
// marks go.
func (c *Sender) Run(ctx context.Context, l *Link) error {
	if c.Meter == nil {
		c.Meter = &Meter{}
	}
	s, err := l.Open(OpCarry, c.Request)
	if err != nil {
		return err
	}
	defer s.Close()
	stop := context.AfterFunc(ctx, func() { s.Close() })
	defer stop()
	defer func() { c.Meter.WireBytes.Add(s.Out.Load()) }()
	var begin carryBegin
	if err := s.Answer(&begin); err != nil {
		return cutBy(ctx, err)
	}
	commit := carryCommit{Marks: c.Marks}
	if !begin.HasRoot {
		lease := c.Store.NewLease()
		defer lease.Release()
		missing, err := c.missing(begin.Known, lease)
		if err != nil {
			return err
		}
		if err := c.objects(ctx, s, missing); err != nil {
			return cutBy(ctx, err)
		}
		if commit.Root, err = c.Store.RootRecord(c.Request.Root); err != nil {
			return err
		}
	}
	if err := s.send(frameCommit, commit); err != nil {
		return cutBy(ctx, err)
	}
	if err := s.flush(); err != nil {
		return cutBy(ctx, err)
	}
	var done carryDone
	return cutBy(ctx, s.Answer(&done))
}

func cutBy(ctx context.Context, err error) error {
	if err != nil && ctx.Err() != nil {
		return ctx.Err()
	}
	return err
}

// missing is the snapshot's census without those of the bases that both sides have.
// The lease keeps it readable although the snapshot may be removed meanwhile.
func (c *Sender) missing(known []object.ID, lease *store.Lease) (*roaring.Bitmap, error) {
	set, err := c.Store.Census(c.Request.Root)
	if err != nil {
		return nil, err
	}
	set = set.Clone()
	lease.AcquireSet(set)
	if !c.Store.HasRoot(c.Request.Root) {
		return nil, fmt.Errorf("snapshot %s was removed before it could be carried", c.Request.Root)
	}
	for _, id := range known {
		base, err := c.Store.Census(id)
		if err != nil {
			continue // gone meanwhile: more is offered, nothing is lost
		}
		set.AndNot(base)
	}
	c.Meter.OfferedObjects.Store(int64(set.GetCardinality()))
	var total int64
	for it := set.Iterator(); it.HasNext(); {
		_, n, _ := c.Store.ObjectAt(it.Next())
		total += n
	}
	c.Meter.TotalBytes.Store(total)
	return set, nil
}

// order yields identities children first.
func (c *Sender) order(set *roaring.Bitmap) func() (object.ID, int64, bool) {
	it := set.Iterator()
	return func() (object.ID, int64, bool) {
		if !it.HasNext() {
			return object.ID{}, 0, false
		}
		id, n, _ := c.Store.ObjectAt(it.Next())
		return id, n, true
	}
}

const offersAhead = 8

type offer struct {
	ids   []object.ID
	sizes []int64
	want  []byte
}

// objects offers everything in the set and sends what is wanted.
func (c *Sender) objects(ctx context.Context, s *Stream, set *roaring.Bitmap) error {
	next := c.order(set)
	if c.Store.Repaired() {
		// After a repair ordinals no longer tell children from parents.
		list, err := c.sorted(set)
		if err != nil {
			return err
		}
		next = list
	}
	asked := make(chan *offer, offersAhead)
	wanted := make(chan *offer, offersAhead)
	fail := make(chan error, 1)
	go func() { // reads the answers, so that the receiver never waits to give one
		defer close(wanted)
		for o := range asked {
			t, b, err := s.read()
			if err == nil && (t != frameWant || len(b) != (len(o.ids)+7)/8) {
				err = errors.New("the peer answered an offer with something else")
			}
			if err != nil {
				fail <- err
				return
			}
			o.want = b
			wanted <- o
		}
	}()
	defer close(asked)
	ahead, more := 0, true
	var batch []byte
	for more || ahead > 0 {
		for more && ahead < offersAhead {
			o := &offer{}
			for len(o.ids) < offerSize {
				id, n, ok := next()
				if !ok {
					more = false
					break
				}
				o.ids, o.sizes = append(o.ids, id), append(o.sizes, n)
				c.Meter.OfferedBytes.Add(n)
			}
			if len(o.ids) == 0 {
				break
			}
			raw := make([]byte, 0, len(o.ids)*32)
			for i := range o.ids {
				raw = append(raw, o.ids[i][:]...)
			}
			if err := s.raw(frameOffer, raw); err != nil {
				return c.why(err, fail)
			}
			if err := s.flush(); err != nil {
				return c.why(err, fail)
			}
			asked <- o
			ahead++
		}
		if ahead == 0 {
			break
		}
		var o *offer
		select {
		case o = <-wanted:
		case err := <-fail:
			return err
		case <-ctx.Done():
			return ctx.Err()
		}
		if o == nil {
			return <-fail
		}
		ahead--
		var err error
		if batch, err = c.records(ctx, s, o, batch[:0]); err != nil {
			return c.why(err, fail)
		}
	}
	return nil
}

// why prefers what the receiver said over a broken pipe.
func (c *Sender) why(err error, fail chan error) error {
	select {
	case said := <-fail:
		var r *Refusal
		if errors.As(said, &r) {
			return said
		}
	default:
	}
	return err
}

func (c *Sender) records(ctx context.Context, s *Stream, o *offer, batch []byte) ([]byte, error) {
	send := func() error {
		if len(batch) == 0 {
			return nil
		}
		if c.Limit != nil {
			for n := len(batch); n > 0; {
				step := min(n, c.Limit.Burst())
				if err := c.Limit.WaitN(ctx, step); err != nil {
					return err
				}
				n -= step
			}
		}
		err := s.raw(frameRecords, batch)
		c.Meter.SentBytes.Add(int64(len(batch)))
		batch = batch[:0]
		return err
	}
	var buf []byte
	for i, id := range o.ids {
		if o.want[i/8]&(1<<(i%8)) == 0 {
			continue
		}
		raw, err := c.Store.Record(id, buf)
		if err != nil {
			return batch, fmt.Errorf("the snapshot cannot be carried whole: %w; run verify to see what is damaged", err)
		}
		buf = raw
		batch = append(batch, raw...)
		c.Meter.SentObjects.Add(1)
		if len(batch) >= recordsBatch {
			if err := send(); err != nil {
				return batch, err
			}
		}
	}
	if err := send(); err != nil {
		return batch, err
	}
	return batch, s.flush()
}

// sorted lists the set in post-order from the root.
func (c *Sender) sorted(set *roaring.Bitmap) (func() (object.ID, int64, bool), error) {
	left := map[object.ID]int64{}
	for it := set.Iterator(); it.HasNext(); {
		id, n, _ := c.Store.ObjectAt(it.Next())
		left[id] = n
	}
	type one struct {
		id object.ID
		n  int64
	}
	var out []one
	var visit func(id object.ID) error
	visit = func(id object.ID) error {
		n, ok := left[id]
		if !ok {
			return nil
		}
		delete(left, id)
		env, err := c.Store.Get(id)
		if err != nil {
			return err
		}
		for i := range env.NumChildren() {
			if err := visit(env.Child(i)); err != nil {
				return err
			}
		}
		out = append(out, one{id, n})
		return nil
	}
	root, _, err := c.Store.Root(c.Request.Root)
	if err != nil {
		return nil, err
	}
	if err := visit(root.Tree()); err != nil {
		return nil, err
	}
	if root.HasLinks {
		if err := visit(root.Links); err != nil {
			return nil, err
		}
	}
	return func() (object.ID, int64, bool) {
		if len(out) == 0 {
			return object.ID{}, 0, false
		}
		o := out[0]
		out = out[1:]
		return o.id, o.n, true
	}, nil
}

// Receiver is one carry at the receiving side.
type Receiver struct {
	Store *store.Store
	Peer  ed25519.PublicKey
	// Trusted tells whether a key may sign roots of this lineage.
	Trusted func(root *object.Root, signer ed25519.PublicKey) error
	// Arrived enters a snapshot, or new marks of one, into the records.
	Arrived func(id object.ID, stored int64) (at int64, err error)
	Meter   *Meter
}

const flushEvery = 64 << 20

// Run receives one snapshot. Whatever arrived whole before a cut stays under a durable
// lease named after the lineage.
func (c *Receiver) Run(ctx context.Context, s *Stream, q *CarryRequest) (err error) {
	stop := context.AfterFunc(ctx, func() { s.Close() })
	defer stop()
	if len(q.Bases) > MaxBases {
		return fmt.Errorf("the peer named %d bases, at most %d are accepted", len(q.Bases), MaxBases)
	}
	begin := carryBegin{HasRoot: c.Store.HasRoot(q.Root)}
	for _, id := range q.Bases {
		if c.Store.HasRoot(id) {
			begin.Known = append(begin.Known, id)
		}
	}
	var lease *store.Lease
	if begin.HasRoot {
		lease = c.Store.NewLease()
	} else if lease, err = c.Store.DurableLease(store.LeaseName(fmt.Sprintf("%x %s %x", q.Lineage, q.Origin, c.Peer))); err != nil {
		return err
	}
	// The bases must stay while what is below them is relied on.
	held := c.Store.NewLease()
	defer held.Release()
	for _, id := range begin.Known {
		set, err := c.Store.Census(id)
		if err != nil {
			return err
		}
		held.AcquireSet(set)
		if !c.Store.HasRoot(id) {
			return fmt.Errorf("snapshot %s was removed while a carry began; try again", id)
		}
	}
	if err := s.Reply(begin); err != nil {
		return err
	}
	w := c.Store.NewWriter(lease)
	done := false
	defer func() {
		if !done {
			if ferr := w.Flush(); ferr != nil && err == nil {
				err = ferr
			}
			w.Close()
		}
	}()
	in := newIntake(w)
	defer in.wait()
	var since int64
	for {
		t, b, err := s.read()
		if err != nil {
			return err
		}
		switch t {
		case frameOffer:
			if err := in.wait(); err != nil {
				return err
			}
			want, err := wanted(w, b)
			if err != nil {
				return err
			}
			if err := s.raw(frameWant, want); err != nil {
				return err
			}
			if err := s.flush(); err != nil {
				return err
			}
		case frameRecords:
			if begin.HasRoot {
				return errors.New("the peer sends objects of a snapshot that is here already")
			}
			if err := in.take(b); err != nil {
				return err
			}
			c.Meter.SentBytes.Add(int64(len(b)))
			if since += int64(len(b)); since >= flushEvery {
				if err := in.wait(); err != nil {
					return err
				}
				if err := w.Flush(); err != nil {
					return err
				}
				since = 0
			}
		case frameCommit:
			var m carryCommit
			if err := decMode.Unmarshal(b, &m); err != nil {
				return err
			}
			if err := in.wait(); err != nil {
				return err
			}
			at, err := c.commit(w, q, begin.HasRoot, &m)
			if err != nil {
				return err
			}
			done = true
			return s.Reply(carryDone{Arrived: at})
		default:
			return fmt.Errorf("the peer sent frame type %d during a carry", t)
		}
	}
}

func (c *Receiver) commit(w *store.Writer, q *CarryRequest, has bool, m *carryCommit) (int64, error) {
	var stored int64
	if !has {
		env, signer, err := object.OpenRecord("root", m.Root)
		if err != nil {
			return 0, err
		}
		if object.Sum(env) != q.Root {
			return 0, errors.New("the root record is not that of the announced snapshot")
		}
		root, err := object.DecodeRoot(env)
		if err != nil {
			return 0, err
		}
		if root.Lineage != q.Lineage || root.Volume != q.Volume || root.Origin != q.Origin {
			return 0, errors.New("the root record belongs to another volume than announced")
		}
		if err := c.Trusted(root, signer); err != nil {
			return 0, err
		}
		if _, err := w.CommitRecord(m.Root); err != nil {
			return 0, err
		}
		_, stored, _ = w.Stats()
	} else {
		w.Close()
	}
	for _, raw := range m.Marks {
		body, _, err := object.OpenRecord("mark", raw)
		if err != nil {
			return 0, err
		}
		mark, err := object.DecodeMark(body)
		if err != nil {
			return 0, err
		}
		if mark.Root != q.Root {
			return 0, errors.New("a mark belongs to another snapshot than announced")
		}
		if err := c.Store.PutMarkRecord(raw); err != nil {
			return 0, err
		}
	}
	return c.Arrived(q.Root, stored)
}

// wanted answers an offer; what is here is held by the writer's lease from now on.
func wanted(w *store.Writer, ids []byte) ([]byte, error) {
	if len(ids)%32 != 0 || len(ids) > offerSize*32 {
		return nil, fmt.Errorf("an offer of %d bytes", len(ids))
	}
	n := len(ids) / 32
	want := make([]byte, (n+7)/8)
	for i := range n {
		err := w.Has(object.ID(ids[i*32 : i*32+32]))
		if errors.Is(err, store.ErrNotClosed) {
			want[i/8] |= 1 << (i % 8)
		} else if err != nil {
			return nil, err
		}
	}
	return want, nil
}

// intake checks and stores records on all cores. Chunks have no children and may go
// in any order; before anything else, all chunks before it must be in.
type intake struct {
	w     *store.Writer
	slots chan struct{}
	wg    sync.WaitGroup
	mu    sync.Mutex
	err   error
}

func newIntake(w *store.Writer) *intake {
	return &intake{w: w, slots: make(chan struct{}, runtime.NumCPU()+1)}
}

func (in *intake) put(raw []byte) {
	if _, err := in.w.PutRecord(raw); err != nil {
		in.mu.Lock()
		if in.err == nil {
			in.err = err
		}
		in.mu.Unlock()
	}
}

func (in *intake) take(b []byte) error {
	for len(b) > 0 {
		n, kind, err := store.RecordLength(b)
		if err != nil {
			return err
		}
		if n > len(b) {
			return io.ErrUnexpectedEOF
		}
		raw := b[:n]
		b = b[n:]
		if kind != object.KindChunk {
			if err := in.wait(); err != nil {
				return err
			}
			in.put(raw)
			continue
		}
		in.slots <- struct{}{}
		in.wg.Add(1)
		go func() {
			defer in.wg.Done()
			in.put(raw)
			<-in.slots
		}()
	}
	in.mu.Lock()
	defer in.mu.Unlock()
	return in.err
}

func (in *intake) wait() error {
	in.wg.Wait()
	in.mu.Lock()
	defer in.mu.Unlock()
	return in.err
}
