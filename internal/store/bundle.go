package store

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"slices"
	"sync"

	"candidharbor/core/object"

	"github.com/klauspost/compress/zstd"
)

// A bundle is many small chunks in a data pack, compressed together when they were settled: each for itself has a head
// that is a tenth of what it takes, and nothing before it to refer to.
//
//	0  magic   "Cb"
//	2  version u8   1
//	3  zero    u8
//	4  stored  u32  bytes after the head; with the head a multiple of 8
//	8  frame   u32  bytes of the zstd frame
//	12 plain   u32  bytes of all envelopes
//	16 count   u32  of members
//	20 check   u32  CRC-32C of bytes 0..19 and the bytes after the head
//	24 members: id 32, bytes of the envelope u16; then the frame: their envelopes one behind the other; zeros
//
// The index has bundle and share of each member: its row in the table, and of the rest as much as it has of the plain
// bytes, so that shares add up to the bundle.
const (
	bundleHead   = 24
	memberSize   = 34
	bundleStep   = 8
	bundleAt     = 32 << 10     // plain bytes from which on a bundle is closed
	bundleMost   = 1024         // members
	bundledBelow = thoroughFrom // plain bytes of a chunk that becomes a member
	bundlesKept  = 256          // unpacked, about 12 MiB: files of several directories lie in one
)

type bundleHeader struct{ stored, frame, plain, count uint32 }

func (h *bundleHeader) size() int64 { return bundleHead + int64(h.stored) }

// share is what a member takes of the bundle, whose envelope ends at to in the plain bytes.
func (h *bundleHeader) share(from, to uint32) uint32 {
	rest := uint64(h.size()) - uint64(h.count)*memberSize
	return memberSize + uint32(rest*uint64(to)/uint64(h.plain)-rest*uint64(from)/uint64(h.plain))
}

func parseBundle(b []byte) (h bundleHeader, err error) {
	if len(b) < bundleHead || b[0] != 'C' || b[1] != 'b' || b[2] != 1 {
		return h, fmt.Errorf("%w: no bundle here", ErrDamaged)
	}
	h.stored, h.frame = binary.LittleEndian.Uint32(b[4:]), binary.LittleEndian.Uint32(b[8:])
	h.plain, h.count = binary.LittleEndian.Uint32(b[12:]), binary.LittleEndian.Uint32(b[16:])
	needs := uint64(h.count)*memberSize + uint64(h.frame)
	if h.count == 0 || h.count > bundleMost || h.plain < h.count || h.plain > bundleAt+bundledBelow ||
		h.size()%bundleStep != 0 || uint64(h.stored) < needs || uint64(h.stored) >= needs+bundleStep {
		return h, fmt.Errorf("%w: bundle head out of bounds", ErrDamaged)
	}
	return h, nil
}

// checkBundle compares the checksum of a whole bundle.
func checkBundle(raw []byte) (bundleHeader, error) {
	h, err := parseBundle(raw)
	if err != nil {
		return h, err
	}
	if int64(len(raw)) != h.size() {
		return h, fmt.Errorf("%w: bundle cut short", ErrDamaged)
	}
	if crc32.Update(crc32.Checksum(raw[:20], castagnoli), castagnoli, raw[bundleHead:]) !=
		binary.LittleEndian.Uint32(raw[20:]) {
		return h, fmt.Errorf("%w: checksum differs", ErrDamaged)
	}
	return h, nil
}

// member is a chunk in a bundle.
type member struct {
	id       object.ID
	from, to uint32 // of its envelope, in the plain bytes
}

// membersOf reads the table of a bundle that parseBundle found within bounds.
func membersOf(h *bundleHeader, raw []byte) ([]member, error) {
	members := make([]member, h.count)
	at := uint32(0)
	for i := range members {
		row := raw[bundleHead+i*memberSize:]
		members[i] = member{object.ID(row[:32]), at, at + uint32(binary.LittleEndian.Uint16(row[32:]))}
		at = members[i].to
	}
	if at != h.plain {
		return nil, fmt.Errorf("%w: the members of a bundle have %d bytes, not %d", ErrDamaged, at, h.plain)
	}
	return members, nil
}

// location is where the index finds a member.
func (m *member) location(h *bundleHeader, offset int64) location {
	return location{offset: uint32(offset), stored: h.share(m.from, m.to), plain: m.to - m.from, kind: object.KindChunk,
		codec: codecBundle, span: uint16(h.size() / bundleStep)}
}

// bundle is one unpacked.
type bundle struct {
	members []member
	plain   []byte
}

func openBundle(raw []byte) (*bundle, error) {
	h, err := checkBundle(raw)
	if err != nil {
		return nil, err
	}
	b := &bundle{}
	if b.members, err = membersOf(&h, raw); err != nil {
		return nil, err
	}
	frame := raw[bundleHead+int(h.count)*memberSize:][:h.frame]
	if b.plain, err = unzstd(make([]byte, 0, h.plain), frame, h.plain); err != nil {
		return nil, err
	}
	return b, nil
}

// record returns the record of a member, as if it lay in a pack by itself.
func (b *bundle) record(id object.ID, buf []byte) ([]byte, error) {
	i := slices.IndexFunc(b.members, func(m member) bool { return m.id == id })
	if i < 0 {
		return nil, fmt.Errorf("%w: %s is not in the bundle", ErrDamaged, id)
	}
	env := b.plain[b.members[i].from:b.members[i].to]
	buf = slices.Grow(buf[:0], recordHead+len(env))[:recordHead]
	return finishRecord(buf, 0, object.KindChunk, id, codecRaw, len(env), env), nil
}

// verifyBundle recomputes the identities of all members.
func verifyBundle(raw []byte) (*bundle, error) {
	b, err := openBundle(raw)
	if err != nil {
		return nil, err
	}
	for _, m := range b.members {
		env := b.plain[m.from:m.to]
		if object.Sum(env) != m.id {
			return nil, fmt.Errorf("%w: content does not match its identity %s", ErrDamaged, m.id)
		}
		if e, err := object.Decode(env); err != nil || e.Kind != object.KindChunk {
			return nil, fmt.Errorf("%w: %s is no chunk", ErrDamaged, m.id)
		}
	}
	return b, nil
}

// makeBundle packs envelopes together, and unpacks them again to be sure. The table of ids is theirs.
func makeBundle(ids []object.ID, envelopes [][]byte) ([]byte, error) {
	plain := bytes.Join(envelopes, nil)
	out := make([]byte, bundleHead, bundleHead+len(ids)*memberSize+len(plain)/2)
	for i, id := range ids {
		out = binary.LittleEndian.AppendUint16(append(out, id[:]...), uint16(len(envelopes[i])))
	}
	table := len(out)
	out = zstdGood.EncodeAll(plain, out)
	frame := len(out) - table
	out = append(out, make([]byte, (bundleStep-len(out)%bundleStep)%bundleStep)...)
	copy(out, []byte{'C', 'b', 1, 0})
	for i, n := range []int{len(out) - bundleHead, frame, len(plain), len(ids)} {
		binary.LittleEndian.PutUint32(out[4+4*i:], uint32(n))
	}
	sum := crc32.Update(crc32.Checksum(out[:20], castagnoli), castagnoli, out[bundleHead:])
	binary.LittleEndian.PutUint32(out[20:], sum)
	b, err := openBundle(out)
	if err == nil && !bytes.Equal(b.plain, plain) {
		err = fmt.Errorf("%w: a bundle does not unpack to what was packed", ErrDamaged)
	}
	return out, err
}

// unzstd unpacks a frame that must say that it holds so many bytes.
func unzstd(dst, frame []byte, plain uint32) ([]byte, error) {
	var h zstd.Header
	if err := h.Decode(frame); err != nil || !h.HasFCS || h.FrameContentSize != uint64(plain) {
		return nil, fmt.Errorf("%w: stored form does not hold %d bytes", ErrDamaged, plain)
	}
	out, err := zstdDec.DecodeAll(frame, dst[:0])
	if err != nil || len(out) != int(plain) {
		return nil, fmt.Errorf("%w: stored form cannot be unpacked (%v)", ErrDamaged, err)
	}
	return out, nil
}

// place is where a bundle lies. No pack gets the number of another.
type place struct{ pack, offset uint32 }

// openedBundle is a bundle that was read lately, or is being read.
type openedBundle struct {
	once   sync.Once
	bundle *bundle
	err    error
}

// readMember returns the record of an object that lies in a bundle.
func (s *Store) readMember(id object.ID, loc location, buf []byte) ([]byte, error) {
	at := place{loc.pack, loc.offset}
	o := &openedBundle{}
	if was, ok, _ := s.bundles.PeekOrAdd(at, o); ok {
		s.bundles.Get(at) // it was used
		o = was
	}
	o.once.Do(func() {
		var raw []byte
		if raw, o.err = s.readPack(loc, nil); o.err == nil {
			o.bundle, o.err = openBundle(raw)
		}
	})
	if o.err != nil {
		s.bundles.Remove(at)
		return nil, o.err
	}
	return o.bundle.record(id, buf)
}
