package store

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"sync/atomic"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

// faulty fails one operation of a medium: before anything of it was done, or after all of it
// was, when nobody has been told.
type faulty struct {
	Media
	at    int64 // which operation
	after bool
	err   error
	count atomic.Int64
	met   atomic.Bool
}

func (m *faulty) do(name string, act func() error) error {
	if m.count.Add(1) != m.at {
		return act()
	}
	m.met.Store(true)
	if !m.after {
		return m.err
	}
	if err := act(); err != nil {
		return err
	}
	return unclear(name, m.err)
}

func (m *faulty) Create(name string) (w MediaWriter, err error) {
	if m.count.Add(1) == m.at && !m.after {
		m.met.Store(true)
		return nil, m.err
	}
	if w, err = m.Media.Create(name); err != nil {
		return nil, err
	}
	return &faultyWriter{w, m, name}, nil
}

func (m *faulty) Open(name string) (r MediaReader, err error) {
	if m.count.Add(1) == m.at {
		m.met.Store(true)
		return nil, m.err
	}
	return m.Media.Open(name)
}

func (m *faulty) List(dir, after string, limit int) (names []string, err error) {
	if m.count.Add(1) == m.at {
		m.met.Store(true)
		return nil, m.err
	}
	return m.Media.List(dir, after, limit)
}

func (m *faulty) Remove(names ...string) error {
	return m.do("names", func() error { return m.Media.Remove(names...) })
}

func (m *faulty) Confirm(name string) error {
	return m.do(name, func() error { return m.Media.Confirm(name) })
}

func (m *faulty) PutAll(names []string, data [][]byte) error {
	return m.do("names", func() error { return m.Media.PutAll(names, data) })
}

func (m *faulty) Replace(name string, data []byte) error {
	return m.do(name, func() error { return m.Media.Replace(name, data) })
}

type faultyWriter struct {
	MediaWriter
	m    *faulty
	name string
}

func (w *faultyWriter) Write(b []byte) (n int, err error) {
	if w.m.count.Add(1) != w.m.at {
		return w.MediaWriter.Write(b)
	}
	w.m.met.Store(true)
	if w.m.after { // a part of it
		n, _ = w.MediaWriter.Write(b[:len(b)/2])
	}
	return n, w.m.err
}

func (w *faultyWriter) Sync() error {
	return w.m.do(w.name, w.MediaWriter.Sync)
}

func (w *faultyWriter) Commit() error {
	return w.m.do(w.name, w.MediaWriter.Commit)
}

// Every operation of the medium fails in turn during a commit, a seal, a sweep and a removal,
// before it was done or after, and then the power goes: as TestFileOperationsFail, of a medium
// that is no directory too.
func TestMediaFails(t *testing.T) {
	base, err := os.MkdirTemp(memoryDir(), "media")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(base) })
	dir, model := faultStore(t, base)
	runs := 0
	for step, act := range faultSteps {
		if step == "heal" {
			continue // has a second store; see TestFileOperationsFail
		}
		for i, fault := range []error{syscall.EIO, syscall.ENOSPC, syscall.EMFILE} {
			for _, after := range []bool{false, true} {
				for k := int64(1 + i); ; k++ {
					if long == 1 {
						k += int64(i) + 2
					}
					work, cut := filepath.Join(base, "work"), filepath.Join(base, "cut")
					copyDir(t, dir, work)
					s, err := Open(work, Options{Key: testKey})
					require.NoError(t, err)
					m := &faulty{Media: s.media, at: k, after: after, err: fault}
					s.media = m
					var out bytes.Buffer
					say := func(format string, args ...any) { fmt.Fprintf(&out, format+"\n", args...) }
					if err := act(s, say); err != nil {
						say("SAYS %v", err)
					}
					met := m.met.Load()
					copyDir(t, work, cut) // what is there when the power goes
					s.media = m.Media
					_ = s.Close()
					if !met {
						break
					}
					runs++
					requireIntact(t, cut, model, out.Bytes(), fmt.Sprintf("%s, %v at operation %d, after %v", step, fault, k, after))
				}
			}
		}
	}
	require.Greater(t, runs, 20)
	t.Logf("%d faults", runs)
}
