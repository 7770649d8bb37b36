package nbd

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"time"
)

// window is how many reads a server has to do at once.
const window = 8

// reading is a read that was asked for.
type reading struct {
	off, n int64
	left   int64 // bytes that did not come yet
}

// Copy reads the export and gives what it holds to put, in any order. What the server says reads as zeros is
// left out. An error of put ends it.
func (r *Remote) Copy(ctx context.Context, put func(p []byte, off int64) error) error {
	err := r.copyAll(put)
	if ctx.Err() != nil {
		err = errors.Join(ctx.Err(), err)
	}
	return err
}

func (r *Remote) copyAll(put func(p []byte, off int64) error) error {
	buf := make([]byte, r.most)
	for at := int64(0); at < r.size; {
		extents := []Extent{{Length: r.size - at}}
		if r.context {
			var err error
			if extents, err = r.status(at, min(r.size-at, 1<<30)); err != nil {
				return err
			}
		}
		for _, e := range extents {
			end := min(at+e.Length, r.size)
			if !e.Zero {
				if err := r.readAll(at, end, buf, put); err != nil {
					return err
				}
			}
			at = end
		}
	}
	return nil
}

// readAll reads a stretch, with several reads under way.
func (r *Remote) readAll(at, end int64, buf []byte, put func(p []byte, off int64) error) error {
	under := map[uint64]*reading{}
	for at < end || len(under) > 0 {
		for at < end && len(under) < window {
			n := min(r.most, end-at)
			r.cookie++
			if err := r.request(cmdRead, at, n); err != nil {
				return err
			}
			under[r.cookie] = &reading{off: at, n: n, left: n}
			at += n
		}
		if err := r.reply(under, buf, put); err != nil {
			return err
		}
	}
	return nil
}

func (r *Remote) request(kind uint16, off, n int64) error {
	if err := r.conn.SetDeadline(time.Now().Add(patience)); err != nil {
		return err
	}
	b := binary.BigEndian.AppendUint32(nil, magicRequest)
	b = binary.BigEndian.AppendUint16(b, 0)
	b = binary.BigEndian.AppendUint16(b, kind)
	b = binary.BigEndian.AppendUint64(b, r.cookie)
	b = binary.BigEndian.AppendUint64(b, uint64(off))
	b = binary.BigEndian.AppendUint32(b, uint32(n))
	_, err := r.conn.Write(b)
	return err
}

// chunk is the head of a reply, or of a part of one.
type chunk struct {
	cookie uint64
	done   bool
	kind   uint16
	n      int64 // bytes that follow
	code   uint32
	simple bool
}

func (r *Remote) head() (c chunk, err error) {
	if err := r.conn.SetDeadline(time.Now().Add(patience)); err != nil {
		return c, err
	}
	var b [20]byte
	if _, err := io.ReadFull(r.r, b[:16]); err != nil {
		return c, early(err)
	}
	switch magic := binary.BigEndian.Uint32(b[:]); {
	case magic == magicSimple:
		return chunk{cookie: binary.BigEndian.Uint64(b[8:]), done: true, simple: true,
			code: binary.BigEndian.Uint32(b[4:])}, nil
	case magic != magicChunk || !r.structured:
		return c, strange("a reply with magic %#x", magic)
	}
	if _, err := io.ReadFull(r.r, b[16:]); err != nil {
		return c, early(err)
	}
	return chunk{cookie: binary.BigEndian.Uint64(b[8:]), done: binary.BigEndian.Uint16(b[4:])&chunkDone != 0,
		kind: binary.BigEndian.Uint16(b[6:]), n: int64(binary.BigEndian.Uint32(b[16:]))}, nil
}

// failure reads what a chunk says of an error.
func (r *Remote) failure(c chunk) error {
	if c.n < 6 || c.n > maxOption {
		return strange("an error of %d bytes", c.n)
	}
	b := make([]byte, c.n)
	if _, err := io.ReadFull(r.r, b); err != nil {
		return early(err)
	}
	return serverErrno(binary.BigEndian.Uint32(b))
}

func serverErrno(code uint32) error {
	if code == 0 {
		return strange("an error without a number")
	}
	return fmt.Errorf("the server cannot read it: error %d", code)
}

// reply takes one reply to a read, or a part of one.
func (r *Remote) reply(under map[uint64]*reading, buf []byte, put func(p []byte, off int64) error) error {
	c, err := r.head()
	if err != nil {
		return err
	}
	want := under[c.cookie]
	if want == nil {
		return strange("a reply to what nobody asked for")
	}
	off, n := want.off, want.n
	switch {
	case c.simple && c.code != 0:
		return serverErrno(c.code)
	case c.simple:
	case c.kind&(1<<15) != 0:
		return r.failure(c)
	case c.kind == chunkNone && c.done && c.n == 0:
		n = 0
	case c.kind == chunkOffsetData && c.n > 8 || c.kind == chunkOffsetHole && c.n == 12:
		var b [12]byte
		if _, err := io.ReadFull(r.r, b[:8]); err != nil {
			return early(err)
		}
		n = c.n - 8
		if c.kind == chunkOffsetHole {
			if _, err := io.ReadFull(r.r, b[8:]); err != nil {
				return early(err)
			}
			if n = int64(binary.BigEndian.Uint32(b[8:])); n == 0 {
				return strange("a stretch of nothing")
			}
		}
		at := binary.BigEndian.Uint64(b[:])
		if at < uint64(want.off) || at > uint64(want.off+want.n) || n > want.off+want.n-int64(at) {
			return strange("bytes that nobody asked for")
		}
		off = int64(at)
	default:
		return strange("a part of a reply of kind %d with %d bytes", c.kind, c.n)
	}
	if want.left -= n; want.left < 0 || c.done && want.left > 0 {
		return strange("%d bytes too few or too many", want.left)
	}
	if n > 0 && c.kind != chunkOffsetHole {
		if _, err := io.ReadFull(r.r, buf[:n]); err != nil {
			return early(err)
		}
		if err := put(buf[:n], off); err != nil {
			return err
		}
	}
	if c.done {
		delete(under, c.cookie)
	}
	return nil
}

// status asks what a stretch holds, of which at least the beginning is told.
func (r *Remote) status(off, n int64) (out []Extent, err error) {
	r.cookie++
	if err := r.request(cmdBlockStatus, off, n); err != nil {
		return nil, err
	}
	for range maxOptions {
		c, err := r.head()
		switch {
		case err != nil:
			return nil, err
		case c.cookie != r.cookie:
			return nil, strange("a reply to what nobody asked for")
		case c.simple && c.code != 0:
			return nil, serverErrno(c.code)
		case c.kind&(1<<15) != 0:
			return nil, r.failure(c)
		case c.kind == chunkBlockStatus && c.n >= 12 && (c.n-4)%8 == 0 && c.n < maxStatus:
			b := make([]byte, c.n)
			if _, err := io.ReadFull(r.r, b); err != nil {
				return nil, early(err)
			}
			if binary.BigEndian.Uint32(b) != r.contextID || len(out) > 0 {
				return nil, strange("it tells of another context")
			}
			for b = b[4:]; len(b) > 0; b = b[8:] {
				length, flags := binary.BigEndian.Uint32(b), binary.BigEndian.Uint32(b[4:])
				if length == 0 {
					return nil, strange("a stretch of nothing")
				}
				out = append(out, Extent{int64(length), flags&stateHole != 0, flags&stateZero != 0})
			}
		case c.simple || c.kind != chunkNone || c.n != 0:
			return nil, strange("a part of a reply of kind %d with %d bytes", c.kind, c.n)
		}
		if c.done && len(out) == 0 {
			return nil, strange("it tells nothing of a stretch")
		}
		if c.done {
			return out, nil
		}
	}
	return nil, strange("it replies to one request more than %d times", maxOptions)
}

// maxStatus bounds what a server tells of a stretch at once.
const maxStatus = 16 << 20
