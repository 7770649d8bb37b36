package disk

import (
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"os"
	"time"

	"candidharbor/core/object"

	"golang.org/x/sys/unix"
)

// state is the record of a disk that is replaced as a whole.
type state struct {
	Form       int       `json:"form"`
	Size       int64     `json:"size"`
	Block      uint32    `json:"block"`
	Generation uint64    `json:"generation"` // of the maps
	Base       Stored    `json:"base"`       // what changed is relative to
	Origin     Stored    `json:"origin"`     // what is not here
	Arriving   From      `json:"arriving,omitzero"`
	Image      imageID   `json:"image"`
	SuspectAt  time.Time `json:"suspectAt,omitzero"` // when a sync failed
	Sum        uint32    `json:"sum"`
}

// Stored is a map in the store, of a disk of a size. The zero value is of nothing but zeros.
type Stored struct {
	Map  object.ID `json:"map"`
	Size int64     `json:"size"`
}

func (m Stored) top(block uint32) object.MapTop {
	if m.Map.IsZero() {
		return object.MapTop{}
	}
	return object.MapTop{ID: m.Map, Level: object.MapLevel(object.Blocks(m.Size, block))}
}

// imageID says which file an image is, as far as the page cache is concerned.
type imageID struct {
	Dev   uint64 `json:"dev"`
	Inode uint64 `json:"inode"`
	Mount uint64 `json:"mount"`
}

func identify(f *os.File) (id imageID, err error) {
	var st unix.Statx_t
	err = unix.Statx(int(f.Fd()), "", unix.AT_EMPTY_PATH, unix.STATX_INO|unix.STATX_MNT_ID, &st)
	return imageID{Dev: unix.Mkdev(st.Dev_major, st.Dev_minor), Inode: st.Ino, Mount: st.Mnt_id}, err
}

// sameFile compares what outlives a boot.
func (i imageID) sameFile(o imageID) bool { return i.Inode == o.Inode }

// bootID names the run of the kernel whose page cache holds what was written and not synced.
func bootID() string {
	raw, _ := os.ReadFile("/proc/sys/kernel/random/boot_id")
	return string(raw)
}

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

func (s state) sum() uint32 {
	s.Sum = 0
	raw, _ := json.Marshal(s)
	return crc32.Checksum(raw, castagnoli)
}

const stateName = "state"

func readState(files Files) (s state, err error) {
	raw, err := files.Read(stateName)
	if err != nil {
		return s, err
	}
	if err := json.Unmarshal(raw, &s); err != nil {
		return s, fmt.Errorf("%w: state record: %w", ErrDamaged, err)
	}
	if s.Sum != s.sum() || s.Form != 1 {
		return s, fmt.Errorf("%w: the sum of the state record is wrong", ErrDamaged)
	}
	if err := CheckShape(s.Size, s.Block); err != nil {
		return s, fmt.Errorf("%w: %w", ErrDamaged, err)
	}
	return s, nil
}

// ShapeOf tells what a disk is by its records.
func ShapeOf(files Files) (Shape, error) {
	s, err := readState(files)
	return Shape{Size: s.Size, Block: s.Block, Origin: s.Origin}, err
}

func (s state) write(files Files) error {
	s.Form = 1
	s.Sum = s.sum()
	raw, err := json.Marshal(s)
	if err != nil {
		return err
	}
	return files.Replace(stateName, raw)
}

// ErrDamaged is wrapped when what a disk keeps beside its image cannot be believed.
var ErrDamaged = errors.New("the records of the disk are damaged")

// MaxSize bounds a disk.
const MaxSize = 1 << 46

// MostBlocks bounds the blocks of a disk, of which each takes a few bits of memory: 8 TiB in blocks of 64 KiB.
const MostBlocks = 1 << 27

// CheckShape refuses a size, or blocks, that no disk has.
func CheckShape(size int64, block uint32) error {
	if err := object.CheckBlock(block); err != nil {
		return err
	}
	if size <= 0 || size%512 != 0 || size > MaxSize {
		return fmt.Errorf("a size of %d bytes: it is to be a multiple of 512, at most %d", size, int64(MaxSize))
	}
	if n := object.Blocks(size, block); n > MostBlocks {
		return fmt.Errorf("a size of %d bytes has %d blocks of %d bytes, at most %d are served: choose larger ones", size, n,
			block, MostBlocks)
	}
	return nil
}
