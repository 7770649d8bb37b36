package store

import (
	"crypto/rand"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"github.com/RoaringBitmap/roaring/v2"
)

// manifest names everything that belongs to the store's index now. It is replaced
// by rename; what it does not name is left over from a crash and is removed.
type manifest struct {
	Form   int        `json:"form"` // 1
	Epoch  uint64     `json:"epoch"`
	Next   uint32     `json:"nextOrdinal"`
	Pack   uint32     `json:"nextPack"`
	Serial uint64     `json:"nextFile"`
	Packs  []packInfo `json:"packs"`
	Runs   []string   `json:"runs"` // oldest first
	Logs   []uint32   `json:"logs"`
	Heals  uint64     `json:"heals"` // counts repairs; a census of an earlier count is rebuilt
	Gone   []byte     `json:"gone"`  // roaring bitmap of ordinals that are no longer used
}

type packInfo struct {
	Num     uint32 `json:"num"`
	Name    string `json:"name"`
	Bytes   int64  `json:"bytes"`
	Dead    int64  `json:"dead"` // bytes of records that nothing needs any more
	Settled bool   `json:"settled,omitempty"`
}

func (m *manifest) clone() manifest {
	c := *m
	c.Packs, c.Runs, c.Logs = slices.Clone(m.Packs), slices.Clone(m.Runs), slices.Clone(m.Logs)
	return c
}

func (m *manifest) packIndex(num uint32) int {
	i, ok := slices.BinarySearchFunc(m.Packs, num, func(p packInfo, n uint32) int {
		switch {
		case p.Num < n:
			return -1
		case p.Num > n:
			return 1
		}
		return 0
	})
	if !ok {
		return -1
	}
	return i
}

func newEpoch() uint64 {
	var b [8]byte
	rand.Read(b[:])
	return binary.LittleEndian.Uint64(b[:]) >> 11 // exact as a JSON number everywhere
}

func readManifest(dir string) (*manifest, error) {
	raw, err := os.ReadFile(filepath.Join(dir, "manifest"))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	m := &manifest{}
	if err := json.Unmarshal(raw, m); err != nil {
		return nil, fmt.Errorf("%w: manifest: %w", errIndex, err)
	}
	if m.Form != 1 {
		return nil, fmt.Errorf("store %s has format %d, this program reads format 1", dir, m.Form)
	}
	return m, nil
}

func (s *Store) writeManifest(m *manifest) error {
	raw, err := json.Marshal(m)
	if err != nil {
		return err
	}
	return explainFull(s.dir, ReplaceFile(filepath.Join(s.dir, "manifest"), raw))
}

func bitmapBytes(b *roaring.Bitmap) []byte {
	b.RunOptimize()
	raw, _ := b.ToBytes() // writing to memory cannot fail
	return raw
}

func bitmapFrom(raw []byte) (*roaring.Bitmap, error) {
	b := roaring.New()
	if len(raw) == 0 {
		return b, nil
	}
	if err := b.UnmarshalBinary(raw); err != nil {
		return nil, err
	}
	return b, b.Validate()
}
