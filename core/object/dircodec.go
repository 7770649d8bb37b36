package object

import "math"

// A page of a directory is by far what is encoded and decoded most often. What follows writes and
// reads the very bytes of its CBOR without reflection. Whatever is not as appendPage writes it is left
// to the general decoder, which alone says what is malformed.

const (
	cborUint   = 0 << 5
	cborInt    = 1 << 5
	cborArray  = 4 << 5
	cborMap    = 5 << 5
	cborTrue   = 0xf5
	cborNull   = 0xf6
	leastEntry = 8 // bytes of the shortest entry: a name, and three numbers
)

func appendInt(dst []byte, n int64) []byte {
	if n < 0 {
		return appendHead(dst, cborInt, uint64(^n))
	}
	return appendHead(dst, cborUint, uint64(n))
}

func appendBytes(dst, b []byte) []byte {
	if b == nil {
		return append(dst, cborNull)
	}
	return append(appendHead(dst, majorBytes, uint64(len(b))), b...)
}

// appendPage encodes a page of entries, level 0.
func appendPage(dst []byte, entries []Entry) []byte {
	dst = append(dst, cborArray|4, 0)
	if entries == nil {
		dst = append(dst, cborNull)
	} else {
		dst = appendHead(dst, cborArray, uint64(len(entries)))
	}
	for i := range entries {
		dst = appendEntry(dst, &entries[i])
	}
	return appendHead(append(dst, cborNull), cborUint, uint64(len(entries)))
}

func appendEntry(dst []byte, e *Entry) []byte {
	at := len(dst)
	dst = append(dst, 0, 1)
	dst = appendBytes(dst, e.Name)
	dst = appendHead(append(dst, 2), cborUint, uint64(e.Kind))
	dst = appendHead(append(dst, 3), cborUint, uint64(e.Mode))
	pairs := byte(4)
	number := func(key byte, n uint32) {
		if n != 0 {
			dst = appendHead(append(dst, key), cborUint, uint64(n))
			pairs++
		}
	}
	number(4, e.UID)
	number(5, e.GID)
	dst = appendInt(append(dst, 6), e.MTime)
	if e.Size != 0 {
		dst = appendInt(append(dst, 7), e.Size)
		pairs++
	}
	if len(e.Xattrs) > 0 {
		dst = appendHead(append(dst, 8), cborArray, uint64(len(e.Xattrs)))
		for _, x := range e.Xattrs {
			dst = appendBytes(appendBytes(append(dst, cborArray|2), x.Name), x.Value)
		}
		pairs++
	}
	if len(e.Target) > 0 {
		dst = appendBytes(append(dst, 9), e.Target)
		pairs++
	}
	number(10, e.Major)
	number(11, e.Minor)
	if e.Sparse {
		dst = append(dst, 12, cborTrue)
		pairs++
	}
	if e.HasContent {
		dst = append(dst, 13, cborTrue)
		pairs++
	}
	dst[at] = cborMap | pairs
	return dst
}

// pageReader reads what appendPage wrote. Its strings are parts of one copy of it.
type pageReader struct {
	b   []byte
	bad bool
}

// readPage decodes a page of entries; not ok: the general decoder is to look at it.
func readPage(payload []byte, p *dirPage) (ok bool) {
	if len(payload) < 5 || payload[0] != cborArray|4 || payload[1] != 0 || payload[2]&0xe0 != cborArray {
		return false
	}
	r := pageReader{b: append([]byte(nil), payload[2:]...)}
	n := r.head(cborArray)
	if r.bad || n > uint64(len(r.b)/leastEntry) || n > pageMax {
		return false
	}
	p.Entries = make([]Entry, n)
	for i := range p.Entries {
		if r.entry(&p.Entries[i]); r.bad {
			return false
		}
	}
	if len(r.b) == 0 || r.b[0] != cborNull {
		return false
	}
	r.b = r.b[1:]
	p.Total = r.head(cborUint)
	return !r.bad && len(r.b) == 0
}

// head reads a head of the given major type.
func (r *pageReader) head(major byte) uint64 {
	if len(r.b) == 0 || r.b[0]&0xe0 != major {
		r.bad = true
		return 0
	}
	info := r.b[0] & 0x1f
	if info < 24 {
		r.b = r.b[1:]
		return uint64(info)
	}
	size := 1 << (info - 24)
	if info > 27 || len(r.b) < 1+size {
		r.bad = true
		return 0
	}
	var n uint64
	for _, c := range r.b[1 : 1+size] {
		n = n<<8 | uint64(c)
	}
	r.b = r.b[1+size:]
	return n
}

func (r *pageReader) number(most uint64) uint64 {
	n := r.head(cborUint)
	r.bad = r.bad || n > most
	return n
}

func (r *pageReader) signed() int64 {
	if len(r.b) > 0 && r.b[0]&0xe0 == cborInt {
		n := r.head(cborInt)
		r.bad = r.bad || n > math.MaxInt64
		return ^int64(n)
	}
	return int64(r.number(math.MaxInt64))
}

func (r *pageReader) bytes() []byte {
	n := r.head(majorBytes)
	if r.bad || n > uint64(len(r.b)) {
		r.bad = true
		return nil
	}
	out := r.b[:n:n]
	r.b = r.b[n:]
	return out
}

// holds reads what is written for true; false is left out.
func (r *pageReader) holds() bool {
	if len(r.b) == 0 || r.b[0] != cborTrue {
		r.bad = true
		return false
	}
	r.b = r.b[1:]
	return true
}

func (r *pageReader) entry(e *Entry) {
	last := byte(0)
	for pairs := r.head(cborMap); pairs > 0 && !r.bad; pairs-- {
		if len(r.b) == 0 || r.b[0] <= last { // keys ascend, so that none comes twice
			r.bad = true
			return
		}
		last = r.b[0]
		r.b = r.b[1:]
		switch last {
		case 1:
			e.Name = r.bytes()
		case 2:
			e.Kind = EntryKind(r.number(math.MaxUint8))
		case 3:
			e.Mode = uint32(r.number(math.MaxUint32))
		case 4:
			e.UID = uint32(r.number(math.MaxUint32))
		case 5:
			e.GID = uint32(r.number(math.MaxUint32))
		case 6:
			e.MTime = r.signed()
		case 7:
			e.Size = r.signed()
		case 8:
			e.Xattrs = r.xattrs()
		case 9:
			e.Target = r.bytes()
		case 10:
			e.Major = uint32(r.number(math.MaxUint32))
		case 11:
			e.Minor = uint32(r.number(math.MaxUint32))
		case 12:
			e.Sparse = r.holds()
		case 13:
			e.HasContent = r.holds()
		default:
			r.bad = true
		}
	}
}

func (r *pageReader) xattrs() []Xattr {
	n := r.head(cborArray)
	if r.bad || n > uint64(len(r.b)/3) {
		r.bad = true
		return nil
	}
	out := make([]Xattr, n)
	for i := range out {
		if r.head(cborArray) != 2 {
			r.bad = true
		}
		if out[i].Name, out[i].Value = r.bytes(), r.bytes(); r.bad {
			return nil
		}
	}
	return out
}
