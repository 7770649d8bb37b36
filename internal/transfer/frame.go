package transfer

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/fxamacker/cbor/v2"
)

// Version of the protocol between sites.
const Version = 1

type frameType uint8

const (
	frameRequest frameType = iota + 1
	frameReply
	frameOffer
	frameWant
	frameRecords
	frameCommit
	frameError
	frameTaken // how many bytes of records are durable at the receiver
)

const (
	maxFrame     = 16 << 20
	idleTimeout  = 90 * time.Second
	largeFrame   = 4 << 20 // few are read at once of what one line brings
	mostLarge    = 4
	mostRequest  = 4 << 20
	offerSize    = 2048    // identities in an offer
	recordsBatch = 1 << 20 // bytes in a records frame before it is sent
)

type request struct {
	Version int             `cbor:"1,keyasint"`
	Op      string          `cbor:"2,keyasint"`
	Body    cbor.RawMessage `cbor:"3,keyasint"`
}

// Refusal is an error that the other side told.
type Refusal struct {
	What string `cbor:"1,keyasint"`
	// Final says that trying again without a person's act is no use.
	Final bool `cbor:"2,keyasint,omitempty"`
	// Gone says that the snapshot was removed at its source before it could be carried.
	Gone bool `cbor:"3,keyasint,omitempty"`
	// Code says to programs what What says to people; sites of the first releases send none.
	Code Code `cbor:"4,keyasint,omitempty"`
}

// Code is what a refusal is about, where the other end does something about it.
type Code string

// CodeFull says that nothing more is taken in, until there is room again.
const CodeFull Code = "full"

// fullWords began refusals for lack of room before there were codes.
const fullWords = "nothing more is taken in: "

// Full makes the refusal of a place that has no room. Sites of before know it by its words.
func Full(why string) *Refusal { return &Refusal{What: fullWords + why, Code: CodeFull} }

// IsFull reports whether an error says that the other end has no room.
func IsFull(err error) bool {
	var r *Refusal
	return errors.As(err, &r) && (r.Code == CodeFull || r.Code == "" && strings.HasPrefix(r.What, fullWords))
}

// Gone reports whether an error says that the snapshot was removed at its source: nothing
// failed, there is only nothing to carry any more.
func Gone(err error) bool {
	var r *Refusal
	return errors.As(err, &r) && r.Gone
}

func (r *Refusal) Error() string { return r.What }

// Stream is one exchange with a peer.
type Stream struct {
	c   net.Conn
	r   *bufio.Reader
	w   *bufio.Writer
	In  atomic.Int64 // bytes of frames received
	Out atomic.Int64 // bytes of frames sent

	interrupted atomic.Bool
	most        int           // bytes of a frame that is read
	large       chan struct{} // shared by the streams that a peer opens on one line; nil: not bounded
	has         bool          // one of large
}

func newStream(c net.Conn) *Stream { return sizedStream(c, maxFrame, 256<<10) }

func sizedStream(c net.Conn, most, buffered int) *Stream {
	return &Stream{c: c, most: most, r: bufio.NewReaderSize(c, buffered), w: bufio.NewWriterSize(c, buffered)}
}

// Close ends the stream.
func (s *Stream) Close() error { return s.c.Close() }

// small lets others read a large frame.
func (s *Stream) small() {
	if s.has {
		s.has = false
		<-s.large
	}
}

var (
	encMode, _ = cbor.CoreDetEncOptions().EncMode()
	decMode, _ = cbor.DecOptions{MaxArrayElements: 1 << 17, MaxMapPairs: 1 << 12, MaxNestedLevels: 8,
		IndefLength: cbor.IndefLengthForbidden}.DecMode()
)

func encode(v any) ([]byte, error) { return encMode.Marshal(v) }

func (s *Stream) raw(t frameType, parts ...[]byte) error {
	n := 0
	for _, p := range parts {
		n += len(p)
	}
	if n > maxFrame {
		return fmt.Errorf("frame of %d bytes", n)
	}
	var head [5]byte
	head[0] = byte(t)
	binary.BigEndian.PutUint32(head[1:], uint32(n))
	s.c.SetWriteDeadline(time.Now().Add(idleTimeout))
	s.Out.Add(int64(n) + 5)
	if _, err := s.w.Write(head[:]); err != nil {
		return err
	}
	for _, p := range parts {
		if _, err := s.w.Write(p); err != nil {
			return err
		}
	}
	return nil
}

func (s *Stream) send(t frameType, v any) error {
	b, err := encode(v)
	if err != nil {
		return err
	}
	return s.raw(t, b)
}

func (s *Stream) flush() error { return s.w.Flush() }

// interrupt makes a read that waits, and every later one, return at once.
func (s *Stream) interrupt() {
	s.interrupted.Store(true)
	s.c.SetReadDeadline(time.Now())
}

// read returns the next frame. An error frame becomes a *Refusal.
func (s *Stream) read() (frameType, []byte, error) {
	s.c.SetReadDeadline(time.Now().Add(idleTimeout))
	if s.interrupted.Load() { // after the deadline was set, so that none is missed
		return 0, nil, os.ErrDeadlineExceeded
	}
	var head [5]byte
	if _, err := io.ReadFull(s.r, head[:]); err != nil {
		return 0, nil, err
	}
	n := binary.BigEndian.Uint32(head[1:])
	if int64(n) > int64(s.most) {
		return 0, nil, fmt.Errorf("the peer announced a frame of %d bytes, at most %d are accepted", n, s.most)
	}
	s.small()
	if n > largeFrame && s.large != nil {
		wait := time.NewTimer(idleTimeout)
		defer wait.Stop()
		select {
		case s.large <- struct{}{}:
			s.has = true
		case <-wait.C:
			return 0, nil, fmt.Errorf("the peer begins more than %d large frames and ends none", cap(s.large))
		}
	}
	b := buffer(int(n))
	if _, err := io.ReadFull(s.r, b); err != nil {
		return 0, nil, err
	}
	s.In.Add(int64(n) + 5)
	if frameType(head[0]) == frameError {
		r := &Refusal{}
		if err := decMode.Unmarshal(b, r); err != nil {
			return 0, nil, err
		}
		return 0, nil, r
	}
	return frameType(head[0]), b, nil
}

// Large frames come one after the other; their memory is used again.
var frames = sync.Pool{New: func() any { return new([]byte) }}

func buffer(n int) []byte {
	if n < recordsBatch/4 {
		return make([]byte, n)
	}
	b := *frames.Get().(*[]byte)
	if cap(b) < n {
		b = make([]byte, max(n, recordsBatch+recordsBatch/4))
	}
	return b[:n]
}

// recycle gives a frame's memory back; nothing may point into it any more.
func recycle(b []byte) {
	if cap(b) >= recordsBatch/4 {
		frames.Put(&b)
	}
}

func (s *Stream) expect(t frameType, into any) error {
	got, b, err := s.read()
	if err != nil {
		return err
	}
	if got != t {
		return fmt.Errorf("the peer sent frame type %d where %d was due", got, t)
	}
	return decMode.Unmarshal(b, into)
}

// Request reads what the stream is for. Another protocol version is refused.
func (s *Stream) Request() (op string, body []byte, err error) {
	most := s.most
	s.most = min(most, mostRequest)
	defer func() { s.most = most }()
	var q request
	if err := s.expect(frameRequest, &q); err != nil {
		return "", nil, err
	}
	if q.Version != Version {
		err := &Refusal{What: fmt.Sprintf("this site speaks protocol version %d, the peer %d: bring both to the "+
			"same release", Version, q.Version), Final: true}
		s.Refuse(err)
		return "", nil, err
	}
	return q.Op, q.Body, nil
}

// Reply answers a request.
func (s *Stream) Reply(v any) error {
	if err := s.send(frameReply, v); err != nil {
		return err
	}
	return s.flush()
}

// Answer reads the reply to a request.
func (s *Stream) Answer(into any) error { return s.expect(frameReply, into) }

// Refuse tells the peer an error and ends the exchange.
func (s *Stream) Refuse(err error) {
	r := &Refusal{}
	if !errors.As(err, &r) {
		r = &Refusal{What: err.Error()}
	}
	if s.send(frameError, r) == nil {
		s.flush()
	}
}

// Ask opens a stream, sends a request and reads the reply.
func (l *Link) Ask(op string, body, into any) error {
	s, err := l.Open(op, body)
	if err != nil {
		return err
	}
	defer s.Close()
	return s.Answer(into)
}

// Encode writes a value as [Decode] reads it, always by the same bytes.
func Encode(to io.Writer, v any) error {
	b, err := encode(v)
	if err == nil {
		_, err = to.Write(b)
	}
	return err
}

// Decode reads a request's body.
func Decode(body []byte, into any) error { return decMode.Unmarshal(body, into) }

// Conn gives the stream over to another protocol. What was read ahead comes first.
func (s *Stream) Conn() net.Conn {
	s.c.SetDeadline(time.Time{})
	return &handedOver{Conn: s.c, r: s.r}
}

type handedOver struct {
	net.Conn
	r *bufio.Reader
}

func (h *handedOver) Read(b []byte) (int, error) { return h.r.Read(b) }
