package object

import "math/bits"

// A map says what the blocks of a disk hold. It is a tree of nodes with 64 slots each. A leaf (level 0)
// has a chunk in each slot whose block holds anything but zeros; a node above has the nodes below it.
// The top of a disk of n blocks stands at the lowest level at which 64^(level+1) is at least n, and is
// there also when all is zero; any other node has something below it. So the same bytes and size have
// the same map, whatever was written before.

// MapSlots is how many slots a node of a map has.
const MapSlots = 64

// MaxBlocks bounds the blocks of one disk.
const MaxBlocks = 1 << 42

// Slot is what a map says of one block.
type Slot struct {
	State SlotState
	Chunk ID // of State Held
}

// SlotState says whether there is anything in a block.
type SlotState uint8

// The states of a block.
const (
	Hole SlotState = iota // all zeros
	Held                  // as in its chunk, and zeros behind that
	Lost                  // it could not be read when the snapshot was stored
)

type mapPage struct {
	_       struct{} `cbor:",toarray"`
	Level   uint8
	Present uint64 // slots that have a child, in the order of the children
	Lost    uint64 // slots that are lost, with all below them
}

// MapNode is a decoded node of a map.
type MapNode struct {
	Level         uint8
	present, lost uint64
	env           Envelope
}

// MapLevel is the level of the top of a map of so many blocks.
func MapLevel(blocks int64) uint8 {
	level := uint8(0)
	for n := int64(MapSlots); n < blocks; n *= MapSlots {
		level++
	}
	return level
}

// span is how many blocks are below a slot of a node.
func span(level uint8) int64 { return 1 << (6 * uint(level)) }

// DecodeMap reads a node of a map. Only the top may have nothing below it.
func DecodeMap(e Envelope) (MapNode, error) {
	var p mapPage
	if err := decodePayload(e, KindMap, &p); err != nil {
		return MapNode{}, err
	}
	if p.Level > MaxDepth || p.Present&p.Lost != 0 || bits.OnesCount64(p.Present) != e.NumChildren() {
		return MapNode{}, malformed("map node of level %d with %d children for %d slots", p.Level, e.NumChildren(),
			bits.OnesCount64(p.Present))
	}
	return MapNode{p.Level, p.Present, p.Lost, e}, nil
}

// slot is what stands in the i-th slot.
func (n *MapNode) slot(i int) Slot {
	bit := uint64(1) << i
	switch {
	case n.present&bit != 0:
		return Slot{Held, n.env.Child(bits.OnesCount64(n.present & (bit - 1)))}
	case n.lost&bit != 0:
		return Slot{State: Lost}
	}
	return Slot{}
}

// encodeMapNode encodes a node. The payload of a map names its children by the bits of present.
func encodeMapNode(level uint8, slots *[MapSlots]Slot) (children []ID, payload []byte, err error) {
	p := mapPage{Level: level}
	for i := range slots {
		switch slots[i].State {
		case Held:
			p.Present |= 1 << i
			children = append(children, slots[i].Chunk)
		case Lost:
			p.Lost |= 1 << i
		}
	}
	payload, err = encMode.Marshal(p)
	return children, payload, err
}

// MapReader reads nodes of maps. It keeps those that it read last, for reading on.
type MapReader struct {
	get  Getter
	kept [MaxDepth + 1]struct {
		id   ID
		node MapNode
	}
}

// NewMapReader reads nodes by get.
func NewMapReader(get Getter) *MapReader { return &MapReader{get: get} }

func (r *MapReader) node(id ID, level uint8) (*MapNode, error) {
	k := &r.kept[level]
	if k.id == id {
		return &k.node, nil
	}
	e, err := r.get(id)
	if err != nil {
		return nil, err
	}
	n, err := DecodeMap(e)
	if err == nil && n.Level != level {
		err = malformed("map node of level %d where %d was expected", n.Level, level)
	}
	if err != nil {
		return nil, err
	}
	k.id, k.node = id, n
	return &k.node, nil
}

// At tells what a map whose top stands at a level says of a block.
func (r *MapReader) At(top ID, level uint8, block int64) (Slot, error) {
	id := top
	if block >= span(level)*MapSlots {
		return Slot{}, nil // behind the end of what the map is of
	}
	for l := level; ; l-- {
		n, err := r.node(id, l)
		if err != nil {
			return Slot{}, err
		}
		s := n.slot(int(block / span(l) % MapSlots))
		if l == 0 || s.State != Held {
			return s, nil
		}
		id = s.Chunk
	}
}

// WalkMap visits what a map holds, from a block on up to before another: the blocks that are held or
// lost, in order. Blocks that are lost together are visited at once, as count of them.
func WalkMap(get Getter, top ID, level uint8, from, to int64, visit func(block, count int64, s Slot) error) error {
	return walkMap(get, top, level, 0, from, to, visit)
}

func walkMap(get Getter, id ID, level uint8, base, from, to int64, visit func(block, count int64, s Slot) error) error {
	e, err := get(id)
	if err != nil {
		return err
	}
	n, err := DecodeMap(e)
	if err == nil && n.Level != level {
		err = malformed("map node of level %d where %d was expected", n.Level, level)
	}
	if err != nil {
		return err
	}
	width := span(level)
	for i := range MapSlots {
		begin := base + int64(i)*width
		if begin >= to {
			break
		}
		s := n.slot(i)
		if begin+width <= from || s.State == Hole {
			continue
		}
		if s.State == Lost || level == 0 {
			first := max(begin, from)
			err = visit(first, min(begin+width, to)-first, s)
		} else {
			err = walkMap(get, s.Chunk, level-1, begin, from, to, visit)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// MapTop is a map: its top and the level of that. The zero value is of a disk that is all zeros.
type MapTop struct {
	ID    ID
	Level uint8
}

// DiffMaps visits the blocks in which two maps differ, in order, reading only what they do not share.
func DiffMaps(get Getter, a, b MapTop, visit func(block int64, was, is Slot) error) error {
	level := max(a.Level, b.Level)
	top := func(m MapTop) Slot {
		if m.ID.IsZero() {
			return Slot{}
		}
		return Slot{Held, m.ID}
	}
	return diffMaps(get, top(a), top(b), a.Level, b.Level, level, 0, visit)
}

// diffMaps compares what two slots above a level hold. A map whose top stands lower is the first slot of
// what stands higher.
func diffMaps(get Getter, a, b Slot, la, lb, level uint8, base int64, visit func(int64, Slot, Slot) error) error {
	if a == b && la == lb {
		return nil
	}
	slots := func(s Slot, own uint8) (func(i int) Slot, error) {
		switch {
		case s.State != Held:
			return func(int) Slot { return s }, nil
		case own < level: // the top of the smaller map
			return func(i int) Slot {
				if i == 0 {
					return s
				}
				return Slot{}
			}, nil
		}
		e, err := get(s.Chunk)
		if err != nil {
			return nil, err
		}
		n, err := DecodeMap(e)
		if err == nil && n.Level != level {
			err = malformed("map node of level %d where %d was expected", n.Level, level)
		}
		return n.slot, err
	}
	sa, err := slots(a, la)
	if err != nil {
		return err
	}
	sb, err := slots(b, lb)
	if err != nil {
		return err
	}
	for i := range MapSlots {
		begin := base + int64(i)*span(level)
		x, y := sa(i), sb(i)
		if x == y {
			continue
		}
		if level == 0 {
			err = visit(begin, x, y)
		} else {
			err = diffMaps(get, x, y, min(la, level-1), min(lb, level-1), level-1, begin, visit)
		}
		if err != nil {
			return err
		}
	}
	return nil
}
