package store

import (
	"bytes"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"
)

// Media is where packs, roots and marks are put. Names are never used twice.
type Media interface {
	// Create begins a new thing; it appears under its name at Commit, durable and whole.
	Create(name string) (MediaWriter, error)
	// Open returns random access to a thing. It fails with fs.ErrNotExist.
	Open(name string) (MediaReader, error)
	// List returns up to limit names below dir greater than after, ascending.
	List(dir, after string, limit int) ([]string, error)
	// Remove takes things away durably. Absent ones are not an error.
	Remove(names ...string) error
	// Confirm makes a thing that is there durable under its name.
	Confirm(name string) error
	// PutAll puts many small things durably; what is there already with the same content is
	// no error.
	PutAll(names []string, data [][]byte) error
	// Replace sets a good copy in place of a small thing that was damaged, in one step.
	Replace(name string, data []byte) error
}

// MediaWriter writes one new thing. Commit fails with fs.ErrExist when the name is taken,
// and with an UnclearError when the thing is there but may not outlive a power cut.
type MediaWriter interface {
	io.Writer
	// Sync makes what was written so far durable; it may run beside Write.
	Sync() error
	Commit() error
	Abort()
}

// MediaReader reads one thing at any offset.
type MediaReader interface {
	io.ReaderAt
	io.Closer
	Size() int64
}

// dirMedia is a directory of a local filesystem.
type dirMedia struct {
	dir     string
	ballast *ballast // gives room when there is none; may be nil
}

type dirWriter struct {
	f       *os.File
	final   string
	ballast *ballast
}

func (m *dirMedia) Create(name string) (MediaWriter, error) {
	var r [6]byte
	rand.Read(r[:])
	final := filepath.Join(m.dir, name)
	f, err := os.OpenFile(filepath.Join(filepath.Dir(final), ".part-"+hex.EncodeToString(r[:])), os.O_CREATE|os.O_EXCL|
		os.O_WRONLY, 0o600)
	if errors.Is(err, fs.ErrNotExist) {
		dir := filepath.Dir(final)
		if err = os.MkdirAll(dir, 0o700); err == nil {
			if err = syncDir(filepath.Dir(dir)); err != nil {
				os.Remove(dir) // so that the next one confirms it anew
			}
		}
		if err != nil {
			return nil, err
		}
		return m.Create(name)
	}
	if err != nil {
		return nil, err
	}
	return &dirWriter{f: f, final: final, ballast: m.ballast}, nil
}

func (w *dirWriter) Write(b []byte) (int, error) {
	if w.ballast == nil {
		return w.f.Write(b)
	}
	return w.ballast.write(w.f, b)
}

func (w *dirWriter) Sync() error { return w.f.Sync() }

func (w *dirWriter) Commit() error {
	// A file whose fsync failed is abandoned, never retried: the kernel may have
	// dropped the pages that could not be written.
	if err := w.f.Sync(); err != nil {
		w.Abort()
		return err
	}
	part := w.f.Name()
	if err := w.f.Close(); err != nil {
		os.Remove(part)
		return err
	}
	if err := os.Link(part, w.final); err != nil {
		os.Remove(part)
		return err
	}
	os.Remove(part)
	return unclear(w.final, syncDir(filepath.Dir(w.final)))
}

func (w *dirWriter) Abort() {
	w.f.Close()
	os.Remove(w.f.Name())
}

type dirReader struct {
	*os.File
	size int64
}

func (r *dirReader) Size() int64 { return r.size }

func (m *dirMedia) Open(name string) (MediaReader, error) {
	f, err := os.Open(filepath.Join(m.dir, name))
	if err != nil {
		return nil, err
	}
	st, err := f.Stat()
	if err != nil {
		f.Close()
		return nil, err
	}
	return &dirReader{f, st.Size()}, nil
}

func (m *dirMedia) List(dir, after string, limit int) ([]string, error) {
	entries, err := os.ReadDir(filepath.Join(m.dir, dir))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	i := sort.Search(len(entries), func(i int) bool { return entries[i].Name() > after })
	var names []string
	for _, e := range entries[i:] {
		if len(names) == limit {
			break
		}
		if !strings.HasPrefix(e.Name(), ".") {
			names = append(names, e.Name())
		}
	}
	return names, nil
}

func (m *dirMedia) Remove(names ...string) error {
	dirs := map[string]bool{}
	for _, n := range names {
		p := filepath.Join(m.dir, n)
		if err := os.Remove(p); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		dirs[filepath.Dir(p)] = true
	}
	sync := map[string]bool{}
	for d := range dirs {
		if filepath.Dir(d) != m.dir && os.Remove(d) == nil { // a snapshot's marks, the last of them
			d = filepath.Dir(d)
		}
		sync[d] = true
	}
	for d := range sync {
		if err := syncDir(d); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// PutAll puts many small things and makes all of them durable in one go. After an error it
// is not known which of them are there.
func (m *dirMedia) PutAll(names []string, data [][]byte) error {
	parts := make([]*dirWriter, 0, len(names))
	defer func() {
		for _, p := range parts {
			p.f.Close()
			os.Remove(p.f.Name())
		}
	}()
	for i, name := range names {
		if err := os.MkdirAll(filepath.Dir(filepath.Join(m.dir, name)), 0o700); err != nil {
			return err
		}
		w, err := m.Create(name)
		if err != nil {
			return err
		}
		parts = append(parts, w.(*dirWriter))
		if _, err := w.Write(data[i]); err != nil {
			return err
		}
		if len(parts)%256 == 0 { // few files are open at a time
			for _, p := range parts[len(parts)-256:] {
				p.f.Close()
			}
		}
	}
	if err := syncFilesystem(m.dir); err != nil {
		return err
	}
	for i, p := range parts {
		if err := os.Link(p.f.Name(), p.final); err != nil {
			if !errors.Is(err, fs.ErrExist) {
				return err
			}
			if have, rerr := os.ReadFile(p.final); rerr != nil || !bytes.Equal(have, data[i]) {
				return err
			}
		}
		os.Remove(p.f.Name())
	}
	return syncFilesystem(m.dir)
}

// syncFilesystem makes all that was written to a directory's filesystem durable.
func syncFilesystem(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	return unix.Syncfs(int(d.Fd()))
}

func (m *dirMedia) Confirm(name string) error {
	p := filepath.Join(m.dir, name)
	f, err := os.Open(p)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := f.Sync(); err != nil {
		return err
	}
	return syncDir(filepath.Dir(p))
}

func (m *dirMedia) Replace(name string, data []byte) error {
	final := filepath.Join(m.dir, name)
	w, err := m.Create(filepath.Join(filepath.Dir(name), ".part-new"))
	if err != nil {
		return err
	}
	part := w.(*dirWriter)
	if _, err = w.Write(data); err == nil {
		err = part.f.Sync()
	}
	if err == nil {
		err = os.Rename(part.f.Name(), final)
	}
	if err != nil {
		w.Abort()
		return err
	}
	part.f.Close()
	return unclear(final, syncDir(filepath.Dir(final)))
}

// namesIn lists a directory; one that is not there has none. Whoever decides by what is there must know of an error: a
// list that is not known is not an empty one.
func namesIn(dir string) ([]string, error) {
	entries, err := os.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	names := make([]string, len(entries))
	for i, e := range entries {
		names[i] = e.Name()
	}
	return names, err
}

// removeParts takes away what an interrupted Create left.
func removeParts(dir string) {
	parts, _ := filepath.Glob(filepath.Join(dir, ".part-*"))
	for _, p := range parts {
		os.Remove(p)
	}
}

// SyncDir makes names in a directory durable.
func SyncDir(dir string) error { return syncDir(dir) }

func syncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Sync()
}

// ReplaceFile writes a file durably so that readers, and a start after a power cut, see
// the old or the new.
func ReplaceFile(path string, data []byte) error {
	tmp := path + ".new"
	f, err := os.OpenFile(tmp, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	if err == nil {
		err = f.Sync()
	}
	if cerr := f.Close(); err == nil {
		err = cerr
	}
	if err == nil {
		err = os.Rename(tmp, path)
	}
	if err != nil {
		os.Remove(tmp)
		return err
	}
	return unclear(path, syncDir(filepath.Dir(path)))
}

// UnclearError says that something stands under its name now, and that it is not known
// whether a power cut undoes that. What it replaced and what it names must both stay.
type UnclearError struct {
	Path string
	Err  error
}

func (e *UnclearError) Error() string {
	return fmt.Sprintf("%s was written, but the disk did not confirm its name (%v); it may be gone after a power cut",
		e.Path, e.Err)
}

func (e *UnclearError) Unwrap() error { return e.Err }

func unclear(path string, err error) error {
	if err == nil {
		return nil
	}
	return &UnclearError{path, err}
}

func putSmall(m Media, name string, data []byte) error {
	w, err := m.Create(name)
	if err != nil {
		return err
	}
	if _, err := w.Write(data); err != nil {
		w.Abort()
		return err
	}
	return w.Commit()
}

func readSmall(m Media, name string, limit int64) ([]byte, error) {
	r, err := m.Open(name)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	if r.Size() > limit {
		return nil, fmt.Errorf("%s has %d bytes, at most %d are expected", name, r.Size(), limit)
	}
	return io.ReadAll(io.NewSectionReader(r, 0, r.Size()))
}

// FullError says that a filesystem has no room left.
type FullError struct {
	Dir string
	Err error
}

func (e *FullError) Error() string {
	return fmt.Sprintf("no room left on the filesystem of %s: free some space there or remove snapshots and sweep; "+
		"nothing was changed", e.Dir)
}

func (e *FullError) Unwrap() error { return e.Err }

func explainFull(dir string, err error) error {
	if errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT) {
		return &FullError{dir, err}
	}
	return err
}
