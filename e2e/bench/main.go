// Command bench measures the real binary side by side with plain system tools, in one
// run, and prints ratios of medians.
package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"candidharbor/api"
)

const rounds = 5

type bench struct {
	base string
	bin  string
	tree string
	n    int
}

func main() {
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run() error {
	// In memory where there is one: a disk shared with others measures the others.
	// CANDID_BENCH_DIR names another place.
	where := os.Getenv("CANDID_BENCH_DIR")
	if st, err := os.Stat("/dev/shm"); where == "" && err == nil && st.IsDir() {
		where = "/dev/shm"
	}
	base, err := os.MkdirTemp(where, "candid-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(base)
	bin, err := filepath.Abs("bin/candid")
	if err != nil {
		return err
	}
	root, err := exec.Command("go", "env", "GOROOT").Output()
	if err != nil {
		return err
	}
	b := &bench{base: base, bin: bin, tree: filepath.Join(base, "tree")}
	if err := b.sh("cp -a " + strings.TrimSpace(string(root)) +
		" tree && find tree -type f | wc -l && du -sm tree"); err != nil {
		return err
	}
	fmt.Println("measured in", base)
	fmt.Printf("%-58s %12s %12s %7s  %s\n", "what", "candid", "against", "ratio", "reach")
	only := os.Getenv("CANDID_BENCH_ONLY")
	for _, step := range []struct {
		name string
		run  func() error
	}{{"first", b.first}, {"unchanged", b.unchanged}, {"journal", b.journal}, {"restore", b.restore}, {"carry", b.carry},
		{"line", b.line}, {"receiving", b.receiving}, {"views", b.views}, {"change", b.change}, {"disks", b.disks},
		{"stored", b.stored}, {"scattered", b.scattered}, {"clones", b.clones}, {"system", b.system},
		{"database", b.database}, {"floors", b.floors}} {
		if only != "" && !slices.Contains(strings.Split(only, ","), step.name) {
			continue
		}
		if err := step.run(); err != nil {
			return err
		}
	}
	return nil
}

func (b *bench) out(script string) (string, error) {
	cmd := exec.Command("sh", "-ec", script)
	cmd.Dir = b.base
	out, err := cmd.Output()
	return string(out), err
}

func (b *bench) sh(script string) error {
	cmd := exec.Command("sh", "-ec", script)
	cmd.Dir = b.base
	out, err := cmd.CombinedOutput()
	if err != nil {
		return fmt.Errorf("%s: %w: %s", script, err, out)
	}
	return nil
}

func median(ds []time.Duration) time.Duration {
	slices.Sort(ds)
	return ds[len(ds)/2]
}

func timed(f func() error) (time.Duration, error) {
	begin := time.Now()
	err := f()
	return time.Since(begin), err
}

// told prints a figure that is compared with nothing.
func told(what string, figure any, reach string) {
	fmt.Printf("%-58s %12s %12s %7s  %s\n", what, fmt.Sprint(figure), "", "", reach)
}

func row(what string, ours, theirs time.Duration, reach string) {
	fmt.Printf("%-58s %12s %12s %7.2f  %s\n", what, ours.Round(100*time.Microsecond), theirs.Round(100*time.Microsecond),
		float64(ours)/float64(theirs), reach)
}

// site is a served site.
type site struct {
	b    *bench
	dir  string
	cmd  *exec.Cmd
	name string
	said string // when it started: its address and token
}

func (b *bench) serve(name string, config ...string) (*site, error) {
	b.n++
	s := &site{b: b, name: name, dir: filepath.Join(b.base, fmt.Sprintf("site%d", b.n))}
	if len(config) > 0 {
		all := append([]string{"name: " + name, "listen: 127.0.0.1:0", "roots: [" + b.base + "]"}, config...)
		if !strings.Contains(strings.Join(config, "\n"), "peer_listen") {
			all = append(all, "peer_listen: 127.0.0.1:0")
		}
		if err := os.Mkdir(s.dir, 0o700); err != nil {
			return nil, err
		}
		if err := os.WriteFile(filepath.Join(s.dir, "site.yaml"), []byte(strings.Join(all, "\n")+"\n"), 0o600); err != nil {
			return nil, err
		}
	}
	s.cmd = exec.Command(b.bin, "serve", "--data", s.dir, "--name", name, "--listen", "127.0.0.1:0", "--root", b.base)
	out, err := s.cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := s.cmd.Start(); err != nil {
		return nil, err
	}
	buf := make([]byte, 4096)
	seen := ""
	for !strings.Contains(seen, "sign in with") {
		n, err := out.Read(buf)
		if err != nil {
			return nil, fmt.Errorf("the service did not start: %w", err)
		}
		seen += string(buf[:n])
	}
	go io.Copy(io.Discard, out)
	s.said = seen
	return s, nil
}

func (s *site) end() {
	s.cmd.Process.Kill()
	s.cmd.Wait()
	os.RemoveAll(s.dir)
}

func (s *site) run(args ...string) (string, error) {
	cmd := exec.Command(s.b.bin, append([]string{"--site", "unix:" + s.dir + "/candid.sock"}, args...)...)
	out, err := cmd.CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("candid %v: %w: %s", args, err, out)
	}
	return string(out), nil
}

// took returns how long a run took inside the service.
func (s *site) took(args ...string) (time.Duration, api.Run, error) {
	out, err := s.run(append([]string{"--json"}, args...)...)
	var r api.Run
	if err == nil {
		err = json.Unmarshal([]byte(out), &r)
	}
	if err != nil {
		return 0, r, err
	}
	if r.Began == nil || r.Ended == nil {
		return 0, r, errors.New("the run has no times")
	}
	return r.Ended.Sub(*r.Began), r, nil
}

// first compares a first snapshot, durable, with an archive that is not.
func (b *bench) first() error {
	var ours, theirs []time.Duration
	var size, settled int64
	for i := range rounds {
		d, err := timed(func() error { return b.sh("tar -cf - tree | zstd -q -1 -T2 > archive.zst") })
		if err != nil {
			return err
		}
		theirs = append(theirs, d)
		s, err := b.serve("larkfield")
		if err != nil {
			return err
		}
		if _, err := s.run("volume", "add", "v", "--path", b.tree); err != nil {
			return err
		}
		d, _, err = s.took("snapshot", "take", "v")
		if err != nil {
			return err
		}
		ours = append(ours, d)
		if i == rounds-1 {
			if settled, err = s.settled(); err != nil {
				return err
			}
		}
		s.end()
	}
	st, err := os.Stat(filepath.Join(b.base, "archive.zst"))
	if err != nil {
		return err
	}
	size = st.Size()
	row("first snapshot : tar | zstd -1 -T2", median(ours), median(theirs), "<= 0.8")
	fmt.Printf("%-58s %12d %12d %7.2f  %s\n", "stored bytes once settled : that archive", settled, size,
		float64(settled)/float64(size), "<= 1")
	return nil
}

func (b *bench) unchanged() error {
	s, err := b.serve("larkfield", "journal: false")
	if err != nil {
		return err
	}
	defer s.end()
	if _, err := s.run("volume", "add", "v", "--path", b.tree); err != nil {
		return err
	}
	if _, err := s.run("snapshot", "take", "v"); err != nil {
		return err
	}
	var ours, theirs []time.Duration
	for range 2*rounds + 1 {
		d, err := timed(func() error { return b.sh(`find tree -printf '%s %T@ %C@ %i\n' > /dev/null`) })
		if err != nil {
			return err
		}
		theirs = append(theirs, d)
		d, _, err = s.took("snapshot", "take", "v")
		if err != nil {
			return err
		}
		ours = append(ours, d)
	}
	row("snapshot with nothing changed, by scan : find", median(ours), median(theirs), "<= 1.5")
	return nil
}

func (b *bench) restore() error {
	s, err := b.serve("larkfield")
	if err != nil {
		return err
	}
	defer s.end()
	if _, err := s.run("volume", "add", "v", "--path", b.tree); err != nil {
		return err
	}
	if _, err := s.run("snapshot", "take", "v"); err != nil {
		return err
	}
	var ours, theirs []time.Duration
	for i := range rounds {
		// Trees are not deleted between rounds: that would slow the next one.
		d, err := timed(func() error {
			return b.sh(fmt.Sprintf("mkdir x%d && tar -xf archive.zst -C x%d --zstd && sync -f x%d", i, i, i))
		})
		if err != nil {
			return err
		}
		theirs = append(theirs, d)
		d, _, err = s.took("restore", "v", "--at", "latest", "--to", filepath.Join(b.base, fmt.Sprint("y", i)))
		if err != nil {
			return err
		}
		ours = append(ours, d)
	}
	row("restore of the whole tree, durable : tar -x and sync -f", median(ours), median(theirs), "<= 0.9")
	return nil
}
