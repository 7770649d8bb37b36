package tree

import (
	"fmt"
	"io"
	"slices"
	"sort"
	"sync"

	"candidharbor/core/object"
	"candidharbor/internal/store"
)

// Content reads the content of a file at any place. It may be used by several at once. Who reads on where the last read
// ended has what comes next unpacked beside, on all cores.
type Content struct {
	get  object.Getter
	file object.Entry

	mu     sync.Mutex
	spans  []object.Span // a window of them, in order
	chunks map[object.ID]*chunk
	order  []object.ID // of chunks, those asked for first in front
	from   int64       // where the newest read in order began
	front  int64       // up to where was read in order
	steady int64       // how many bytes were, one after the other
	ahead  ahead
}

// chunk is one that is being read, or was of late.
type chunk struct {
	here chan struct{} // closed when it is read
	data []byte
	err  error
}

// spanWindow is how many spans are known at a time: the memory for any file is bounded.
const spanWindow = 4096

// NewContent returns the content of a file.
func NewContent(get object.Getter, e *object.Entry) *Content {
	return &Content{get: get, file: *e, chunks: map[object.ID]*chunk{}}
}

// Size is the size of the file in bytes.
func (c *Content) Size() int64 { return c.file.Size }

// ReadAt is io.ReaderAt.
func (c *Content) ReadAt(p []byte, off int64) (n int, err error) {
	if off < 0 {
		return 0, fmt.Errorf("read at %d", off)
	}
	c.inOrder(off, int64(len(p)))
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
// once, none of them twice.
func (c *Content) at(off int64) (object.Span, []byte, error) {
	c.mu.Lock()
	sp, err := c.span(off)
	if err != nil || sp.Zero || sp.Data != nil {
		c.mu.Unlock()
		return sp, sp.Data, err
	}
	ch, mine := c.begin(sp.Chunk)
	c.readAhead()
	c.mu.Unlock()
	if mine {
		c.read(sp, ch)
	}
	<-ch.here
	return sp, ch.data, ch.err
}

// begin returns a chunk, and whether the caller is to read it. The caller holds mu.
func (c *Content) begin(id object.ID) (ch *chunk, mine bool) {
	if ch := c.chunks[id]; ch != nil {
		return ch, false
	}
	ch = &chunk{here: make(chan struct{})}
	c.chunks[id] = ch
	c.order = append(c.order, id)
	c.trim()
	return ch, true
}

// trim forgets chunks that were asked for long ago. The caller holds mu.
func (c *Content) trim() {
	held := chunksHeld
	if c.ahead.granted {
		held = heldAhead
	}
	for ; len(c.order) > held; c.order = c.order[1:] {
		delete(c.chunks, c.order[0])
	}
}

// read gets a chunk for all that wait for it. One that could not be read is tried again by who asks next.
func (c *Content) read(sp object.Span, ch *chunk) {
	defer close(ch.here)
	env, err := c.get(sp.Chunk)
	if err == nil && int64(len(env.Payload)) != sp.Length {
		err = fmt.Errorf("%w: a chunk is not as long as its list says", store.ErrDamaged)
	}
	if ch.data, ch.err = env.Payload, err; err == nil {
		return
	}
	ch.data = nil
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.chunks[sp.Chunk] == ch {
		delete(c.chunks, sp.Chunk)
		c.order = slices.DeleteFunc(c.order, func(id object.ID) bool { return id == sp.Chunk })
	}
}

// span returns the span that holds an offset. The caller holds mu.
func (c *Content) span(off int64) (object.Span, error) {
	i := c.search(off)
	if i < 0 {
		if err := c.fill(off); err != nil {
			return object.Span{}, err
		}
		if i = c.search(off); i < 0 {
			return object.Span{}, fmt.Errorf("%w: the content ends before the file does", store.ErrDamaged)
		}
	}
	return c.spans[i], nil
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
