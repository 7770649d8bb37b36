package main

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
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
	for _, how := range []struct {
		what   string
		change func(path string, f *os.File) error
	}{{"written to", func(_ string, f *os.File) error {
		_, err := f.WriteAt([]byte("x"), 0)
		return err
	}}, {"made anew", func(path string, _ *os.File) error { return os.WriteFile(path, []byte("x"), 0o644) }}} {
		share, err := b.busy(s, how.change)
		if err != nil {
			return err
		}
		told("a neighbour's files "+how.what+" 50,000 times a second", fmt.Sprintf("%.1f %%", share*100), "<= 5 % of a core")
	}
	return nil
}

const (
	busyFor   = 10 * time.Second
	busyStep  = 10 * time.Millisecond
	busyFiles = 1000
	atOnce    = 500 // of each step
)

// busy changes files beside what a site follows, on the same filesystem, and returns what part of a core that takes the
// site.
func (b *bench) busy(s *site, change func(path string, f *os.File) error) (float64, error) {
	dir := filepath.Join(b.base, "neighbour")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return 0, err
	}
	defer os.RemoveAll(dir)
	var files []*os.File
	for i := range busyFiles {
		f, err := os.Create(filepath.Join(dir, fmt.Sprint(i)))
		if err != nil {
			return 0, err
		}
		defer f.Close()
		files = append(files, f)
	}
	before, err := s.ticks()
	if err != nil {
		return 0, err
	}
	began := time.Now()
	tick := time.NewTicker(busyStep)
	defer tick.Stop()
	for n := 0; time.Since(began) < busyFor; {
		<-tick.C
		for range atOnce {
			f := files[n%busyFiles]
			if err := change(f.Name(), f); err != nil {
				return 0, err
			}
			n++
		}
	}
	took := time.Since(began)
	after, err := s.ticks()
	return float64(after-before) / 100 / took.Seconds(), err
}

// ticks is the processor time that a site has used, in hundredths of a second.
func (s *site) ticks() (int64, error) {
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", s.cmd.Process.Pid))
	if err != nil {
		return 0, err
	}
	_, rest, _ := strings.Cut(string(raw), ") ")
	f := strings.Fields(rest)
	user, err := strconv.ParseInt(f[11], 10, 64)
	if err != nil {
		return 0, err
	}
	system, err := strconv.ParseInt(f[12], 10, 64)
	return user + system, err
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
