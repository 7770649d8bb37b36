package store

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"candidharbor/core/object"
)

// Findings are what opening a store, or working with it, met that a person should know.
type Finding struct {
	Code  string `json:"code"`
	File  string `json:"file"`
	Bytes int64  `json:"bytes,omitempty"` // that could not be read, or were put aside
}

// The codes of findings.
const (
	FindLog     = "log-damaged"      // acknowledged commits in the log are damaged or missing
	FindIndex   = "index-rebuilt"    // the index was made anew from packs and logs
	FindAside   = "pack-put-aside"   // a pack that the manifest does not name
	FindDamaged = "damage-forgotten" // the list of damaged objects is damaged itself
)

func (s *Store) find(f Finding) {
	s.mu.Lock()
	s.findings = append(s.findings, f)
	s.mu.Unlock()
	s.log.Error("the store was found damaged; a verification tells which snapshots are concerned", "code", f.Code, "file",
		f.File, "bytes", f.Bytes)
}

// Findings returns what was found since the store was opened.
func (s *Store) Findings() []Finding {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return append([]Finding{}, s.findings...)
}

// raiseNumbers makes sure that no number is given that any file of the store has, named
// by the manifest or not.
func (s *Store) raiseNumbers() error {
	for _, d := range []string{"packs", "index", "log", "aside"} {
		names, err := namesIn(filepath.Join(s.dir, d))
		if err != nil {
			return err
		}
		for _, name := range names {
			var side rune
			var pack uint32
			var file uint64
			if n, _ := fmt.Sscanf(name, "%c-%08d-", &side, &pack); n == 2 && pack < logBit-1 {
				s.numbers.raise(pack+1, 0)
			} else if n, _ := fmt.Sscanf(name, "%d.", &file); n == 1 && file < logBit-1 {
				s.numbers.raise(0, file+1)
			}
		}
	}
	return nil
}

// sortLeftovers puts aside packs that the manifest does not name, and removes derived
// files that it does not. Where a snapshot or a log shows that the manifest is older than
// what lies beside it, the index is to be rebuilt from all there is.
func (s *Store) sortLeftovers() error {
	named := map[string]bool{filepath.Base(s.ordinalsPath(s.epoch)): true}
	for _, p := range s.files.Packs {
		named[filepath.Base(p.Name)] = true
	}
	for _, r := range s.files.Runs {
		named[r] = true
	}
	for _, n := range s.files.Logs {
		named[logName(n)] = true
	}
	unnamed := func(dir string) (left []string, err error) {
		names, err := namesIn(filepath.Join(s.dir, dir))
		for _, name := range names {
			if !named[name] {
				left = append(left, filepath.Join(dir, name))
			}
			delete(named, name)
		}
		return left, err
	}
	packs, perr := unnamed("packs")
	logs, lerr := unnamed("log")
	derived, derr := unnamed("index")
	if err := errors.Join(perr, lerr, derr); err != nil {
		return err
	}
	for name := range named {
		if strings.HasSuffix(name, ".pack") {
			return fmt.Errorf("%w: the pack %s is missing", errIndex, name)
		}
	}
	for _, name := range logs {
		if err := s.sortLog(name); err != nil {
			return err
		}
	}
	if len(packs) > 0 {
		id, ok, err := s.lacking()
		if err != nil {
			return err
		}
		if ok {
			return fmt.Errorf("%w: packs are there that the manifest does not name, and the snapshot %s is not whole "+
				"without them", errIndex, id)
		}
	}
	for _, name := range packs {
		s.putAside(name)
	}
	for _, name := range derived {
		os.Remove(filepath.Join(s.dir, name))
	}
	return nil
}

// sortLog removes a log that the manifest does not name when all it holds is here.
func (s *Store) sortLog(name string) error {
	f, err := os.Open(filepath.Join(s.dir, name))
	if err != nil {
		return err
	}
	defer f.Close()
	raw, err := readWhole(f)
	if err != nil {
		return err
	}
	more := false
	bad, err := scanLog(raw, func(_ uint32, entries []indexEntry) error {
		for i := range entries {
			if entries[i].id.IsZero() {
				continue
			}
			if _, ok, err := s.lookup(&entries[i].id); err != nil || !ok {
				more = true
				return err
			}
		}
		return nil
	})
	switch {
	case err != nil:
		return err
	case more: // or dead by now: then nothing reaches it, and a rebuild leaves it out
		id, ok, err := s.lacking()
		if err != nil {
			return err
		}
		if ok {
			return fmt.Errorf("%w: %s is not named by the manifest, and the snapshot %s is not whole without it", errIndex, name,
				id)
		}
		fallthrough
	case len(bad) > 0:
		s.putAside(name)
		return nil
	}
	return os.Remove(f.Name())
}

// lacking returns a snapshot whose tree is not in the index.
func (s *Store) lacking() (id object.ID, lacks bool, err error) {
	for _, id := range s.Roots() {
		root, _, err := s.Root(id)
		if passing(err) {
			return id, false, err
		}
		if err != nil { // a verification tells
			continue
		}
		for _, top := range tops(root) {
			if _, ok, err := s.lookup(&top); err != nil || !ok {
				return id, err == nil, err
			}
		}
	}
	return object.ID{}, false, nil
}

func tops(root *object.Root) []object.ID {
	if root.HasLinks {
		return []object.ID{root.Tree(), root.Links}
	}
	return []object.ID{root.Tree()}
}

// putAside moves a file out of the way. It stays until a verification has shown that all
// snapshots are whole without it.
func (s *Store) putAside(name string) {
	from, to := filepath.Join(s.dir, name), filepath.Join(s.dir, "aside", filepath.Base(name))
	st, err := os.Stat(from)
	if err == nil {
		err = errors.Join(os.MkdirAll(filepath.Dir(to), 0o700), os.Rename(from, to))
	}
	if err != nil {
		s.log.Error("a file could not be put aside; it stays where it is", "file", name, "error", err)
		return
	}
	s.log.Info("a file that the manifest does not name was put aside until a verification has found every snapshot whole",
		"file", name, "bytes", st.Size())
}

// Aside returns the bytes of what was put aside.
func (s *Store) Aside() (n int64) {
	names, _ := s.asideNames() // a figure for people alone
	for _, name := range names {
		if st, err := os.Stat(name); err == nil {
			n += st.Size()
		}
	}
	return n
}

func (s *Store) asideNames() ([]string, error) {
	names, err := namesIn(filepath.Join(s.dir, "aside"))
	for i := range names {
		names[i] = filepath.Join(s.dir, "aside", names[i])
	}
	return names, err
}

// bringBack moves packs and logs that were put aside to where a rebuild reads them.
func (s *Store) bringBack() error {
	names, err := s.asideNames()
	if err != nil {
		return err
	}
	for _, from := range names {
		var dir string
		switch filepath.Ext(from) {
		case ".log":
			dir = "log"
		case ".pack":
			dir = "packs"
		default: // a mark
			continue
		}
		if err := os.Rename(from, filepath.Join(s.dir, dir, filepath.Base(from))); err != nil {
			return err
		}
	}
	return nil
}
