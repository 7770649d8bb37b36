package transfer

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io"
	"strings"
	"testing"

	"candidharbor/core/object"
	"candidharbor/internal/store"

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
	w := &CrateWriter{Store: st, Meter: &Meter{}, Head: CrateHead{ID: "a", Site: "here",
		Snapshots: []CrateSnapshot{{ID: id.String()}}},
		Marks: func(object.ID) ([][]byte, error) {
			return nil, nil
		}, Open: func(int) (io.WriteCloser, error) { return closer{&out}, nil }}
	require.NoError(f, w.Write(context.Background()))
	f.Add(out.Bytes())
	f.Add(out.Bytes()[:out.Len()/2])
	far := openStore(f, 2)
	f.Fuzz(func(t *testing.T, raw []byte) {
		r := &CrateReader{Store: far, Lease: far.NewLease(), Meant: func(*CrateHead) error {
			return nil
		}, Sees: func(uint32) bool { return false }, Meter: &Meter{}}
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

// What an attacker changes in a crate, with all sums made to fit again, becomes no snapshot
// unless it is whole and signed as it was.
func FuzzResealedCrate(f *testing.F) {
	st := openStore(f, 1)
	id := commit(f, st, 1, map[int][]byte{0: bytes.Repeat([]byte("page "), 3000), 1: []byte("short")}, 3)
	var out bytes.Buffer
	w := &CrateWriter{Store: st, Meter: &Meter{}, Head: CrateHead{ID: "a", Site: "here",
		Snapshots: []CrateSnapshot{{ID: id.String()}}},
		Marks: func(object.ID) ([][]byte, error) {
			return nil, nil
		}, Open: func(int) (io.WriteCloser, error) { return closer{&out}, nil }}
	require.NoError(f, w.Write(context.Background()))
	far := openStore(f, 2)
	f.Add(uint8(0), uint32(3), []byte{0xff}, false)
	f.Add(uint8(1), uint32(40), []byte("x"), true)
	f.Add(uint8(2), uint32(0), []byte{}, true)
	f.Fuzz(func(t *testing.T, entry uint8, at uint32, change []byte, cut bool) {
		raw := reseal(t, out.Bytes(), int(entry), int(at), change, cut)
		r := &CrateReader{Store: far, Lease: far.NewLease(), Meant: func(*CrateHead) error {
			return nil
		}, Sees: func(uint32) bool { return false }, Meter: &Meter{}}
		defer r.Lease.Release()
		parts, err := r.Read(context.Background(), bytes.NewReader(raw))
		if err != nil {
			return
		}
		for _, rec := range parts.Roots {
			w := far.NewWriter(far.NewLease())
			w.Within(r.Lease, r.Sees)
			got, err := w.CommitRecord(rec)
			w.Close()
			if err != nil {
				continue
			}
			require.Equal(t, id, got)
			requireWhole(t, far, got)
			require.NoError(t, far.RemoveRoots(got))
		}
	})
}

// reseal changes or cuts the body of one entry of a crate and makes the sums at its end fit.
func reseal(t *testing.T, crate []byte, entry, at int, change []byte, cut bool) []byte {
	var out bytes.Buffer
	in, to := tar.NewReader(bytes.NewReader(crate)), tar.NewWriter(&out)
	sums := map[string]string{}
	var objects int64
	for n := 0; ; n++ {
		h, err := in.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		require.NoError(t, err)
		body, err := io.ReadAll(in)
		require.NoError(t, err)
		if h.Name == crateEnd {
			var tail crateTail
			require.NoError(t, json.Unmarshal(body, &tail))
			tail.SHA256 = sums
			tail.Objects = objects
			body, err = tail.encode()
			require.NoError(t, err)
		} else if n == entry && len(body) > 0 {
			if at %= len(body); cut {
				body = append(body[:at:at], change...)
			} else {
				copy(body[at:], change)
			}
		}
		if strings.HasPrefix(h.Name, "objects/") {
			objects += recordsIn(body)
		}
		sum := sha256.Sum256(body)
		sums[h.Name] = hex.EncodeToString(sum[:])
		require.NoError(t, to.WriteHeader(crateHeader(h.Name, int64(len(body)))))
		_, err = to.Write(body)
		require.NoError(t, err)
	}
	require.NoError(t, to.Close())
	return out.Bytes()
}

func recordsIn(body []byte) (n int64) {
	for len(body) > 0 {
		size, _, err := store.RecordLength(body)
		if err != nil || size > len(body) {
			return n
		}
		body, n = body[size:], n+1
	}
	return n
}

// Every byte of a crate is covered: whichever is changed, taken away or added, it does not load.
func TestEveryByteOfACrate(t *testing.T) {
	st := openStore(t, 1)
	id := commit(t, st, 1, map[int][]byte{0: []byte("a page"), 1: []byte("short")}, 2)
	var out bytes.Buffer
	w := &CrateWriter{Store: st, Meter: &Meter{}, Head: CrateHead{ID: "a", Site: "here",
		Snapshots: []CrateSnapshot{{ID: id.String()}}},
		Marks: func(object.ID) ([][]byte, error) {
			return nil, nil
		}, Open: func(int) (io.WriteCloser, error) { return closer{&out}, nil }}
	require.NoError(t, w.Write(t.Context()))
	far := openStore(t, 2)
	load := func(raw []byte) error {
		r := &CrateReader{Store: far, Lease: far.NewLease(), Meant: func(*CrateHead) error {
			return nil
		}, Sees: func(uint32) bool { return false }, Meter: &Meter{}}
		defer r.Lease.Release()
		_, err := r.Read(t.Context(), bytes.NewReader(raw))
		return err
	}
	whole := out.Bytes()
	require.NoError(t, load(whole))
	t.Logf("%d bytes", len(whole))
	for i := range whole {
		raw := bytes.Clone(whole)
		raw[i] ^= 1 << (i % 8)
		require.Error(t, load(raw), "bit %d of byte %d was changed", i%8, i)
		require.ErrorIs(t, load(whole[:i]), ErrCrate, "cut to %d bytes", i)
	}
	require.ErrorIs(t, load(append(bytes.Clone(whole), 0)), ErrCrate)
	require.ErrorIs(t, load(append(bytes.Clone(whole), make([]byte, 8<<10)...)), ErrCrate)
	require.NoError(t, load(whole))
}
