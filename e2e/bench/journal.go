package main

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"candidharbor/api"
)

// journal measures snapshots that look only where something changed, over a tree and over
// ten copies of it, against find over the tree.
func (b *bench) journal() error {
	if err := b.sh("mkdir ten && for i in 0 1 2 3 4 5 6 7 8 9; do cp -a tree ten/$i; done"); err != nil {
		return err
	}
	defer os.RemoveAll(filepath.Join(b.base, "ten"))
	s, err := b.serve("larkfield")
	if err != nil {
		return err
	}
	defer s.end()
	var find []time.Duration
	for range 2*rounds + 1 {
		d, err := timed(func() error { return b.sh(`find tree -printf '%s %T@ %C@ %i\n' > /dev/null`) })
		if err != nil {
			return err
		}
		find = append(find, d)
	}
	files, err := b.some(10)
	if err != nil {
		return err
	}
	one, err := b.followed(s, "one", b.tree, files)
	if err != nil {
		return err
	}
	for i := range files { // the same directories, each in a copy of its own
		files[i] = filepath.Join(fmt.Sprint(i), files[i])
	}
	ten, err := b.followed(s, "ten", filepath.Join(b.base, "ten"), files)
	if err != nil {
		return err
	}
	row("snapshot with nothing changed, by journal : find", one[0], median(find), "<= 0.1")
	row("snapshot with 10 files changed, by journal : find", one[1], median(find), "<= 0.1")
	row("the same, ten times the files : once the files", ten[1], one[1], "flat")
	return nil
}

// followed returns how long snapshots take of which nothing, and 10 files, changed.
func (b *bench) followed(s *site, name, dir string, files []string) (took [2]time.Duration, err error) {
	if _, err := s.run("volume", "add", name, "--path", dir); err != nil {
		return took, err
	}
	for range 2 {
		if _, err := s.run("snapshot", "take", name); err != nil {
			return took, err
		}
	}
	var v api.Volume
	out, err := s.run("--json", "volume", "show", name)
	if err == nil {
		err = json.Unmarshal([]byte(out), &v)
	}
	if err != nil {
		return took, err
	}
	if v.Following != "by the change journal" {
		return took, fmt.Errorf("%s is read %s", dir, v.Following)
	}
	for what := range took {
		var all []time.Duration
		for i := range 2*rounds + 1 {
			for _, f := range files[:10*what] {
				if err := os.WriteFile(filepath.Join(dir, f), []byte(fmt.Sprintln(name, i)), 0o644); err != nil {
					return took, err
				}
			}
			d, _, err := s.took("snapshot", "take", name)
			if err != nil {
				return took, err
			}
			all = append(all, d)
		}
		took[what] = median(all)
	}
	return took, nil
}

// some returns n files spread over the tree.
func (b *bench) some(n int) ([]string, error) {
	var all []string
	err := filepath.WalkDir(b.tree, func(p string, d os.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() && strings.HasSuffix(p, "_test.go") {
			rel, err := filepath.Rel(b.tree, p)
			all = append(all, rel)
			return err
		}
		return err
	})
	if err != nil || len(all) < n {
		return nil, fmt.Errorf("too few files in %s: %w", b.tree, err)
	}
	out := make([]string, n)
	for i := range out {
		out[i] = all[i*len(all)/n]
	}
	return out, nil
}
