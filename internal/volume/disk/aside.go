package disk

import (
	"errors"
)

// asides keep what blocks of an instant were before later writes, in parts of a block, each at most once. Its caller
// orders the calls.
type asides struct {
	files Files
	block int64
	part  int64 // bytes of one
	most  int64 // parts that may be kept

	inMemory int64 // bytes of them

	kept   map[int64]aside
	memory [][]byte // slabs of parts
	free   []int32  // slots in memory that were given back
	made   int32    // slots in memory that there are
	side   File
	sideAt int64 // parts in the side file
	freed  []int32
	count  int64 // parts that are kept
	buf    []byte
}

// aside is what is kept of a block.
type aside struct {
	from source  // fromImage: what is not kept still stands in the image, whatever the maps say now
	at   []int32 // where each part is: 0 nowhere, positive in memory and negative in the side file, one further
}

const (
	asidePart  = 4096 // bytes, at least
	asideParts = 64   // of a block, at most
	slabParts  = 64
)

func newAsides(opt Options, block int64) *asides {
	part := max(asidePart, block/asideParts)
	return &asides{files: opt.Files, block: block, part: part, most: opt.AsideRoom / part, inMemory: opt.AsideMemory,
		kept: map[int64]aside{}}
}

var errNoAside = errors.New("the room for what was written meanwhile has ended")

// keep keeps the parts of a block that a write touches, unless they are kept already. n is how long the block is.
func (a *asides) keep(b, from, to int64, now source, n int64, read func(p []byte, off int64) error) error {
	k, is := a.kept[b]
	if !is {
		k.from = now
	}
	if k.from != fromImage || from >= to {
		if !is {
			a.kept[b] = k
		}
		return nil
	}
	first, end := (from-b*a.block)/a.part, (min(to-b*a.block, n)+a.part-1)/a.part
	for first < end && k.has(first) {
		first++
	}
	for first < end && k.has(end-1) {
		end--
	}
	if first == end {
		return nil
	}
	if a.buf == nil {
		a.buf = make([]byte, a.block)
	}
	raw := a.buf[:min(end*a.part, n)-first*a.part]
	if err := read(raw, b*a.block+first*a.part); err != nil {
		return err
	}
	if k.at == nil {
		k.at = make([]int32, (a.block+a.part-1)/a.part)
	}
	a.kept[b] = k
	for ; first < end; first++ {
		p := raw[:min(a.part, int64(len(raw)))]
		raw = raw[len(p):]
		if k.has(first) {
			continue
		}
		at, err := a.put(p)
		if err != nil {
			return err
		}
		k.at[first] = at
	}
	return nil
}

func (k aside) has(part int64) bool { return k.at != nil && k.at[part] != 0 }

// put keeps one part and tells where it is.
func (a *asides) put(p []byte) (at int32, err error) {
	if a.count >= a.most {
		return 0, errNoAside
	}
	a.count++
	if k := len(a.free); k > 0 || int64(a.made)*a.part < a.inMemory {
		if k > 0 {
			at, a.free = a.free[k-1], a.free[:k-1]
		} else {
			if int(a.made) == len(a.memory)*slabParts {
				a.memory = append(a.memory, make([]byte, slabParts*a.part))
			}
			a.made++
			at = a.made
		}
		copy(a.slot(at), p)
		return at, nil
	}
	if k := len(a.freed); k > 0 {
		at, a.freed = a.freed[k-1], a.freed[:k-1]
	} else {
		if a.side == nil {
			if a.side, err = a.files.Temp(); err != nil {
				return 0, err
			}
		}
		a.sideAt++
		at = -int32(a.sideAt)
	}
	_, err = a.side.WriteAt(p, int64(-at-1)*a.part)
	return at, err
}

func (a *asides) slot(at int32) []byte {
	i := int64(at-1) % slabParts * a.part
	return a.memory[(at-1)/slabParts][i : i+a.part]
}

// take lays what is kept of a block over what the image has of it, and lets it go.
func (a *asides) take(b int64, raw []byte) error {
	k := a.kept[b]
	delete(a.kept, b)
	for i, at := range k.at {
		if at == 0 {
			continue
		}
		p := raw[int64(i)*a.part:]
		p = p[:min(a.part, int64(len(p)))]
		a.count--
		if at > 0 {
			copy(p, a.slot(at))
			a.free = append(a.free, at)
			continue
		}
		if _, err := a.side.ReadAt(p, int64(-at-1)*a.part); err != nil {
			return err
		}
		a.freed = append(a.freed, at)
	}
	return nil
}

// pressed reports whether more than half of the room is taken.
func (a *asides) pressed() bool { return a.count > a.most/2 }

func (a *asides) forget() {
	a.kept, a.memory, a.free, a.buf = map[int64]aside{}, nil, nil, nil
}

func (a *asides) close() error {
	if a.side == nil {
		return nil
	}
	return a.side.Close()
}
