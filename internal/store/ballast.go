package store

import (
	"errors"
	"io"
	"os"
	"path/filepath"
	"sync"
	"syscall"

	"golang.org/x/sys/unix"
)

// ballast is capacity of the filesystem that nobody but the store may use: a file of real
// blocks that shrinks as the store grows, so that both together are the capacity.
type ballast struct {
	mu       sync.Mutex
	path     string
	capacity int64
	held     int64
}

// ballastStep is the least that is given up at once when the filesystem is full.
const ballastStep = 64 << 20

// SetBallast sets the capacity in bytes that is the store's alone; 0 gives it up.
func (s *Store) SetBallast(capacity int64) error {
	b := &s.ballast
	b.mu.Lock()
	b.path = filepath.Join(s.dir, "ballast")
	b.capacity = capacity
	if st, err := os.Stat(b.path); err == nil {
		b.held = st.Size()
	}
	b.mu.Unlock()
	return s.KeepBallast()
}

// KeepBallast brings the ballast to what is left of its capacity. It takes no more than
// there is to take without filling the filesystem.
func (s *Store) KeepBallast() error {
	stored := s.Usage().StoredBytes
	b := &s.ballast
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.path == "" {
		return nil
	}
	want := max(0, b.capacity-stored)
	if want > b.held {
		want = min(want, b.held+max(0, freeBytes(s.dir)-4*reserveBytes))
	}
	return b.resize(want)
}

func (b *ballast) resize(want int64) error {
	if want == b.held {
		return nil
	}
	if want == 0 {
		b.held = 0
		return os.Remove(b.path)
	}
	f, err := os.OpenFile(b.path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	defer f.Close()
	if want > b.held {
		err = unix.Fallocate(int(f.Fd()), 0, b.held, want-b.held)
	}
	if err == nil {
		err = f.Truncate(want)
	}
	if err != nil {
		return errors.Join(err, f.Truncate(b.held)) // what a failed call took besides
	}
	b.held = want
	return nil
}

// give gives some of the ballast up to a write that found no room; it reports whether
// there was any.
func (b *ballast) give(need int) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.held == 0 {
		return false
	}
	return b.resize(max(0, b.held-max(ballastStep, 2*int64(need)))) == nil
}

// Ballast returns the bytes set aside now, and those that should be.
func (s *Store) Ballast() (held, want int64) {
	stored := s.Usage().StoredBytes
	s.ballast.mu.Lock()
	defer s.ballast.mu.Unlock()
	return s.ballast.held, max(0, s.ballast.capacity-stored)
}

// write writes all of b, taking from the ballast when the filesystem is full.
func (b *ballast) write(w io.Writer, data []byte) (n int, err error) {
	for {
		k, err := w.Write(data[n:])
		if n += k; err == nil || !errors.Is(err, syscall.ENOSPC) || !b.give(len(data)-n) {
			return n, err
		}
	}
}

// writeAt is write at an offset.
func (b *ballast) writeAt(f io.WriterAt, data []byte, off int64) (n int, err error) {
	for {
		k, err := f.WriteAt(data[n:], off+int64(n))
		if n += k; err == nil || !errors.Is(err, syscall.ENOSPC) || !b.give(len(data)-n) {
			return n, err
		}
	}
}
