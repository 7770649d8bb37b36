package object

import "fmt"

type listPage struct {
	_     struct{} `cbor:",toarray"`
	Level uint8
	// Spans are byte counts. At level 0 a positive span is the next child, a
	// negative one is a run of zeros without a child; above, each is a child.
	Spans []int64
	Total uint64
}

const (
	listMin = 256
	listMax = 4096
)

// ListBuilder turns the chunks of a file, in order, into its content identity: the
// chunk itself for a file of one chunk, a list otherwise. Runs of zeros have no
// chunk, so a hole and written zeros have the same identity.
type ListBuilder struct {
	put      Putter
	children []ID
	spans    []int64
	total    uint64
	pages    int
	spine    spine
}

// NewListBuilder returns a builder that stores list pages through put.
func NewListBuilder(put Putter) *ListBuilder {
	b := &ListBuilder{put: put}
	b.spine = spine{put: put, kind: KindList, encode: func(level int, items []node) ([]byte, error) {
		p := listPage{Level: uint8(level)}
		for _, it := range items {
			p.Spans = append(p.Spans, int64(it.total))
			p.Total += it.total
		}
		return encMode.Marshal(p)
	}}
	return b
}

// Chunk appends a chunk of n bytes.
func (b *ListBuilder) Chunk(id ID, n int) error {
	b.children = append(b.children, id)
	b.spans = append(b.spans, int64(n))
	b.total += uint64(n)
	if len(b.spans) >= listMax || (len(b.spans) >= listMin && id[0] == 0) {
		return b.flush()
	}
	return nil
}

// Zeros appends a run of n zero bytes; adjoining runs become one.
func (b *ListBuilder) Zeros(n int64) error {
	b.total += uint64(n)
	if k := len(b.spans); k > 0 && b.spans[k-1] < 0 {
		b.spans[k-1] -= n
		return nil
	}
	if len(b.spans) >= listMax {
		if err := b.flush(); err != nil {
			return err
		}
	}
	b.spans = append(b.spans, -n)
	return nil
}

func (b *ListBuilder) flush() error {
	p := listPage{Spans: b.spans}
	for _, s := range b.spans {
		p.Total += uint64(max(s, -s))
	}
	payload, err := encMode.Marshal(p)
	if err != nil {
		return err
	}
	id, err := b.put(KindList, b.children, payload)
	if err != nil {
		return err
	}
	b.children, b.spans = nil, nil
	b.pages++
	return b.spine.add(0, node{id: id, total: p.Total})
}

// Finish returns the content identity and the length in bytes; ok is false for an
// empty file, which has no content object.
func (b *ListBuilder) Finish() (id ID, total int64, ok bool, err error) {
	if b.total == 0 {
		return ID{}, 0, false, nil
	}
	if b.pages == 0 && len(b.spans) == 1 && b.spans[0] > 0 {
		return b.children[0], int64(b.total), true, nil
	}
	if len(b.spans) > 0 {
		if err := b.flush(); err != nil {
			return ID{}, 0, false, err
		}
	}
	top, err := b.spine.finish()
	return top.id, int64(b.total), true, err
}

// Span is a stretch of a file: a chunk, or a run of zeros when Zero is set.
type Span struct {
	Chunk  ID
	Offset int64
	Length int64
	Zero   bool
	Data   []byte // set when the content is a single chunk, already read
}

// WalkContent calls fn for each span of a file's content in order, beginning with
// the one that holds offset from.
func WalkContent(get Getter, id ID, from int64, fn func(Span) error) error {
	env, err := get(id)
	if err != nil {
		return err
	}
	if env.Kind == KindChunk {
		return fn(Span{Chunk: id, Length: int64(len(env.Payload)), Data: env.Payload})
	}
	err = walkList(get, env, 0, from, MaxDepth+1, fn)
	if err == ErrStop {
		return nil
	}
	return err
}

func walkList(get Getter, env Envelope, at, from int64, depth int, fn func(Span) error) error {
	var p listPage
	if err := decodePayload(env, KindList, &p); err != nil {
		return err
	}
	if int(p.Level) >= depth {
		return malformed("list nested too deep")
	}
	next := 0
	for _, s := range p.Spans {
		if s == 0 {
			return malformed("list with an empty span")
		}
		n := max(s, -s)
		if n <= 0 || at+n < at {
			return malformed("list longer than a file can be")
		}
		child := ID{}
		if s > 0 {
			if next >= env.NumChildren() {
				return malformed("list with too few children")
			}
			child = env.Child(next)
			next++
		}
		if at+n > from {
			if p.Level == 0 {
				if err := fn(Span{Chunk: child, Offset: at, Length: n, Zero: s < 0}); err != nil {
					return err
				}
			} else {
				if s < 0 {
					return malformed("list index with a run of zeros")
				}
				below, err := get(child)
				if err != nil {
					return fmt.Errorf("list page %s: %w", child, err)
				}
				if err := walkList(get, below, at, from, int(p.Level), fn); err != nil {
					return err
				}
			}
		}
		at += n
	}
	if next != env.NumChildren() {
		return malformed("list with %d children for %d chunks", env.NumChildren(), next)
	}
	return nil
}
