// Package treetest makes trees in memory, for tests of what goes through them.
package treetest

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"candidharbor/core/object"

	"github.com/stretchr/testify/require"
)

// Heap keeps objects in memory and counts what is read.
type Heap struct {
	all  map[object.ID]object.Envelope
	Read int
}

// New returns an empty heap.
func New() *Heap { return &Heap{all: map[object.ID]object.Envelope{}} }

// Put is an object.Putter.
func (h *Heap) Put(kind object.Kind, children []object.ID, payload []byte) (object.ID, error) {
	raw := object.Encode(nil, kind, children, payload)
	env, err := object.Decode(raw)
	h.all[object.Sum(raw)] = env
	return object.Sum(raw), err
}

// Get is an object.Getter.
func (h *Heap) Get(id object.ID) (object.Envelope, error) {
	h.Read++
	env, ok := h.all[id]
	if !ok {
		return env, fmt.Errorf("no object %s", id)
	}
	return env, nil
}

// Files is a tree as paths and contents; a path that ends in a slash is an empty directory.
type Files map[string]string

// Store returns the directory of a tree.
func (h *Heap) Store(t require.TestingT, f Files) object.ID {
	type dir map[string]any
	top := dir{}
	for p, content := range f {
		at := top
		parts := strings.Split(strings.TrimSuffix(p, "/"), "/")
		for i, name := range parts {
			if i == len(parts)-1 && !strings.HasSuffix(p, "/") {
				at[name] = content
				break
			}
			if _, ok := at[name].(dir); !ok {
				at[name] = dir{}
			}
			at = at[name].(dir)
		}
	}
	var build func(d dir) object.ID
	build = func(d dir) object.ID {
		b := object.NewDirBuilder(h.Put)
		for _, name := range slices.Sorted(maps.Keys(d)) {
			switch v := d[name].(type) {
			case dir:
				require.NoError(t, b.Add(object.Entry{Name: []byte(name), Kind: object.Dir, HasContent: true, Content: build(v)}))
			case string:
				mode := uint32(0o644)
				if rest, ok := strings.CutPrefix(v, "x:"); ok {
					v, mode = rest, 0o755
				}
				e := object.Entry{Name: []byte(name), Kind: object.File, Mode: mode, Size: int64(len(v))}
				if v != "" {
					id, err := h.Put(object.KindChunk, nil, []byte(v))
					require.NoError(t, err)
					e.HasContent, e.Content = true, id
				}
				require.NoError(t, b.Add(e))
			}
		}
		id, err := b.Finish()
		require.NoError(t, err)
		return id
	}
	return build(top)
}
