package tree

import (
	"fmt"
	"io"
	"sort"
	"sync"

	"candidharbor/core/object"
	"candidharbor/internal/store"
)

// Content reads the content of a file at any place. It may be used by several at once.
type Content struct {
	get  object.Getter
	file object.Entry

	mu    sync.Mutex
	spans []object.Span // a window of them, in order
	last  [8]held       // chunks read of late
}

type held struct {
	id   object.ID
	data []byte
}

// spanWindow is how many spans are known at a time: the memory for any file is bounded.
const spanWindow = 4096

// NewContent returns the content of a file.
func NewContent(get object.Getter, e *object.Entry) *Content { return &Content{get: get, file: *e} }

// Size is the size of the file in bytes.
func (c *Content) Size() int64 { return c.file.Size }

// ReadAt is io.ReaderAt.
func (c *Content) ReadAt(p []byte, off int64) (n int, err error) {
	if off < 0 {
		return 0, fmt.Errorf("read at %d", off)
	}
	for n < len(p) && off < c.file.Size {
		sp, data, err := c.at(off)
		if err != nil {
			return n, err
		}
		from := off - sp.Offset
		want := min(sp.Length-from, int64(len(p)-n))
		if sp.Zero {
			clear(p[n : n+int(want)])
		} else {
			want = int64(copy(p[n:n+int(want)], data[from:]))
		}
		n, off = n+int(want), off+want
	}
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}

// at returns the span that holds an offset, and its data. Several chunks may be read at
// once.
func (c *Content) at(off int64) (object.Span, []byte, error) {
	sp, data, err := c.span(off)
	if err != nil || sp.Zero || data != nil {
		return sp, data, err
	}
	env, err := c.get(sp.Chunk)
	if err != nil {
		return sp, nil, err
	}
	if int64(len(env.Payload)) != sp.Length {
		return sp, nil, fmt.Errorf("%w: a chunk is not as long as its list says", store.ErrDamaged)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	copy(c.last[1:], c.last[:])
	c.last[0] = held{sp.Chunk, env.Payload}
	return sp, env.Payload, nil
}

// span returns the span that holds an offset, with its data when that was read of late.
func (c *Content) span(off int64) (object.Span, []byte, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	i := c.search(off)
	if i < 0 {
		if err := c.fill(off); err != nil {
			return object.Span{}, nil, err
		}
		if i = c.search(off); i < 0 {
			return object.Span{}, nil, fmt.Errorf("%w: the content ends before the file does", store.ErrDamaged)
		}
	}
	sp := c.spans[i]
	if sp.Zero || sp.Data != nil {
		return sp, sp.Data, nil
	}
	for _, h := range c.last {
		if h.data != nil && h.id == sp.Chunk {
			return sp, h.data, nil
		}
	}
	return sp, nil, nil
}

func (c *Content) search(off int64) int {
	i := sort.Search(len(c.spans), func(i int) bool { return c.spans[i].Offset+c.spans[i].Length > off })
	if i == len(c.spans) || c.spans[i].Offset > off {
		return -1
	}
	return i
}

func (c *Content) fill(off int64) error {
	c.spans = c.spans[:0]
	if !c.file.HasContent {
		return nil
	}
	return object.WalkContent(c.get, c.file.Content, off, func(sp object.Span) error {
		c.spans = append(c.spans, sp)
		if len(c.spans) == spanWindow {
			return object.ErrStop
		}
		return nil
	})
}
