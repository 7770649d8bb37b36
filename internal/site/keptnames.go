package site

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"candidharbor/core/names"
	"candidharbor/internal/catalog"
)

// namesDir holds the indexes of names that searches made, so that they are not made anew after
// each start. What lies there can be deleted at any time.
const namesDir = "names"

func (s *Site) namesPath(lineage string) string { return filepath.Join(s.dir, namesDir, lineage) }

// load takes up the index that an earlier search kept.
func (f *finder) load(s *Site, lineage string) {
	if f.looked || f.x != nil {
		return
	}
	f.looked = true
	raw, err := os.ReadFile(s.namesPath(lineage))
	if err == nil {
		f.x, err = names.Read(raw)
	}
	if err == nil {
		f.kept = f.weight()
	} else if !errors.Is(err, fs.ErrNotExist) {
		s.log.Info("an index of names is made anew", "lineage", lineage, "error", err)
	}
}

func (f *finder) weight() int { return f.x.Lives() + len(f.x.Snaps()) }

// grown reports whether what was found out since the index was kept is worth keeping: a
// twentieth of it, for less is found out again in no time.
func (f *finder) grown() bool {
	grown := f.weight() - f.kept
	return grown < 0 || grown > f.kept/20
}

// keep writes the index for the next start. A torn one is found out by its sum.
func (f *finder) keep(s *Site, lineage string) {
	done, err := f.enter(s.closing())
	if err != nil {
		return
	}
	defer done()
	if f.x == nil || !f.grown() {
		return
	}
	path := s.namesPath(lineage)
	out, err := os.OpenFile(path+".new", os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err == nil {
		err = errors.Join(f.x.Write(out), out.Close())
	}
	if err == nil {
		err = os.Rename(path+".new", path)
	}
	f.kept = f.weight() // also when it could not be: the next search does not try again at once
	if err != nil {
		os.Remove(path + ".new")
		s.log.Warn("an index of names could not be kept; the first search after the next start makes it anew", "lineage", lineage, "error", err)
	}
}

// forgetNames removes the indexes of volumes of which nothing is here any more.
func (s *Site) forgetNames() error {
	entries, err := os.ReadDir(filepath.Join(s.dir, namesDir))
	for _, e := range entries {
		lineage, unfinished := strings.CutSuffix(e.Name(), ".new")
		_, verr := s.cat.VolumeOfLineage(lineage)
		if unfinished || errors.Is(verr, catalog.ErrNone) {
			err = errors.Join(err, os.Remove(filepath.Join(s.dir, namesDir, e.Name())))
		}
	}
	return err
}
