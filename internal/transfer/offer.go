package transfer

import (
	"context"
	"errors"
	"fmt"
	"runtime"
	"slices"

	"candidharbor/core/object"
	"candidharbor/internal/store"

	"github.com/RoaringBitmap/roaring/v2"
	"golang.org/x/sync/errgroup"
)

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
		return nil, store.ErrNoObject
	}
	for _, id := range known {
		base, err := c.Store.Census(id)
		if err != nil {
			continue // gone meanwhile: more is offered, nothing is lost
		}
		set.AndNot(base)
	}
	c.Meter.OfferedObjects.Add(int64(set.GetCardinality()))
	var total int64
	for it := set.Iterator(); it.HasNext(); {
		_, n, _ := c.Store.ObjectAt(it.Next())
		total += n
	}
	c.Meter.TotalBytes.Add(total)
	return set, nil
}

const (
	offersAhead = 8
	pacedBatch  = 64 << 10 // at a slow pace the receiver must not wait long for the next
	readAtOnce  = 16       // objects, of up to a mebibyte each
)

type offer struct {
	ids   []object.ID
	sizes []int64
	want  []byte
}

// objects offers everything in the set and sends what is wanted.
func (c *Sender) objects(ctx context.Context, s *Stream, in *answers, set *roaring.Bitmap) error {
	next, err := childrenFirst(c.Store, set, c.Request.Root)
	if err != nil {
		return err
	}
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
			in.asked <- o // before the answer can come
			if err := s.raw(frameOffer, raw); err != nil {
				return c.why(err, in)
			}
			if err := s.flush(); err != nil {
				return c.why(err, in)
			}
			ahead++
		}
		if ahead == 0 {
			break
		}
		var o *offer
		select {
		case o = <-in.wanted:
		case <-ctx.Done():
			return ctx.Err()
		}
		if o == nil {
			a := <-in.last
			if a.err == nil {
				a.err = errors.New("the peer answered an offer with something else")
			}
			return a.err
		}
		ahead--
		var err error
		if batch, err = c.records(ctx, s, o, batch[:0]); err != nil {
			return c.why(err, in)
		}
	}
	return nil
}

// why prefers what the receiver said over a broken pipe.
func (c *Sender) why(err error, in *answers) error {
	select {
	case said := <-in.last:
		var r *Refusal
		if errors.As(said.err, &r) {
			return said.err
		}
	default:
	}
	return err
}

// read reads some of what was offered, on all cores: what lies in bundles is unpacked and packed again for the line.
func (c *Sender) read(o *offer, some []int, into [][]byte) error {
	var g errgroup.Group
	parts := runtime.GOMAXPROCS(0)
	for part := range parts {
		g.Go(func() (err error) {
			for k := part * len(some) / parts; k < (part+1)*len(some)/parts && err == nil; k++ {
				into[k], err = c.Store.Record(o.ids[some[k]], into[k])
			}
			return err
		})
	}
	return g.Wait()
}

func (c *Sender) records(ctx context.Context, s *Stream, o *offer, batch []byte) ([]byte, error) {
	send := func() error {
		if len(batch) == 0 {
			return nil
		}
		if c.Limit != nil {
			if err := c.Limit.Wait(ctx, len(batch)); err != nil {
				return err
			}
		}
		err := s.raw(frameRecords, batch)
		c.Meter.SentBytes.Add(int64(len(batch)))
		c.sent += int64(len(batch))
		batch = batch[:0]
		return err
	}
	most := recordsBatch
	if c.Limit != nil {
		most = pacedBatch
	}
	var wanted []int
	for i := range o.ids {
		if o.want[i/8]&(1<<(i%8)) != 0 {
			wanted = append(wanted, i)
		}
	}
	bufs := make([][]byte, readAtOnce)
	for some := range slices.Chunk(wanted, readAtOnce) {
		if err := c.read(o, some, bufs); err != nil {
			return batch, fmt.Errorf("the snapshot cannot be carried whole: %w; run verify to see what is damaged", err)
		}
		for k, i := range some {
			batch = append(batch, bufs[k]...)
			c.Meter.alone(int64(len(bufs[k])) - o.sizes[i])
			c.Meter.SentObjects.Add(1)
			if len(batch) >= most {
				if err := send(); err != nil {
					return batch, err
				}
			}
		}
	}
	if err := send(); err != nil {
		return batch, err
	}
	return batch, s.flush()
}

// had are the bytes of an offer that the receiver has already.
func (o *offer) had() (n int64) {
	for i := range o.ids {
		if o.want[i/8]&(1<<(i%8)) == 0 {
			n += o.sizes[i]
		}
	}
	return n
}
