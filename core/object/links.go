package object

type linksPage struct {
	_     struct{} `cbor:",toarray"`
	Level uint8
	Sets  [][][]byte // level 0: each set's paths from the tree's top, ascending
	Total uint64
}

// LinksBuilder turns hard-link sets, in ascending order of their first paths, into
// a links object. Every set has at least two paths.
type LinksBuilder struct {
	put   Putter
	sets  [][][]byte
	bytes int
	spine spine
}

// NewLinksBuilder returns a builder that stores pages through put.
func NewLinksBuilder(put Putter) *LinksBuilder {
	b := &LinksBuilder{put: put}
	b.spine = spine{put: put, kind: KindLinks, encode: func(level int, items []node) ([]byte, error) {
		p := linksPage{Level: uint8(level)}
		for _, it := range items {
			p.Total += it.total
		}
		return encMode.Marshal(p)
	}}
	return b
}

// Add appends one set.
func (b *LinksBuilder) Add(paths [][]byte) error {
	b.sets = append(b.sets, paths)
	for _, p := range paths {
		b.bytes += len(p) + 3
	}
	if len(b.sets) >= pageMax || b.bytes >= pageBytes || (len(b.sets) >= pageMin && nameEnds(paths[0])) {
		return b.flush()
	}
	return nil
}

func (b *LinksBuilder) flush() error {
	payload, err := encMode.Marshal(linksPage{Sets: b.sets, Total: uint64(len(b.sets))})
	if err != nil {
		return err
	}
	id, err := b.put(KindLinks, nil, payload)
	if err != nil {
		return err
	}
	n := uint64(len(b.sets))
	b.sets, b.bytes = nil, 0
	return b.spine.add(0, node{id: id, total: n})
}

// Finish returns the identity; ok is false when there is no set.
func (b *LinksBuilder) Finish() (id ID, ok bool, err error) {
	if len(b.sets) > 0 {
		if err := b.flush(); err != nil {
			return ID{}, false, err
		}
	}
	if len(b.spine.levels) == 0 {
		return ID{}, false, nil
	}
	top, err := b.spine.finish()
	return top.id, true, err
}

// WalkLinks calls fn for each set in order.
func WalkLinks(get Getter, id ID, fn func(paths [][]byte) error) error {
	return walkLinks(get, id, MaxDepth+1, fn)
}

func walkLinks(get Getter, id ID, depth int, fn func([][]byte) error) error {
	env, err := get(id)
	if err != nil {
		return err
	}
	var p linksPage
	if err := decodePayload(env, KindLinks, &p); err != nil {
		return err
	}
	if int(p.Level) >= depth || (p.Level == 0) != (env.NumChildren() == 0) {
		return malformed("links page contradicts itself")
	}
	for _, s := range p.Sets {
		if len(s) < 2 {
			return malformed("a hard-link set of %d paths", len(s))
		}
		if err := fn(s); err != nil {
			return err
		}
	}
	for i := range env.NumChildren() {
		if err := walkLinks(get, env.Child(i), int(p.Level), fn); err != nil {
			return err
		}
	}
	return nil
}
