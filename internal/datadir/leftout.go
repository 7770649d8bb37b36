package datadir

import (
	"path/filepath"
	"slices"
	"strings"
)

// LeftOut returns what snapshots of a directory leave out: what its volume says, and what this site itself keeps below
// it, for a store must not grow by what it stores.
func (s *Dir) LeftOut(dir string, excludes []string) ([]string, error) {
	places, err := s.Catalog.Places()
	if err != nil {
		return nil, err
	}
	own := []string{s.Path}
	for _, path := range places {
		own = append(own, path)
	}
	out := excludes
	for _, path := range own {
		if real, err := filepath.EvalSymlinks(path); err == nil {
			path = real
		}
		rel, err := filepath.Rel(dir, path)
		if err != nil || rel == "." || !filepath.IsLocal(rel) {
			continue
		}
		if glob := "/" + globless.Replace(rel); !slices.Contains(out, glob) {
			out = append(out[:len(out):len(out)], glob)
		}
	}
	return out, nil
}

// IsOwn reports whether a directory is the site's data directory or lies in it.
func (s *Dir) IsOwn(dir string) bool {
	own := s.Path
	if real, err := filepath.EvalSymlinks(own); err == nil {
		own = real
	}
	rel, err := filepath.Rel(own, dir)
	return err == nil && filepath.IsLocal(rel)
}

// globless writes what a pattern would read as more than itself.
var globless = strings.NewReplacer(`\`, `\\`, `*`, `\*`, `?`, `\?`, `[`, `\[`, `]`, `\]`, `{`, `\{`, `}`, `\}`)
