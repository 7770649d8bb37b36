package datadir

import (
	"errors"
	"io/fs"
	"path/filepath"
	"strings"

	"candidharbor/internal/beneath"
	"candidharbor/internal/refusal"

	"golang.org/x/sys/unix"
)

// UnderRoot resolves a path that a person gave, which need not exist, and says below which root
// it lies.
func (s *Dir) UnderRoot(path string, mustExist bool) (resolved, root string, err error) {
	if !filepath.IsAbs(path) {
		return "", "", refusal.Badf("path %q must be absolute", path)
	}
	path = filepath.Clean(path)
	resolved, rest, err := beneath.Resolve(path)
	if err == nil && rest != "" {
		if resolved = filepath.Join(resolved, rest); mustExist || !filepath.IsLocal(rest) {
			err = unix.ENOENT
		}
	}
	for _, r := range s.Conf.Roots {
		real, rerr := filepath.EvalSymlinks(r)
		if err == nil && rerr == nil && (resolved == real || strings.HasPrefix(resolved, strings.TrimSuffix(real, "/")+"/")) {
			return resolved, real, nil
		}
	}
	// An error says nothing of what lies outside the roots, not even whether it exists.
	dir, root, oerr := s.Fixed(path)
	if oerr != nil {
		return "", "", oerr
	}
	fd, lerr := beneath.Open(root, dir)
	if lerr == nil {
		unix.Close(fd)
	}
	if foreign := (*beneath.ForeignLink)(nil); errors.As(err, &foreign) {
		return "", "", refusal.Badf("path %s: %s", path, foreign)
	}
	if err == nil || errors.Is(lerr, beneath.ErrLink) {
		return "", "", refusal.Badf("path %s leads by a link out of the roots of this site (%s), or to nothing: add a "+
			"root in site.yaml or choose another path", path, strings.Join(s.Conf.Roots, ", "))
	}
	return "", "", refusal.Badf("path %s: %s", path, Plain(err))
}

// Fixed returns where a path lies that was resolved when it was set, and the root that it is
// below. Nothing of it is resolved again: a link on it was put there since, and by whom is not
// known.
func (s *Dir) Fixed(path string) (dir, root string, err error) {
	for _, r := range s.Conf.Roots {
		real, err := filepath.EvalSymlinks(r)
		if err != nil {
			continue
		}
		for _, written := range []string{real, filepath.Clean(r)} {
			if rel, err := filepath.Rel(written, path); err == nil && filepath.IsLocal(rel) {
				return filepath.Join(real, rel), real, nil
			}
		}
	}
	return "", "", refusal.Badf("path %s is outside the roots of this site (%s): add a root in site.yaml or choose "+
		"another path", path, strings.Join(s.Conf.Roots, ", "))
}

// Plain is what went wrong with a path, without the path and the name of the call.
func Plain(err error) string {
	var pe *fs.PathError
	if errors.As(err, &pe) {
		return pe.Err.Error()
	}
	return err.Error()
}
