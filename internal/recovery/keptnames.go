package recovery

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"candidharbor/core/names"
	"candidharbor/internal/catalog"
	"candidharbor/internal/datadir"
)

// NamesPath is the file in which a finder is kept.
func (s *Service) NamesPath(lineage string) string {
	return filepath.Join(s.Path, datadir.NamesDir, lineage)
}

// Load takes up the index that an earlier search kept.
func (f *Finder) Load(s *Service, lineage string) {
	if f.looked || f.X != nil {
		return
	}
	f.looked = true
	raw, err := os.ReadFile(s.NamesPath(lineage))
	if err == nil {
		f.X, err = names.Read(raw)
	}
	if err == nil {
		f.kept = f.weight()
	} else if !errors.Is(err, fs.ErrNotExist) {
		s.Log.Info("an index of names is made anew", "lineage", lineage, "error", err)
	}
}

func (f *Finder) weight() int { return f.X.Lives() + len(f.X.Snaps()) }

// Grown reports whether what was found out since the index was kept is worth keeping: a
// twentieth of it, for less is found out again in no time.
func (f *Finder) Grown() bool {
	grown := f.weight() - f.kept
	return grown < 0 || grown > f.kept/20
}

// Keep writes the index for the next start. A torn one is found out by its sum.
func (f *Finder) Keep(s *Service, lineage string) {
	done, err := f.enter(s.run.Context())
	if err != nil {
		return
	}
	defer done()
	if f.X == nil || !f.Grown() {
		return
	}
	path := s.NamesPath(lineage)
	out, err := os.OpenFile(path+".new", os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err == nil {
		err = errors.Join(f.X.Write(out), out.Close())
	}
	if err == nil {
		err = os.Rename(path+".new", path)
	}
	f.kept = f.weight() // also when it could not be: the next search does not try again at once
	if err != nil {
		os.Remove(path + ".new")
		s.Log.Warn("an index of names could not be kept; the first search after the next start makes it anew", "lineage",
			lineage, "error", err)
	}
}

// ForgetNames removes the indexes of volumes of which nothing is here any more.
func (s *Service) ForgetNames() error {
	entries, err := os.ReadDir(filepath.Join(s.Path, datadir.NamesDir))
	for _, e := range entries {
		lineage, unfinished := strings.CutSuffix(e.Name(), ".new")
		_, verr := s.Catalog.VolumeOfLineage(lineage)
		if unfinished || errors.Is(verr, catalog.ErrNone) {
			err = errors.Join(err, os.Remove(filepath.Join(s.Path, datadir.NamesDir, e.Name())))
		}
	}
	return err
}
