package nbd

import (
	"context"
	"encoding/binary"
	"errors"
	"io"
	"net"
	"sync"

	"golang.org/x/sync/semaphore"
)

const (
	inline    = 64 << 10  // requests up to this are done at once when that takes no wait
	readAhead = 256 << 10 // bytes of requests that are read at once
	joined    = 256 << 10 // bytes of replies that go in one write
	atOnce    = 32        // requests of a connection that wait side by side
	inMemory  = 64 << 20  // bytes of them
)

// transmission is a connection after negotiation.
type transmission struct {
	conn       net.Conn
	export     Export
	size       int64
	readOnly   bool
	errno      func(error) uint32
	structured bool
	context    bool

	in      []byte // what was read and not yet done, from begin to end
	begin   int
	end     int
	out     []byte // replies that were not sent
	sending sync.Mutex
	sendErr error
	memory  *semaphore.Weighted
	workers sync.WaitGroup
	few     chan struct{}
}

type request struct {
	flags, kind uint16
	cookie      uint64
	off         uint64
	n           uint32
}

const requestBytes = 28

func newTransmission(n *negotiation, e Export) *transmission {
	i := e.Info()
	t := &transmission{conn: n.conn, export: e, size: i.Size, readOnly: i.ReadOnly, errno: n.exports.Errno,
		structured: n.structured, context: n.context && n.structured, in: make([]byte, readAhead+requestBytes),
		memory: semaphore.NewWeighted(inMemory), few: make(chan struct{}, atOnce)}
	t.end, _ = io.ReadFull(n.r, t.in[:n.r.Buffered()])
	return t
}

// run does requests until the client leaves, and reports whether it said so. All that began is over when it
// returns.
func (t *transmission) run(ctx context.Context) (left bool, err error) {
	ctx, cancel := context.WithCancel(ctx)
	err = t.loop(ctx)
	left = errors.Is(err, errLeft)
	if !left {
		cancel() // nobody waits for what is under way
	}
	t.workers.Wait()
	cancel()
	if errors.Is(err, io.EOF) || left {
		return left, nil
	}
	return left, err
}

var errLeft = errors.New("the client has left")

func (t *transmission) loop(ctx context.Context) error {
	for {
		// What is there whole is done before more is read; then the replies go.
		for t.end-t.begin >= requestBytes {
			r, err := parseRequest(t.in[t.begin:])
			if err != nil {
				return err
			}
			payload := 0
			if r.kind == cmdWrite {
				if r.n > MaxPayload {
					return broken("a write of %d bytes", r.n)
				}
				payload = int(r.n)
			}
			if payload > inline {
				t.begin += requestBytes
				if err := t.largeWrite(ctx, r); err != nil {
					return err
				}
				continue
			}
			if t.end-t.begin < requestBytes+payload {
				break
			}
			data := t.in[t.begin+requestBytes : t.begin+requestBytes+payload]
			t.begin += requestBytes + payload
			if err := t.one(ctx, r, data); err != nil {
				return err
			}
			if len(t.out) >= joined {
				if err := t.flush(); err != nil {
					return err
				}
			}
		}
		if err := t.flush(); err != nil {
			return err
		}
		copy(t.in, t.in[t.begin:t.end])
		t.end -= t.begin
		t.begin = 0
		n, err := t.conn.Read(t.in[t.end:])
		t.end += n
		if n == 0 && err != nil {
			if t.end > 0 && errors.Is(err, io.EOF) {
				err = io.ErrUnexpectedEOF
			}
			return err
		}
	}
}

func parseRequest(b []byte) (r request, err error) {
	if m := binary.BigEndian.Uint32(b); m != magicRequest {
		return r, broken("request with magic %#x", m)
	}
	return request{flags: binary.BigEndian.Uint16(b[4:]), kind: binary.BigEndian.Uint16(b[6:]),
		cookie: binary.BigEndian.Uint64(b[8:]), off: binary.BigEndian.Uint64(b[16:]),
		n: binary.BigEndian.Uint32(b[24:])}, nil
}

// largeWrite reads the bytes of a write that is not done at once.
func (t *transmission) largeWrite(ctx context.Context, r request) error {
	if err := t.flush(); err != nil {
		return err
	}
	return t.aside(ctx, int64(r.n), func() ([]byte, error) {
		data := lend(int(r.n))
		n := copy(data, t.in[t.begin:t.end])
		t.begin += n
		_, err := io.ReadFull(t.conn, data[n:])
		return data, err
	}, func(data []byte) {
		code := t.refused(r) // only now: the bytes had to be read all the same
		if code == 0 {
			code = t.wait(ctx, r, data)
		}
		t.send(t.finish(nil, r, code, nil))
		giveBack(data)
	})
}

// large are buffers for requests that are not done at once: making and clearing new ones takes longer than
// what is done with them.
var large sync.Pool

const largest = 4 << 20 // of those that are kept

func lend(n int) []byte {
	if b, is := large.Get().(*[]byte); is && cap(*b) >= n {
		return (*b)[:n]
	}
	return make([]byte, n, max(n, min(2*n, 1<<20+64)))
}

func giveBack(b []byte) {
	if cap(b) > inline && cap(b) <= largest {
		large.Put(&b)
	}
}

// aside does something beside the reading of requests. prepare runs at once.
func (t *transmission) aside(ctx context.Context, n int64, prepare func() ([]byte, error), do func(data []byte)) error {
	if err := t.memory.Acquire(ctx, n); err != nil {
		return err
	}
	data, err := prepare()
	if err != nil {
		t.memory.Release(n)
		return err
	}
	select {
	case t.few <- struct{}{}:
	case <-ctx.Done():
		t.memory.Release(n)
		return ctx.Err()
	}
	t.workers.Go(func() {
		do(data)
		<-t.few
		t.memory.Release(n)
	})
	return nil
}

// one does a request whose bytes are all here, or has it done beside.
func (t *transmission) one(ctx context.Context, r request, data []byte) error {
	if r.kind == cmdDisconnect {
		return errors.Join(t.flush(), errLeft)
	}
	if code := t.refused(r); code != 0 {
		t.out = t.finish(t.out, r, code, nil)
		return nil
	}
	switch {
	case r.kind == cmdRead && r.n <= inline:
		at := len(t.out)
		t.out = t.readHead(t.out, r)
		from := len(t.out)
		t.out = extend(t.out, int(r.n))
		if t.export.ReadNoWait(t.out[from:], int64(r.off)) {
			return nil
		}
		t.out = t.out[:at]
	case r.kind == cmdWrite && r.flags&cmdFlagFUA == 0 && t.export.WriteNoWait(data, int64(r.off)):
		t.out = t.finish(t.out, r, 0, nil)
		return nil
	}
	n := int64(len(data))
	if r.kind == cmdRead {
		n = int64(r.n)
	}
	return t.aside(ctx, n, func() ([]byte, error) { return append([]byte(nil), data...), nil }, func(data []byte) {
		if r.kind == cmdRead {
			reply := t.read(r)
			t.send(reply)
			giveBack(reply)
			return
		}
		if r.kind == cmdBlockStatus {
			t.send(t.status(r))
			return
		}
		t.send(t.finish(nil, r, t.wait(ctx, r, data), nil))
	})
}

// extend makes a buffer longer.
func extend(b []byte, n int) []byte {
	if cap(b)-len(b) >= n {
		return b[:len(b)+n]
	}
	return append(b, make([]byte, n)...)
}

// refused is why a request cannot be done; 0: it can.
func (t *transmission) refused(r request) uint32 {
	allowed := uint16(0)
	writes := false
	switch r.kind {
	case cmdRead:
		allowed = cmdFlagDF
	case cmdWrite:
		allowed, writes = cmdFlagFUA, true
	case cmdTrim:
		allowed, writes = cmdFlagFUA, true
	case cmdWriteZeroes:
		allowed, writes = cmdFlagFUA|cmdFlagNoHole, true
	case cmdFlush:
		allowed = cmdFlagFUA
	case cmdBlockStatus:
		allowed = cmdFlagReqOne
		if !t.context {
			return EINVAL
		}
	default:
		return EINVAL
	}
	switch {
	case r.flags&^(allowed|cmdFlagFUA) != 0: // FUA is ignored where it means nothing
		return EINVAL
	case writes && t.readOnly:
		return EPERM
	case r.kind == cmdFlush:
		return 0
	case r.kind == cmdRead && r.n > MaxPayload:
		return EOVERFLOW
	case r.n == 0, r.off > uint64(t.size), uint64(r.n) > uint64(t.size)-r.off:
		if r.kind == cmdWrite || r.kind == cmdWriteZeroes {
			return ENOSPC
		}
		return EINVAL
	}
	return 0
}

// wait does a request that may wait.
func (t *transmission) wait(ctx context.Context, r request, data []byte) uint32 {
	off, n, fua := int64(r.off), int64(r.n), r.flags&cmdFlagFUA != 0
	var err error
	switch r.kind {
	case cmdWrite:
		err = t.export.WriteAt(ctx, data, off, fua)
	case cmdTrim:
		err = t.export.Trim(ctx, off, n, fua)
	case cmdWriteZeroes:
		err = t.export.Zero(ctx, off, n, r.flags&cmdFlagNoHole != 0, fua)
	case cmdFlush:
		err = t.export.Flush(ctx)
	}
	if err != nil {
		return t.errno(err)
	}
	return 0
}

// read does a read that may wait.
func (t *transmission) read(r request) []byte {
	head := t.readHead(lend(int(r.n) + 64)[:0], r)
	out := extend(head, int(r.n))
	if err := t.export.ReadAt(out[len(head):], int64(r.off)); err != nil {
		return t.finish(nil, r, t.errno(err), err)
	}
	return out
}

// readHead begins the reply to a read that succeeded; the bytes follow.
func (t *transmission) readHead(b []byte, r request) []byte {
	if !t.structured {
		return t.simple(b, r, 0)
	}
	b = chunkHead(b, r, chunkDone, chunkOffsetData, 8+r.n)
	return binary.BigEndian.AppendUint64(b, r.off)
}

func (t *transmission) simple(b []byte, r request, code uint32) []byte {
	b = binary.BigEndian.AppendUint32(b, magicSimple)
	b = binary.BigEndian.AppendUint32(b, code)
	return binary.BigEndian.AppendUint64(b, r.cookie)
}

func chunkHead(b []byte, r request, flags, kind uint16, n uint32) []byte {
	b = binary.BigEndian.AppendUint32(b, magicChunk)
	b = binary.BigEndian.AppendUint16(b, flags)
	b = binary.BigEndian.AppendUint16(b, kind)
	b = binary.BigEndian.AppendUint64(b, r.cookie)
	return binary.BigEndian.AppendUint32(b, n)
}

// finish ends a request without bytes: well, or with the number of an error.
func (t *transmission) finish(b []byte, r request, code uint32, why error) []byte {
	if !t.structured || r.kind != cmdRead && r.kind != cmdBlockStatus {
		return t.simple(b, r, code)
	}
	if code == 0 {
		return chunkHead(b, r, chunkDone, chunkNone, 0)
	}
	text := ""
	if why != nil {
		text = why.Error()
		text = text[:min(len(text), 1000)]
	}
	b = chunkHead(b, r, chunkDone, chunkError, 6+uint32(len(text)))
	b = binary.BigEndian.AppendUint32(b, code)
	b = binary.BigEndian.AppendUint16(b, uint16(len(text)))
	return append(b, text...)
}

// status tells what a stretch holds.
func (t *transmission) status(r request) []byte {
	extents, err := t.export.Extents(int64(r.off), int64(r.n))
	if err == nil && len(extents) == 0 {
		return t.finish(nil, r, EIO, nil)
	}
	if err != nil {
		return t.finish(nil, r, t.errno(err), err)
	}
	if r.flags&cmdFlagReqOne != 0 {
		extents = extents[:1]
	}
	b := chunkHead(nil, r, chunkDone, chunkBlockStatus, 4+8*uint32(len(extents)))
	b = binary.BigEndian.AppendUint32(b, contextID)
	for _, e := range extents {
		f := uint32(0)
		if e.Hole {
			f |= stateHole
		}
		if e.Zero {
			f |= stateZero
		}
		b = binary.BigEndian.AppendUint32(b, uint32(e.Length))
		b = binary.BigEndian.AppendUint32(b, f)
	}
	return b
}

// flush sends the replies that were gathered.
func (t *transmission) flush() error {
	if len(t.out) == 0 {
		return nil
	}
	err := t.send(t.out)
	t.out = t.out[:0]
	return err
}

func (t *transmission) send(b []byte) error {
	t.sending.Lock()
	defer t.sending.Unlock()
	if t.sendErr == nil {
		_, t.sendErr = t.conn.Write(b)
	}
	return t.sendErr
}
