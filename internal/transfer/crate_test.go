package transfer

import (
	"bytes"
	"context"
	"io"
	"testing"

	"candidharbor/core/object"

	"github.com/stretchr/testify/require"
)

type closer struct{ io.Writer }

func (closer) Close() error { return nil }

// Whatever lies in a file that is said to be a crate, nothing of it becomes a snapshot
// unless it is whole, and memory stays bounded.
func FuzzCrate(f *testing.F) {
	st := openStore(f, 1)
	id := commit(f, st, 1, nil, 20)
	var out bytes.Buffer
	w := &CrateWriter{Store: st, Meter: &Meter{}, Head: CrateHead{ID: "a", Site: "here", Snapshots: []CrateSnapshot{{ID: id.String()}}},
		Marks: func(object.ID) ([][]byte, error) { return nil, nil }, Open: func(int) (io.WriteCloser, error) { return closer{&out}, nil }}
	require.NoError(f, w.Write(context.Background()))
	f.Add(out.Bytes())
	f.Add(out.Bytes()[:out.Len()/2])
	far := openStore(f, 2)
	f.Fuzz(func(t *testing.T, raw []byte) {
		r := &CrateReader{Store: far, Lease: far.NewLease(), Meant: func(*CrateHead) error { return nil }, Sees: func(uint32) bool { return false }, Meter: &Meter{}}
		parts, err := r.Read(context.Background(), bytes.NewReader(raw))
		defer r.Lease.Release()
		require.Empty(t, far.Roots(), "reading alone makes no snapshot")
		if err != nil || !parts.Last {
			require.NotEqual(t, out.Bytes(), raw, "the whole one is read")
			return
		}
		for _, rec := range parts.Roots {
			id, err := far.NewWriter(far.NewLease()).CommitRecord(rec)
			if err != nil {
				continue
			}
			requireWhole(t, far, id)
			require.NoError(t, far.RemoveRoots(id))
		}
	})
}
