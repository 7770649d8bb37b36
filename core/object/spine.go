package object

import "encoding/binary"

// Putter stores an envelope's parts and returns its identity. The children must
// have been put before.
type Putter func(kind Kind, children []ID, payload []byte) (ID, error)

// Getter returns a stored object.
type Getter func(id ID) (Envelope, error)

// node is one item of an index level: a page or index node below, how much it
// holds (bytes of a file, entries of a directory) and the first name in it.
type node struct {
	id    ID
	total uint64
	first []byte
}

// spine builds the index above pages, from left to right, with one pending index
// node per level. A node ends after an item whose identity has six zero low bits,
// once it holds spineMin items, or at spineMax: a pure function of the pages.
type spine struct {
	put    Putter
	kind   Kind
	encode func(level int, items []node) ([]byte, error)
	levels [][]node
}

const (
	spineMin = 16
	spineMax = 1024
)

func (s *spine) add(level int, item node) error {
	for len(s.levels) <= level {
		s.levels = append(s.levels, nil)
	}
	s.levels[level] = append(s.levels[level], item)
	n := len(s.levels[level])
	if n >= spineMax || (n >= spineMin && binary.LittleEndian.Uint32(item.id[:])&63 == 0) {
		return s.flush(level)
	}
	return nil
}

func (s *spine) flush(level int) error {
	items := s.levels[level]
	if level+1 > MaxDepth {
		return malformed("more than %d index levels", MaxDepth)
	}
	payload, err := s.encode(level+1, items)
	if err != nil {
		return err
	}
	up := node{first: items[0].first}
	children := make([]ID, len(items))
	for i, it := range items {
		children[i] = it.id
		up.total += it.total
	}
	if up.id, err = s.put(s.kind, children, payload); err != nil {
		return err
	}
	s.levels[level] = s.levels[level][:0]
	return s.add(level+1, up)
}

// finish returns the topmost node. A level with a single item collapses into it.
func (s *spine) finish() (node, error) {
	for level := 0; level < len(s.levels); level++ {
		top := level == len(s.levels)-1
		switch {
		case len(s.levels[level]) == 0:
			continue
		case top && len(s.levels[level]) == 1:
			return s.levels[level][0], nil
		}
		if err := s.flush(level); err != nil {
			return node{}, err
		}
	}
	return node{}, malformed("nothing to index")
}
