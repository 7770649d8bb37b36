package transfer

import (
	"context"
	"crypto/ed25519"
	"errors"
	"fmt"
	"time"

	"candidharbor/core/object"
	"candidharbor/internal/store"
)

// Receiver is one carry at the receiving side.
type Receiver struct {
	Store *store.Store
	Peer  ed25519.PublicKey
	// Trusted tells whether a key may sign roots of this lineage.
	Trusted func(root *object.Root, signer ed25519.PublicKey) error
	// MayMark tells whether what a key says of a snapshot counts here. What does not is left
	// out.
	MayMark func(m *object.Mark, signer ed25519.PublicKey) bool
	// Knows tells whether the peer may be told that a snapshot is here.
	Knows func(root object.ID) bool
	// Sees tells whether the peer may be told that an object is here which is in none of the
	// bases, and rely on it.
	Sees func(ordinal uint32) bool
	// Arrived enters a snapshot, or new marks of one, into the records.
	Arrived func(id object.ID, stored int64) (at int64, err error)
	Meter   *Meter
	// Most bounds the bytes of records that the snapshot may bring; 0: no bound.
	Most int64
}

// ErrTooMuch says that a snapshot brings more than there is room for.
var ErrTooMuch = errors.New("the snapshot brings more than there is room for")

// What came is made durable after so many bytes, or on a slow line after so long, so that
// a cut costs little and the sender's progress is true.
const (
	flushEvery   = 64 << 20
	flushSlow    = 1 << 20
	flushSeldom  = 10 * time.Second
	flushSoonest = 2 * time.Second
)

// Run receives one snapshot. Whatever arrived whole before a cut stays under a durable
// lease named after the lineage.
func (c *Receiver) Run(ctx context.Context, s *Stream, q *CarryRequest) (err error) {
	stop := context.AfterFunc(ctx, func() { s.Close() })
	defer stop()
	if len(q.Bases) > MaxBases {
		return fmt.Errorf("the peer named %d bases, at most %d are accepted", len(q.Bases), MaxBases)
	}
	begin := carryBegin{HasRoot: c.Store.HasRoot(q.Root) && c.Knows(q.Root)}
	for _, id := range q.Bases {
		if c.Store.HasRoot(id) && c.Knows(id) {
			begin.Known = append(begin.Known, id)
		}
	}
	var lease *store.Lease
	if begin.HasRoot {
		lease = c.Store.NewLease()
	} else if lease, err = c.Store.DurableLease(store.LeaseName(fmt.Sprintf("%x %s %x", q.Lineage, q.Origin,
		c.Peer))); err != nil {
		return err
	}
	// The bases must stay while what is below them is relied on.
	held := c.Store.NewLease()
	defer held.Release()
	known := begin.Known
	begin.Known = nil
	for _, id := range known {
		set, err := c.Store.Census(id)
		if err != nil {
			continue // damaged or removed: what it has is offered and asked for one by one
		}
		held.AcquireSet(set)
		if !c.Store.HasRoot(id) {
			return fmt.Errorf("snapshot %s was removed while a carry began; try again", id)
		}
		begin.Known = append(begin.Known, id)
	}
	if err := s.Reply(begin); err != nil {
		return err
	}
	w := c.Store.NewWriter(lease)
	w.Within(held, c.Sees)
	done := false
	defer func() {
		if !done {
			if ferr := w.Flush(); ferr != nil && err == nil {
				err = ferr
			}
			w.Close()
		}
	}()
	in := newIntake(w, s.interrupt)
	defer in.close()
	var since, took, there int64
	flushed, every := time.Now(), flushSoonest // the first soon, to show that it goes on
	for {
		t, b, err := s.read()
		if err != nil {
			if bad := in.failure(); bad != nil {
				return bad
			}
			return err
		}
		switch t {
		case frameOffer: // no identity is offered twice, so nothing on its way is asked for
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
			n := int64(len(b))
			if took += n; c.Most > 0 && took > c.Most {
				lease.Release() // what it brought is swept
				return fmt.Errorf("%w: %d bytes were left", ErrTooMuch, c.Most)
			}
			if _, err := in.take(b); err != nil {
				return err
			}
			c.Meter.SentBytes.Add(n)
			if since += n; since >= flushEvery || since >= flushSlow && time.Since(flushed) > every {
				if err := in.wait(); err != nil {
					return err
				}
				if err := w.Flush(); err != nil {
					return err
				}
				since, flushed, every = 0, time.Now(), flushSeldom
				c.Meter.ThereBytes.Add(took - there)
				there = took
				if q.Takes {
					if err := s.send(frameTaken, taken{took}); err != nil {
						return err
					}
					if err := s.flush(); err != nil {
						return err
					}
				}
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
			return s.Reply(carryDone{Arrived: at, Kept: q.Keep != nil})
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
		root, signer, err := c.Store.Root(q.Root)
		if err != nil {
			return 0, err
		}
		if root.Lineage != q.Lineage || root.Volume != q.Volume || root.Origin != q.Origin {
			return 0, errors.New("the snapshot belongs to another volume than announced")
		}
		if err := c.Trusted(root, signer); err != nil {
			return 0, err
		}
	}
	if err := TakeMarks(c.Store, q.Root, m.Marks, c.MayMark); err != nil {
		return 0, err
	}
	return c.Arrived(q.Root, stored)
}

// TakeMarks puts mark records that came along beside their snapshot, those that count.
func TakeMarks(st *store.Store, id object.ID, marks [][]byte,
	may func(m *object.Mark, signer ed25519.PublicKey) bool) error {
	for _, raw := range marks {
		body, signer, err := object.OpenRecord("mark", raw)
		if err != nil {
			return err
		}
		mark, err := object.DecodeMark(body)
		if err != nil {
			return err
		}
		if mark.Root != id {
			return errors.New("a mark belongs to another snapshot than announced")
		}
		if !mark.Kind.Travels() {
			return fmt.Errorf("a mark of kind %s is for this place alone to make", mark.Kind)
		}
		if !may(mark, signer) {
			continue
		}
		if err := st.PutMarkRecord(raw); err != nil {
			return err
		}
	}
	return nil
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
