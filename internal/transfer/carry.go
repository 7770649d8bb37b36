package transfer

import (
	"context"
	"errors"
	"fmt"
	"sync/atomic"
	"time"

	"candidharbor/core/object"
	"candidharbor/internal/store"
)

// OpCarry is the request of a carry.
const OpCarry = "carry"

// CarryRequest opens a carry.
type CarryRequest struct {
	Lineage object.LineageID `cbor:"1,keyasint"`
	Volume  string           `cbor:"2,keyasint"` // at the origin
	Origin  string           `cbor:"3,keyasint"`
	Root    object.ID        `cbor:"4,keyasint"`
	Bases   []object.ID      `cbor:"5,keyasint"`           // snapshots that the sender has
	Rules   string           `cbor:"6,keyasint"`           // policy proposed for the receiving place, YAML; may be empty
	Standby string           `cbor:"8,keyasint,omitempty"` // lay the copy out: exact or additive
	SetOf   uint32           `cbor:"7,keyasint,omitempty"` // snapshots of its group's set that come along in all
	Takes   bool             `cbor:"9,keyasint,omitempty"` // the sender reads frames that tell what is durable
	// Authority are the records of who is, and was, active of the history.
	Authority [][]byte `cbor:"10,keyasint,omitempty"`
	// Keep asks that the snapshot is kept at the receiver whatever its rules say.
	Keep *Keep `cbor:"11,keyasint,omitempty"`
}

// Keep is a wish of who sends a snapshot.
type Keep struct {
	Until int64  `cbor:"1,keyasint,omitempty"` // nanoseconds; 0: until it is let go there
	Why   string `cbor:"2,keyasint"`
}

// Time is until when; the zero time is no end.
func (k *Keep) Time() time.Time {
	if k.Until == 0 {
		return time.Time{}
	}
	return time.Unix(0, k.Until)
}

// MaxAuthority is how many records of authority a request brings.
const MaxAuthority = 4000

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

// taken tells the sender what is durable.
type taken struct {
	Bytes int64 `cbor:"1,keyasint"` // of records of this carry, in all
}

type carryDone struct {
	Arrived int64 `cbor:"1,keyasint"`           // when, by the receiver's clock
	Kept    bool  `cbor:"2,keyasint,omitempty"` // as was asked; a release before knows no such wish
}

// Limit holds a sender back to a pace.
type Limit interface {
	// Wait returns when n more bytes may be sent.
	Wait(ctx context.Context, n int) error
}

// Meter counts what a carry moves. All fields may be read at any time.
type Meter struct {
	OfferedObjects, OfferedBytes atomic.Int64 // objects beyond the common bases
	SentObjects, SentBytes       atomic.Int64 // records sent
	WireBytes                    atomic.Int64 // frames sent, of every kind
	TotalBytes                   atomic.Int64 // records to consider
	ThereBytes                   atomic.Int64 // records of those that are durable at the receiver
}

// alone corrects what was reckoned for an object: it lies in a bundle with others, and travels without them.
func (m *Meter) alone(more int64) {
	if more != 0 {
		m.OfferedBytes.Add(more)
		m.TotalBytes.Add(more)
	}
}

// Sender is one carry from the sending side.
type Sender struct {
	Store   *store.Store
	Request CarryRequest
	Marks   [][]byte // signed mark records to bring along
	Limit   Limit    // nil: none
	Meter   *Meter
	Kept    bool // after Run: the receiver keeps it as was asked

	sent int64 // bytes of records
}

// Run carries the snapshot over the link. When the receiver has it already only the
// marks go.
func (c *Sender) Run(ctx context.Context, l *Link) error {
	c.prepare()
	s, err := l.Open(OpCarry, c.Request)
	if err != nil {
		return err
	}
	defer s.Close()
	return c.over(ctx, s)
}

// Answer carries the snapshot to a peer that asked for it on the stream.
func (c *Sender) Answer(ctx context.Context, s *Stream) error {
	c.prepare()
	if err := s.Reply(c.Request); err != nil {
		return err
	}
	return c.over(ctx, s)
}

func (c *Sender) prepare() {
	c.Request.Takes = true
	if c.Meter == nil {
		c.Meter = &Meter{}
	}
}

func (c *Sender) over(ctx context.Context, s *Stream) error {
	stop := context.AfterFunc(ctx, func() { s.Close() })
	defer stop()
	defer func() { c.Meter.WireBytes.Add(s.Out.Load()) }()
	err := c.talk(ctx, s)
	if err != nil && ctx.Err() == nil && !c.Store.HasRoot(c.Request.Root) {
		return &Refusal{What: fmt.Sprintf("the snapshot %s was removed before it could be carried", c.Request.Root),
			Gone: true}
	}
	return err
}

func (c *Sender) talk(ctx context.Context, s *Stream) error {
	var begin carryBegin
	if err := s.Answer(&begin); err != nil {
		return cutBy(ctx, err)
	}
	commit := carryCommit{Marks: c.Marks}
	in := &answers{asked: make(chan *offer, offersAhead), wanted: make(chan *offer, offersAhead),
		last: make(chan answer, 1)}
	go in.read(s, c.Meter)
	if !begin.HasRoot {
		lease := c.Store.NewLease()
		defer lease.Release()
		missing, err := c.missing(begin.Known, lease)
		if err != nil {
			return err
		}
		if err := c.objects(ctx, s, in, missing); err != nil {
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
	a := <-in.last // the stream's deadline, or its end, ends this wait
	if a.err == nil && a.t != frameReply {
		a.err = fmt.Errorf("the peer sent frame type %d where %d was due", a.t, frameReply)
	}
	if a.err != nil {
		return cutBy(ctx, a.err)
	}
	var done carryDone
	if err := decMode.Unmarshal(a.body, &done); err != nil {
		return err
	}
	in.durable(c.Meter, c.sent)
	c.Kept = done.Kept
	return nil
}

// answers reads what the receiver says, so that it never waits to say it.
type answers struct {
	asked  chan *offer
	wanted chan *offer
	last   chan answer // the first frame that answers no offer
	there  int64       // bytes of records of this carry that are durable
}

type answer struct {
	t    frameType
	body []byte
	err  error
}

func (a *answers) read(s *Stream, m *Meter) {
	defer close(a.wanted)
	for {
		t, b, err := s.read()
		switch {
		case err == nil && t == frameTaken:
			var k taken
			if err = decMode.Unmarshal(b, &k); err == nil {
				a.durable(m, k.Bytes)
				continue
			}
		case err == nil && t == frameWant:
			select {
			case o := <-a.asked:
				if len(b) == (len(o.ids)+7)/8 {
					o.want = b
					m.ThereBytes.Add(o.had())
					a.wanted <- o
					continue
				}
			default:
			}
			err = errors.New("the peer answered an offer with something else")
		}
		a.last <- answer{t, b, err}
		return
	}
}

// durable notes that the receiver has that many bytes of this carry's records for good.
func (a *answers) durable(m *Meter, bytes int64) {
	if bytes > a.there {
		m.ThereBytes.Add(bytes - a.there)
		a.there = bytes
	}
}

func cutBy(ctx context.Context, err error) error {
	if err != nil && ctx.Err() != nil {
		return ctx.Err()
	}
	return err
}
