package object

import "fmt"

// BlockChange says what a block holds now.
type BlockChange struct {
	Block int64
	Slot  Slot
}

// MapPutter stores a node. Of its children only those that fresh says so of by their place are new;
// the others stand in the map that is changed.
type MapPutter func(children []ID, fresh []bool, payload []byte) (ID, error)

// ChangeMap stores the map of a disk of so many blocks that is as base but for changes, which ascend by
// block. Base may be of a smaller disk, and what it says of blocks behind the end is dropped. It reads and
// writes what leads to the changes and nothing else.
func ChangeMap(get Getter, put MapPutter, base MapTop, blocks int64, changes []BlockChange) (MapTop, error) {
	level := MapLevel(blocks)
	for i, c := range changes {
		if c.Block < 0 || c.Block >= blocks || i > 0 && c.Block <= changes[i-1].Block {
			return MapTop{}, fmt.Errorf("change %d is of block %d of %d, after block %d", i, c.Block, blocks,
				changes[max(0, i-1)].Block)
		}
	}
	for !base.ID.IsZero() && base.Level > level { // of a larger disk: only what is below its first slot counts
		e, err := get(base.ID)
		if err != nil {
			return MapTop{}, err
		}
		n, err := DecodeMap(e)
		if err != nil {
			return MapTop{}, err
		}
		base.Level--
		if s := n.slot(0); s.State == Held {
			base.ID = s.Chunk
		} else {
			base.ID = ID{}
			if s.State == Lost {
				return MapTop{}, fmt.Errorf("all of the map is lost")
			}
		}
	}
	ed := &mapEdit{get: get, put: put, blocks: blocks}
	was := Slot{}
	if !base.ID.IsZero() {
		e, err := get(base.ID)
		if err != nil {
			return MapTop{}, err
		}
		n, err := DecodeMap(e)
		if err != nil {
			return MapTop{}, err
		}
		if n.present|n.lost != 0 { // else it is the top of a disk that is all zeros, and stands below nothing
			was = Slot{Held, base.ID}
		}
	}
	s, _, err := ed.node(was, base.Level, level, 0, changes)
	if err != nil {
		return MapTop{}, err
	}
	if s.State != Held { // the top is always there
		var none [MapSlots]Slot
		if s.State == Lost {
			for i := range none {
				none[i] = s
			}
		}
		children, payload, err := encodeMapNode(level, &none)
		if err != nil {
			return MapTop{}, err
		}
		id, err := put(children, nil, payload)
		return MapTop{id, level}, err
	}
	return MapTop{s.Chunk, level}, nil
}

type mapEdit struct {
	get    Getter
	put    MapPutter
	blocks int64
}

// node makes the node at a level whose first block is base, which was as was says; own is the level at
// which was stands, lower than level where the map was of a smaller disk. It reports whether it is another
// than it was.
func (m *mapEdit) node(was Slot, own, level uint8, base int64, changes []BlockChange) (Slot, bool, error) {
	beyond := base+span(level)*MapSlots > m.blocks && was.State == Held // it may say things of blocks behind the end
	if len(changes) == 0 && own == level && !beyond {
		return was, false, nil
	}
	var slots [MapSlots]Slot
	var fresh [MapSlots]bool
	differs := own != level
	switch {
	case was.State == Lost:
		for i := range slots {
			slots[i] = was
		}
	case was.State == Held && own < level:
		slots[0] = was
	case was.State == Held:
		e, err := m.get(was.Chunk)
		if err != nil {
			return Slot{}, false, err
		}
		n, err := DecodeMap(e)
		if err != nil {
			return Slot{}, false, err
		}
		if n.Level != level {
			return Slot{}, false, malformed("map node of level %d where %d was expected", n.Level, level)
		}
		for i := range slots {
			slots[i] = n.slot(i)
		}
	}
	width := span(level)
	for i := range slots {
		begin := base + int64(i)*width
		n := 0
		for n < len(changes) && changes[n].Block < begin+width {
			n++
		}
		old := slots[i]
		switch {
		case begin >= m.blocks:
			slots[i] = Slot{}
		case level == 0 && n > 0:
			slots[i] = changes[0].Slot
		case level > 0:
			s, other, err := m.node(old, min(own, level-1), level-1, begin, changes[:n])
			if err != nil {
				return Slot{}, false, err
			}
			if other {
				slots[i] = s
			}
		}
		if slots[i] != old {
			differs, fresh[i] = true, true
		}
		changes = changes[n:]
	}
	if !differs {
		return was, false, nil
	}
	lost := 0
	empty := true
	for i := range slots {
		if slots[i].State != Hole {
			empty = false
		}
		if slots[i].State == Lost {
			lost++
		}
	}
	switch {
	case empty:
		return Slot{}, was.State != Hole, nil
	case lost == MapSlots:
		return Slot{State: Lost}, was.State != Lost, nil
	}
	children, payload, err := encodeMapNode(level, &slots)
	if err != nil {
		return Slot{}, false, err
	}
	news := make([]bool, 0, len(children))
	for i := range slots {
		if slots[i].State == Held {
			news = append(news, fresh[i])
		}
	}
	id, err := m.put(children, news, payload)
	return Slot{Held, id}, true, err
}
