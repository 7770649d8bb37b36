package tree

import (
	"os"
	"path/filepath"
	"testing"

	"candidharbor/core/object"

	"github.com/stretchr/testify/require"
)

// BenchmarkReadOn reads a file of 64 MiB of Go's own sources from its beginning to its end, as a mount does.
func BenchmarkReadOn(b *testing.B) {
	h := newBench(b)
	live := filepath.Join(memoryDir(b), "live")
	require.NoError(b, os.Mkdir(live, 0o755))
	sh(b, live, `tar -cf - -C "$(go env GOROOT)/src" . | head -c 67108864 > large`)
	root, _, _ := h.snapshot(live)
	e, err := Lookup(h.st.Get, root, "large")
	require.NoError(b, err)
	b.SetBytes(e.Size)
	p := make([]byte, 128<<10)
	for b.Loop() {
		c := NewContent(func(id object.ID) (object.Envelope, error) { return h.st.Get(id) }, &e)
		for at := int64(0); at < e.Size; at += int64(len(p)) {
			_, err := c.ReadAt(p[:min(int64(len(p)), e.Size-at)], at)
			require.NoError(b, err)
		}
		c.Close()
	}
}
