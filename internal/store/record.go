package store

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"runtime"

	"candidharbor/core/object"

	"github.com/klauspost/compress/s2"
	"github.com/klauspost/compress/zstd"
)

// A record is one stored object in a pack or a log:
//
//	0  magic   "Cr"
//	2  kind    u8
//	3  codec   u8   0 as is, 1 S2 block, 2 zstd frame
//	4  stored  u32  bytes after the head
//	8  plain   u32  bytes of the envelope
//	12 id      32 bytes
//	44 check   u32  CRC-32C of bytes 0..43 and the stored bytes
//	48 stored bytes
const recordHead = 48

type codec uint8

const (
	codecRaw codec = iota
	codecS2
	codecZstd
	codecBundle // in the index alone: it is a member of a bundle
)

// ErrDamaged is wrapped by errors about stored bytes that are not what was written.
var ErrDamaged = errors.New("damaged")

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// Below this size the thorough level spends its time on clearing its tables for each object, a millisecond or so, and
// gains 2 to 3 %.
const thoroughFrom = 16 << 10

// encoder is of a level, with a window for what it is given: each core keeps tables and a history as large as that.
func encoder(level zstd.EncoderLevel, window int) *zstd.Encoder {
	w, _ := zstd.NewWriter(nil, zstd.WithEncoderLevel(level), zstd.WithEncoderConcurrency(runtime.NumCPU()),
		zstd.WithEncoderCRC(false), zstd.WithSingleSegment(true), zstd.WithWindowSize(window))
	return w
}

var (
	zstdGood   = encoder(zstd.SpeedDefault, 64<<10)
	zstdFast   = encoder(zstd.SpeedFastest, 64<<10)
	zstdDec, _ = zstd.NewReader(nil, zstd.WithDecoderConcurrency(0), zstd.WithDecoderMaxMemory(64<<20))
)

// recordHeader is a decoded record head.
type recordHeader struct {
	kind          object.Kind
	codec         codec
	stored, plain uint32
	id            object.ID
	check         uint32
}

func (h *recordHeader) size() int64 { return recordHead + int64(h.stored) }

// appendRecord appends the record of an envelope, compressed with the fast codec
// where that saves a twentieth.
func appendRecord(dst []byte, kind object.Kind, id object.ID, envelope []byte) []byte {
	start := len(dst)
	need := recordHead + s2.MaxEncodedLen(len(envelope))
	if cap(dst)-len(dst) < need {
		dst = append(make([]byte, 0, len(dst)+need), dst...)
	}
	dst = dst[:start+recordHead]
	body := s2.Encode(dst[len(dst):cap(dst)], envelope)
	c := codecS2
	if len(body) > len(envelope)-len(envelope)/20 {
		body, c = envelope, codecRaw
	}
	return finishRecord(dst, start, kind, id, c, len(envelope), body)
}

func finishRecord(dst []byte, start int, kind object.Kind, id object.ID, c codec, plain int, body []byte) []byte {
	h := dst[start : start+recordHead]
	h[0], h[1], h[2], h[3] = 'C', 'r', byte(kind), byte(c)
	binary.LittleEndian.PutUint32(h[4:], uint32(len(body)))
	binary.LittleEndian.PutUint32(h[8:], uint32(plain))
	copy(h[12:44], id[:])
	dst = append(dst[:start+recordHead], body...)
	sum := crc32.Update(crc32.Checksum(h[:44], castagnoli), castagnoli, body)
	binary.LittleEndian.PutUint32(dst[start+44:], sum)
	return dst
}

// thorough is an encoder that keeps tables of 35 MB for each core, as long as somebody has it.
func thorough() *zstd.Encoder { return encoder(zstd.SpeedBestCompression, 1<<20) }

// recompress returns the record by a thorough encoder where that makes it smaller.
func recompress(by *zstd.Encoder, raw []byte) ([]byte, error) {
	h, err := parseHeader(raw)
	if err != nil || h.codec == codecZstd {
		return raw, err
	}
	env, err := openRecord(nil, raw, h.id)
	if err != nil {
		return nil, err
	}
	if len(env) < thoroughFrom {
		by = zstdGood
	}
	return compressedBy(by, raw, &h, env), nil
}

// compressedBy returns the record compressed by an encoder where that makes it smaller.
func compressedBy(by *zstd.Encoder, raw []byte, h *recordHeader, env []byte) []byte {
	body := by.EncodeAll(env, make([]byte, 0, len(env)/2))
	if len(body) >= int(h.stored) {
		return raw
	}
	return finishRecord(make([]byte, recordHead, recordHead+len(body)), 0, h.kind, h.id, codecZstd, len(env), body)
}

func parseHeader(b []byte) (h recordHeader, err error) {
	if len(b) < recordHead || b[0] != 'C' || b[1] != 'r' {
		return h, fmt.Errorf("%w: no record here", ErrDamaged)
	}
	h.kind, h.codec = object.Kind(b[2]), codec(b[3])
	h.stored = binary.LittleEndian.Uint32(b[4:])
	h.plain = binary.LittleEndian.Uint32(b[8:])
	copy(h.id[:], b[12:44])
	h.check = binary.LittleEndian.Uint32(b[44:])
	if int64(h.plain) > int64(object.MaxSize(h.kind)) || h.stored > h.plain || h.codec > codecZstd {
		return h, fmt.Errorf("%w: record head out of bounds", ErrDamaged)
	}
	return h, nil
}

// checkRecord compares the checksum of a whole record.
func checkRecord(raw []byte) (recordHeader, error) {
	h, err := parseHeader(raw)
	if err != nil {
		return h, err
	}
	if int64(len(raw)) != h.size() {
		return h, fmt.Errorf("%w: record cut short", ErrDamaged)
	}
	if crc32.Update(crc32.Checksum(raw[:44], castagnoli), castagnoli, raw[recordHead:]) != h.check {
		return h, fmt.Errorf("%w: checksum differs", ErrDamaged)
	}
	return h, nil
}

// openRecord returns the envelope of a record after recomputing its identity, which must
// be the one that is wanted. The result may use dst or alias raw.
func openRecord(dst, raw []byte, want object.ID) ([]byte, error) {
	h, err := parseHeader(raw)
	if err != nil {
		return nil, err
	}
	if h.id != want {
		return nil, fmt.Errorf("%w: the object %s lies where %s should", ErrDamaged, h.id, want)
	}
	if int64(len(raw)) != h.size() {
		return nil, fmt.Errorf("%w: record cut short", ErrDamaged)
	}
	env := raw[recordHead:]
	switch h.codec {
	case codecS2:
		if n, derr := s2.DecodedLen(env); derr != nil || n != int(h.plain) {
			return nil, fmt.Errorf("%w: stored form does not hold %d bytes", ErrDamaged, h.plain)
		}
		env, err = s2.Decode(dst[:cap(dst)], env)
	case codecZstd:
		env, err = unzstd(dst, env, h.plain)
	}
	if err != nil || len(env) != int(h.plain) {
		return nil, fmt.Errorf("%w: stored form cannot be unpacked (%v)", ErrDamaged, err)
	}
	if object.Sum(env) != h.id {
		return nil, fmt.Errorf("%w: content does not match its identity %s", ErrDamaged, h.id)
	}
	return env, nil
}

// OpenRecord returns the object of a record as another store sent it, after recomputing its
// identity.
func OpenRecord(raw []byte) (object.ID, object.Envelope, error) {
	h, err := checkRecord(raw)
	if err != nil {
		return h.id, object.Envelope{}, err
	}
	b, err := openRecord(nil, raw, h.id)
	if err != nil {
		return h.id, object.Envelope{}, err
	}
	env, err := object.Decode(b)
	if err == nil && env.Kind != h.kind {
		err = fmt.Errorf("%w: a %s in a record for a %s", ErrDamaged, env.Kind, h.kind)
	}
	return h.id, env, err
}
