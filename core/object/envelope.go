package object

import (
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"

	"github.com/zeebo/blake3"
)

// ID is the identity of an object: BLAKE3-256 of its envelope.
type ID [32]byte

// IsZero reports whether id is the zero value, which identifies nothing.
func (id ID) IsZero() bool { return id == ID{} }

// String returns the identity as 64 hexadecimal digits.
func (id ID) String() string { return hex.EncodeToString(id[:]) }

// MarshalText writes the identity as hexadecimal digits.
func (id ID) MarshalText() ([]byte, error) { return []byte(id.String()), nil }

// UnmarshalText reads 64 hexadecimal digits.
func (id *ID) UnmarshalText(text []byte) error {
	parsed, err := ParseID(string(text))
	if err == nil {
		*id = parsed
	}
	return err
}

// ParseID reads 64 hexadecimal digits.
func ParseID(s string) (ID, error) {
	var id ID
	if len(s) != 64 {
		return id, fmt.Errorf("%q is not an identity: it needs 64 hexadecimal digits", s)
	}
	if _, err := hex.Decode(id[:], []byte(s)); err != nil {
		return ID{}, fmt.Errorf("%q is not an identity: %w", s, err)
	}
	return id, nil
}

// Sum returns the identity of an encoded envelope.
func Sum(envelope []byte) ID { return blake3.Sum256(envelope) }

// Kind says what an object is.
type Kind uint8

// The kinds. Their numbers stand in every stored envelope and never change.
const (
	KindChunk Kind = 1 // bytes of a file
	KindList  Kind = 2 // the chunks of one large file
	KindDir   Kind = 3 // a directory or one page of it
	KindLinks Kind = 4 // hard-link sets of a tree
	KindMap   Kind = 5 // extents of a block volume (reserved)
	KindRoot  Kind = 6 // a snapshot
)

var kindNames = map[Kind]string{KindChunk: "chunk", KindList: "list", KindDir: "dir",
	KindLinks: "links", KindMap: "map", KindRoot: "root"}

func (k Kind) String() string {
	if n, ok := kindNames[k]; ok {
		return n
	}
	return fmt.Sprintf("kind %d", uint8(k))
}

// Version is the envelope version written by this package.
const Version = 1

// Limits on what a decoder accepts, in bytes of the whole envelope.
const (
	MaxChunkPayload = 1 << 20
	Headroom        = 16 // room a caller leaves before a payload for its head
	maxChunk        = MaxChunkPayload + Headroom
	maxNode         = 8 << 20
	// MaxDepth bounds the nesting of index nodes above a page.
	MaxDepth = 8
)

// MaxSize returns the largest envelope of a kind, in bytes.
func MaxSize(k Kind) int {
	if k == KindChunk {
		return maxChunk
	}
	return maxNode
}

// ErrMalformed is wrapped by every decoding error of this package.
var ErrMalformed = errors.New("malformed object")

func malformed(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrMalformed, fmt.Sprintf(format, args...))
}

// Envelope is a decoded object. Children and Payload alias the decoded bytes.
type Envelope struct {
	Kind     Kind
	Version  uint8
	children []byte
	Payload  []byte
}

// NumChildren returns how many child identities the envelope holds.
func (e Envelope) NumChildren() int { return len(e.children) / 32 }

// Child returns the i-th child identity.
func (e Envelope) Child(i int) ID { return ID(e.children[i*32 : i*32+32]) }

// Children returns all child identities in order.
func (e Envelope) Children() []ID {
	ids := make([]ID, e.NumChildren())
	for i := range ids {
		ids[i] = e.Child(i)
	}
	return ids
}

func appendHead(b []byte, major byte, n uint64) []byte {
	switch {
	case n < 24:
		return append(b, major|byte(n))
	case n < 1<<8:
		return append(b, major|24, byte(n))
	case n < 1<<16:
		return binary.BigEndian.AppendUint16(append(b, major|25), uint16(n))
	case n < 1<<32:
		return binary.BigEndian.AppendUint32(append(b, major|26), uint32(n))
	}
	return binary.BigEndian.AppendUint64(append(b, major|27), n)
}

const majorBytes = 0x40

// Encode appends the envelope of the given parts to b.
func Encode(b []byte, kind Kind, children []ID, payload []byte) []byte {
	b = append(b, 0x84, byte(kind), Version)
	b = appendHead(b, majorBytes, uint64(len(children)*32))
	for i := range children {
		b = append(b, children[i][:]...)
	}
	b = appendHead(b, majorBytes, uint64(len(payload)))
	return append(b, payload...)
}

// EncodeChunkInPlace puts the head of a chunk envelope right before
// buf[Headroom:], which holds the payload, and returns the whole envelope
// without copying the payload.
func EncodeChunkInPlace(buf []byte) []byte {
	var head [Headroom]byte
	h := append(head[:0], 0x84, byte(KindChunk), Version, majorBytes)
	h = appendHead(h, majorBytes, uint64(len(buf)-Headroom))
	start := Headroom - len(h)
	copy(buf[start:], h)
	return buf[start:]
}

// Decode reads an envelope and refuses anything not in the canonical form.
func Decode(b []byte) (Envelope, error) {
	if len(b) < 5 || b[0] != 0x84 {
		return Envelope{}, malformed("not an envelope")
	}
	e := Envelope{Kind: Kind(b[1]), Version: b[2]}
	if kindNames[e.Kind] == "" {
		return Envelope{}, malformed("unknown kind %d", b[1])
	}
	if e.Version != Version {
		return Envelope{}, malformed("%s of version %d, this program reads %d", e.Kind, e.Version, Version)
	}
	if len(b) > MaxSize(e.Kind) {
		return Envelope{}, malformed("%s of %d bytes, at most %d are allowed", e.Kind, len(b), MaxSize(e.Kind))
	}
	rest := b[3:]
	var err error
	if e.children, rest, err = cutBytes(rest); err != nil {
		return Envelope{}, err
	}
	if e.Payload, rest, err = cutBytes(rest); err != nil {
		return Envelope{}, err
	}
	if len(rest) != 0 {
		return Envelope{}, malformed("%d bytes after the envelope", len(rest))
	}
	if len(e.children)%32 != 0 || (e.Kind == KindChunk && len(e.children) != 0) {
		return Envelope{}, malformed("child identities of %d bytes", len(e.children))
	}
	return e, nil
}

func cutBytes(b []byte) (val, rest []byte, err error) {
	if len(b) == 0 || b[0]&0xe0 != majorBytes {
		return nil, nil, malformed("expected a byte string")
	}
	info, b := int(b[0]&0x1f), b[1:]
	n := info
	switch {
	case info < 24:
	case info == 24 && len(b) >= 1:
		n, b = int(b[0]), b[1:]
		if n < 24 {
			return nil, nil, malformed("length not in shortest form")
		}
	case info == 25 && len(b) >= 2:
		n, b = int(binary.BigEndian.Uint16(b)), b[2:]
		if n < 1<<8 {
			return nil, nil, malformed("length not in shortest form")
		}
	case info == 26 && len(b) >= 4:
		n, b = int(binary.BigEndian.Uint32(b)), b[4:]
		if n < 1<<16 {
			return nil, nil, malformed("length not in shortest form")
		}
	default:
		return nil, nil, malformed("bad length")
	}
	if n > len(b) {
		return nil, nil, malformed("cut short: %d bytes of %d", len(b), n)
	}
	return b[:n:n], b[n:], nil
}

// NewSum sums what is written to it as [Sum] does.
func NewSum() hash.Hash { return blake3.New() }
