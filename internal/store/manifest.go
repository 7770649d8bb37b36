package store

import (
	"crypto/rand"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"math"
	"os"
	"path/filepath"
	"slices"
	"sync"

	"github.com/RoaringBitmap/roaring/v2"
)

// manifest names everything that belongs to the store's index now. It is replaced by
// rename; packs and logs that it does not name are moved aside at opening.
type manifest struct {
	Form   int    `json:"form"` // 2, or 3 since something was settled into bundles; 1 had no seal
	Epoch  uint64 `json:"epoch"`
	Next   uint32 `json:"nextOrdinal"`
	Pack   uint32 `json:"nextPack"`
	Serial uint64 `json:"nextFile"`
	contents
	Heals uint64 `json:"heals"`          // counts repairs; a census of an earlier count is rebuilt
	Gone  []byte `json:"gone"`           // roaring bitmap of ordinals that are no longer used
	Lost  []byte `json:"lost,omitempty"` // of ordinals that were given and that no index entry has
}

// contents are the files that the index consists of.
type contents struct {
	Packs []packInfo `json:"packs"`
	Runs  []string   `json:"runs"` // oldest first
	Logs  []uint32   `json:"logs"`
}

type packInfo struct {
	Num     uint32 `json:"num"`
	Name    string `json:"name"`
	Bytes   int64  `json:"bytes"`
	Dead    int64  `json:"dead"` // bytes of records that nothing needs any more
	Settled bool   `json:"settled,omitempty"`
	Bundles bool   `json:"bundles,omitempty"`
}

func (c *contents) clone() contents {
	return contents{slices.Clone(c.Packs), slices.Clone(c.Runs), slices.Clone(c.Logs)}
}

func (c *contents) packIndex(num uint32) int {
	i, ok := slices.BinarySearchFunc(c.Packs, num, func(p packInfo, n uint32) int {
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

// numbers gives the numbers of packs and files. It only counts up, whatever becomes of
// what was numbered, so that no number is given twice.
type numbers struct {
	mu   sync.Mutex
	pack uint32
	file uint64
}

func (n *numbers) nextPack() (uint32, error) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.pack >= logBit-1 {
		return 0, errors.New("all pack numbers were given: rebuild the store's index")
	}
	n.pack++
	return n.pack - 1, nil
}

func (n *numbers) nextFile() uint64 {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.file++
	return n.file - 1
}

// raise makes sure that the numbers below the given ones are not given any more.
func (n *numbers) raise(pack uint32, file uint64) {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.pack, n.file = max(n.pack, pack), max(n.file, file)
}

func (n *numbers) given() (pack uint32, file uint64) {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.pack, n.file
}

// maxOrdinals leaves room for the objects of one commit.
const maxOrdinals = math.MaxUint32 - 1<<24

// renumberAt is when opening numbers all objects anew.
const renumberAt = maxOrdinals - 1<<28

var errOrdinals = errors.New("all ordinals of the store's index were given: restart the service, which numbers the " +
	"objects anew")

// change is one step from what belongs to the store to what belongs to it next.
type change struct {
	edit     func(*contents) // what the files are next
	next     uint32          // the next ordinal, if it moves
	gone     *roaring.Bitmap // replaces the ordinals that are gone, if given
	take     func()          // what changes in memory in the same step; called under mu
	undo     func()          // removes what the change would have named
	obsolete func()          // removes what it no longer names
}

// publish is the only way in which the files of the store change. The change is applied
// to a copy, made durable, and then current, one change after the other. Where it is not
// clear whether the change will outlive a power cut, it holds from here on, and neither
// what it brought nor what it replaced is removed before a later change is durable.
func (s *Store) publish(c change) error {
	s.pub.Lock()
	defer s.pub.Unlock()
	s.mu.RLock()
	files := s.files.clone()
	m := manifest{Form: 2, Epoch: s.epoch, Next: max(s.next, c.next), Heals: s.heals, Lost: bitmapBytes(s.lost)}
	gone := c.gone
	if gone == nil {
		gone = s.gone.Clone()
	}
	s.mu.RUnlock()
	c.edit(&files)
	sortPacks(files.Packs)
	m.contents, m.Gone = files, bitmapBytes(gone)
	if slices.ContainsFunc(files.Packs, func(p packInfo) bool { return p.Bundles || p.Settled }) {
		m.Form = 3 // a program that does not know bundles refuses the store, and takes nothing for damaged
	}
	m.Pack, m.Serial = s.numbers.given()
	err := s.writeManifest(&m)
	var unclear *UnclearError
	if err != nil && !errors.As(err, &unclear) {
		if c.undo != nil {
			c.undo()
		}
		return err
	}
	s.mu.Lock()
	s.files, s.next = files, m.Next
	if c.take != nil {
		c.take()
	}
	s.mu.Unlock()
	if c.obsolete != nil {
		s.obsolete = append(s.obsolete, c.obsolete)
	}
	if err != nil {
		s.log.Error("it is not clear whether a change of the store outlives a power cut; nothing is removed before a "+
			"later one does", "error", err)
		return err
	}
	for _, remove := range s.obsolete {
		remove()
	}
	s.obsolete = nil
	s.syncs.add()
	return nil
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
	body, whole := unsealed(raw)
	m := &manifest{}
	if err := json.Unmarshal(body, m); err != nil {
		return nil, fmt.Errorf("%w: manifest: %w", errIndex, err)
	}
	switch {
	case m.Form == 1: // of a version that did not seal it
	case !whole:
		return nil, fmt.Errorf("%w: manifest: %w", errIndex, errSeal)
	case m.Form != 2 && m.Form != 3:
		return nil, fmt.Errorf("store %s has format %d, this program reads formats 1 to 3", dir, m.Form)
	}
	sortPacks(m.Packs)
	for i := range m.Packs {
		m.Packs[i].Settled = m.Packs[i].Settled && m.Form == 3 // before, small chunks were settled each for itself
	}
	for i := 1; i < len(m.Packs); i++ {
		if m.Packs[i].Num == m.Packs[i-1].Num {
			return nil, fmt.Errorf("%w: the manifest has two packs of the number %d", errIndex, m.Packs[i].Num)
		}
	}
	return m, nil
}

func (s *Store) writeManifest(m *manifest) error {
	raw, err := json.Marshal(m)
	if err != nil {
		return err
	}
	return explainFull(s.dir, ReplaceFile(filepath.Join(s.dir, "manifest"), sealed(raw)))
}

func sortPacks(packs []packInfo) {
	slices.SortFunc(packs, func(a, b packInfo) int { return int(int64(a.Num) - int64(b.Num)) })
}

// bitmapBytes returns the portable form of a bitmap, which it does not change.
func bitmapBytes(b *roaring.Bitmap) []byte {
	if b.IsEmpty() {
		return nil
	}
	c := b.Clone()
	c.RunOptimize()
	raw, _ := c.ToBytes() // writing to memory cannot fail
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
