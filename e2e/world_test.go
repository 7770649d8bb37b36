// Package e2e runs the real binary: sites as processes on loopback, called by the real
// command, killed at chosen and at random points.
package e2e

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

var build = sync.OnceValues(func() (string, error) {
	dir, err := os.MkdirTemp("", "candid-bin-")
	if err != nil {
		return "", err
	}
	bin := filepath.Join(dir, "candid")
	cmd := exec.Command("go", "build", "-o", bin, "candidharbor/cmd/candid")
	cmd.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := cmd.CombinedOutput(); err != nil {
		return "", fmt.Errorf("%w: %s", err, out)
	}
	return bin, nil
})

func TestMain(m *testing.M) {
	if len(os.Args) > 1 && os.Args[1] == "serve" {
		if err := serveFast(os.Args[2:]); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		return
	}
	for _, name := range []string{"CANDID_SITE", "CANDID_TOKEN", "CANDID_PIN", "CANDID_DESK"} {
		os.Unsetenv(name) // of whoever runs the tests: the commands are to meet the test's sites
	}
	code := m.Run()
	if bin, err := build(); err == nil {
		os.RemoveAll(filepath.Dir(bin))
	}
	os.Exit(code)
}

// proc is a served site.
type proc struct {
	server string // what serves when it is not bin
	t      testing.TB
	bin    string
	dir    string
	args   []string
	cmd    *exec.Cmd
	out    bytes.Buffer
	before bytes.Buffer // what it said before it was started again
	url    string
	token  string
}

// serve starts a site and waits until it answers.
func serve(t testing.TB, dir, name, root string) *proc {
	bin, err := build()
	require.NoError(t, err)
	p := &proc{t: t, bin: bin, dir: dir, args: []string{"serve", "--data", dir, "--name", name, "--listen", "127.0.0.1:0",
		"--root", root}}
	t.Cleanup(p.kill)
	p.start()
	return p
}

var (
	greetURL   = regexp.MustCompile(`console and API +(\S+)`)
	greetToken = regexp.MustCompile(`sign in with +(\S+)`)
)

func (p *proc) start() {
	p.before.Write(p.out.Bytes())
	p.out.Reset()
	r, w, err := os.Pipe()
	require.NoError(p.t, err)
	p.cmd = exec.Command(cmp.Or(p.server, p.bin), p.args...)
	p.cmd.Stdout, p.cmd.Stderr = w, &p.out
	require.NoError(p.t, p.cmd.Start())
	w.Close()
	ready := make(chan string, 1)
	go func() {
		var seen strings.Builder
		buf := make([]byte, 4096)
		for {
			n, err := r.Read(buf)
			seen.Write(buf[:n])
			if strings.Contains(seen.String(), "for other sites") && (strings.Contains(seen.String(), "sign in with") ||
				p.token != "") {
				select {
				case ready <- seen.String():
				default:
				}
			}
			if err != nil {
				close(ready)
				return
			}
		}
	}()
	text, ok := <-ready
	require.True(p.t, ok, "the service did not start: %s", p.out.String())
	p.url = greetURL.FindStringSubmatch(text)[1]
	if m := greetToken.FindStringSubmatch(text); m != nil {
		p.token = m[1]
	}
}

func (p *proc) kill() {
	if p.cmd != nil && p.cmd.Process != nil {
		p.cmd.Process.Kill()
		p.cmd.Wait()
		p.cmd = nil
	}
}

func (p *proc) stop() {
	require.NoError(p.t, p.cmd.Process.Signal(syscall.SIGTERM))
	require.NoError(p.t, p.cmd.Wait())
	p.cmd = nil
}

// try runs a command against the site.
func (p *proc) try(args ...string) (string, error) { return p.tell("", args...) }

// typed runs a command that reads what it asks for.
func (p *proc) typed(text string, args ...string) string {
	out, err := p.tell(text, args...)
	require.NoError(p.t, err, p.out.String())
	return out
}

func (p *proc) tell(text string, args ...string) (string, error) {
	cmd := exec.Command(p.bin, append([]string{"--site", "unix:" + filepath.Join(p.dir, "candid.sock")}, args...)...)
	var out, errs bytes.Buffer
	cmd.Stdin, cmd.Stdout, cmd.Stderr = strings.NewReader(text), &out, &errs
	if err := cmd.Run(); err != nil {
		return out.String(), fmt.Errorf("candid %s: %w: %s", strings.Join(args, " "), err, errs.String())
	}
	return out.String(), nil
}

func (p *proc) run(args ...string) string {
	out, err := p.try(args...)
	require.NoError(p.t, err, p.out.String())
	return out
}

func (p *proc) json(into any, args ...string) {
	require.NoError(p.t, json.Unmarshal([]byte(p.run(append([]string{"--json"}, args...)...)), into))
}

type snap struct {
	ID    string    `json:"id"`
	Taken time.Time `json:"taken"`
	Note  string    `json:"note"`
	State string    `json:"state"`
}

func (p *proc) snapshots(volume string) (list []snap) {
	p.json(&list, "snapshot", "list", volume)
	return list
}

func pair(t testing.TB, from, to *proc, labels string) {
	inv := strings.TrimSpace(to.run("site", "invite"))
	from.run("site", "pair", inv)
	from.run("route", "add", "to-dr", "--to", "stonewick", "--volumes", labels)
}

// digest describes a directory independently of the program.
func digest(t testing.TB, dir string) string {
	cmd := exec.Command("sh", "-c",
		`find . -print0 | LC_ALL=C sort -z | tar --null --no-recursion --xattrs --acls --numeric-owner --format=pax \
			--pax-option=delete=atime,delete=ctime -cf - -T - | sha256sum`)
	cmd.Dir = dir
	out, err := cmd.Output()
	require.NoError(t, err)
	return string(out)
}

func same(t testing.TB, a, b string) {
	out, err := exec.Command("diff", "-r", "--no-dereference", a, b).CombinedOutput()
	require.NoError(t, err, string(out))
	require.Equal(t, digest(t, a), digest(t, b))
}

func goroot(t testing.TB) string {
	out, err := exec.Command("go", "env", "GOROOT").Output()
	require.NoError(t, err)
	return strings.TrimSpace(string(out))
}

func shell(t testing.TB, dir, script string) {
	cmd := exec.Command("sh", "-ec", script)
	cmd.Dir = dir
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
}

// chance is how many rounds a random test goes, and its dice: by NAME_ROUNDS and NAME_SEED
// of the environment, else as many as given and new each time.
func chance(t testing.TB, name string, rounds int) (int, *rand.Rand) {
	if n, err := strconv.Atoi(os.Getenv(name + "_ROUNDS")); err == nil {
		rounds = n
	}
	seed := uint64(time.Now().UnixNano())
	if n, err := strconv.ParseUint(os.Getenv(name+"_SEED"), 10, 64); err == nil {
		seed = n
	}
	t.Logf("seed %d, %d rounds", seed, rounds)
	return rounds, rand.New(rand.NewPCG(seed, 1))
}
