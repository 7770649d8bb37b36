package disk

import (
	"errors"
	"io"
	"io/fs"
	"math/rand/v2"
	"runtime"
	"slices"
	"sync"

	"golang.org/x/sys/unix"
)

// host is a machine whose power can be cut. Of what was written to a file and not synced any subset of
// sectors survives that, each as any of the writes left it.
type host struct {
	mu    sync.Mutex
	r     *rand.Rand
	files map[string]*hostFile
	boot  uint64
	fail  func(op, name string) error // nil: nothing fails
	left  int                         // operations until the power is gone; negative: it stays
}

type hostFile struct {
	h       *host
	name    string
	inode   uint64
	data    []byte
	stable  []byte
	written map[int64][][]byte // versions of sectors that are not stable
}

func newHost(seed uint64) *host {
	return &host{r: rand.New(rand.NewPCG(seed, 1)), files: map[string]*hostFile{}, boot: 1, left: -1}
}

// cut ends the machine and starts it again.
func (h *host) cut() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.boot++
	h.left = -1
	for _, name := range slices.Sorted(keysOf(h.files)) {
		f := h.files[name]
		for _, at := range slices.Sorted(keysOf(f.written)) {
			versions := f.written[at]
			if i := h.r.IntN(len(versions) + 1); i < len(versions) {
				copy(f.stable[at*sector:], versions[i])
			}
		}
		f.data, f.written = slices.Clone(f.stable), map[int64][][]byte{}
	}
}

func keysOf[K comparable, V any](m map[K]V) func(yield func(K) bool) {
	return func(yield func(K) bool) {
		for k := range m {
			if !yield(k) {
				return
			}
		}
	}
}

var errOff = errors.New("the power is gone")

// offAfter has the power gone after so many operations.
func (h *host) offAfter(n int) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.left = n
}

func (h *host) isOff() bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.left == 0
}

func (h *host) failing(op, name string) error {
	if h.left == 0 {
		return errOff
	}
	if h.left > 0 {
		h.left--
	}
	if h.fail == nil {
		return nil
	}
	return h.fail(op, name)
}

func (h *host) Open(name string) (File, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	f := h.files[name]
	if f == nil {
		f = &hostFile{h: h, name: name, inode: uint64(len(h.files)) + 100*h.boot + h.r.Uint64N(1<<40),
			written: map[int64][][]byte{}}
		h.files[name] = f
	}
	return f, nil
}

func (h *host) Read(name string) ([]byte, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if f := h.files[name]; f != nil {
		return slices.Clone(f.data), nil
	}
	return nil, fs.ErrNotExist
}

func (h *host) Replace(name string, data []byte) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	if err := h.failing("replace", name); err != nil {
		return err
	}
	h.files[name] = &hostFile{h: h, name: name, data: slices.Clone(data), stable: slices.Clone(data),
		written: map[int64][][]byte{}}
	return nil
}

func (h *host) Remove(name string) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	delete(h.files, name)
	return nil
}

func (h *host) Temp() (File, error) {
	return &hostFile{h: h, name: "temp", written: map[int64][][]byte{}}, nil
}

func (f *hostFile) ReadAt(p []byte, off int64) (int, error) {
	f.h.mu.Lock()
	defer f.h.mu.Unlock()
	if err := f.h.failing("read", f.name); err != nil {
		return 0, err
	}
	if off+int64(len(p)) > int64(len(f.data)) {
		return copy(p, f.data[min(off, int64(len(f.data))):]), io.EOF
	}
	return copy(p, f.data[off:]), nil
}

// ReadNoWait has two thirds of the file in memory.
func (f *hostFile) ReadNoWait(p []byte, off int64) (int, error) {
	if off/4096%3 == 0 {
		return 0, unix.EAGAIN
	}
	return f.ReadAt(p, off)
}

func (f *hostFile) WriteAt(p []byte, off int64) (int, error) {
	f.h.mu.Lock()
	defer f.h.mu.Unlock()
	if err := f.h.failing("write", f.name); err != nil {
		return 0, err
	}
	if end := off + int64(len(p)); end > int64(len(f.data)) {
		f.grow(end)
	}
	copy(f.data[off:], p)
	f.touch(off, int64(len(p)))
	return len(p), nil
}

func (f *hostFile) touch(off, n int64) {
	for at := off / sector; at <= (off+n-1)/sector; at++ {
		now := slices.Clone(f.data[at*sector : min((at+1)*sector, int64(len(f.data)))])
		f.written[at] = append(f.written[at], now)
	}
}

func (f *hostFile) grow(n int64) {
	f.data = append(f.data, make([]byte, n-int64(len(f.data)))...)
	f.stable = append(f.stable, make([]byte, max(0, n-int64(len(f.stable))))...)
}

func (f *hostFile) Sync() error {
	defer func() { // others get on while a sync takes its time
		for range 50 {
			runtime.Gosched()
		}
	}()
	f.h.mu.Lock()
	defer f.h.mu.Unlock()
	if err := f.h.failing("sync", f.name); err != nil {
		return err
	}
	f.stable, f.written = slices.Clone(f.data), map[int64][][]byte{}
	return nil
}

func (f *hostFile) Punch(off, n int64) error {
	f.h.mu.Lock()
	defer f.h.mu.Unlock()
	if err := f.h.failing("punch", f.name); err != nil {
		return err
	}
	clear(f.data[off : off+n])
	f.touch(off, n)
	return nil
}

func (f *hostFile) Resize(size int64, _ bool) error {
	f.h.mu.Lock()
	defer f.h.mu.Unlock()
	if size > int64(len(f.data)) {
		f.grow(size)
	}
	f.data, f.stable = f.data[:size], f.stable[:size]
	return nil
}

func (f *hostFile) ID() (imageID, error) {
	f.h.mu.Lock()
	defer f.h.mu.Unlock()
	return imageID{Dev: 1, Inode: f.inode, Mount: f.h.boot}, nil
}

func (f *hostFile) Close() error { return nil }
