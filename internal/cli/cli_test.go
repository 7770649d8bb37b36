package cli

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"candidharbor/internal/clock"
	"candidharbor/internal/datadir"
	"candidharbor/internal/service"
	"candidharbor/internal/site"

	"github.com/stretchr/testify/require"
)

func TestMain(m *testing.M) {
	for _, name := range []string{"CANDID_SITE", "CANDID_TOKEN", "CANDID_PIN", "CANDID_DESK"} {
		os.Unsetenv(name) // of whoever runs the tests: the commands are to meet the test's sites
	}
	time.Local = time.UTC
	os.Setenv("TZ", "UTC")
	os.Exit(m.Run())
}

// desk is an administrator's terminal before two sites whose clock stands still.
type desk struct {
	t     *testing.T
	dir   string
	clock *clock.Moved
	sites map[string]*service.Service
	at    string
	ids   map[string]string
}

func newDesk(t *testing.T) *desk {
	base := ""
	if _, err := os.Stat("/dev/shm"); err == nil {
		base = "/dev/shm"
	}
	dir, err := os.MkdirTemp(base, "desk")
	require.NoError(t, err)
	d := &desk{t: t, dir: dir, clock: clock.NewMoved(time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC)),
		sites: map[string]*service.Service{}, at: "larkfield", ids: map[string]string{}}
	t.Cleanup(func() {
		for _, s := range d.sites {
			s.Stop()
		}
		os.RemoveAll(dir)
	})
	for _, name := range []string{"larkfield", "stonewick"} {
		d.sites[name], err = service.Start(site.Options{Data: filepath.Join(dir, name), Name: name, Listen: "127.0.0.1:0",
			PeerListen: "127.0.0.1:0", Roots: []string{dir}, Setup: setup, Clock: d.clock})
		require.NoError(t, err)
	}
	d.put("share/letters/to-kew", "Dear colleague,\n")
	d.put("share/index.csv", strings.Repeat("sheet,genus\n", 500))
	return d
}

// setup is the same on every host, whatever its kernel tells of changes.
func setup(c *datadir.Config) {
	c.Journal = new(bool)
	c.Hooks = map[string]datadir.Hook{"keep": {Run: []string{"/bin/true"}}, "free": {Run: []string{"/bin/true"}}}
}

func (d *desk) put(name, text string) {
	path := filepath.Join(d.dir, name)
	require.NoError(d.t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(d.t, os.WriteFile(path, []byte(text), 0o644))
	for ; path != d.dir; path = filepath.Dir(path) {
		require.NoError(d.t, os.Chtimes(path, d.clock.Now(), d.clock.Now()))
	}
}

func (d *desk) run(line string) (out, errs string, code int) {
	var o, e bytes.Buffer
	args := []string{"candid", "--site", d.sites[d.at].Socket}
	for _, a := range regexp.MustCompile(`'[^']*'|\S+`).FindAllString(line, -1) {
		a = strings.Trim(a, "'")
		for full, name := range d.ids {
			if a == name {
				a = full
			}
		}
		args = append(args, strings.ReplaceAll(a, "DIR", d.dir))
	}
	code = Main(context.Background(), args, &o, &e)
	return o.String(), e.String(), code
}

var (
	hostKey   = regexp.MustCompile(`SHA256:[A-Za-z0-9+/]{43}`)
	hexID     = regexp.MustCompile(`\b[0-9a-f]{12}(?:[0-9a-f]{52})?\b`)
	loopback  = regexp.MustCompile(`127\.0\.0\.1:\d+`)
	freeBytes = regexp.MustCompile(`[\d.]+ [KMGT]?i?B (are )?free`)
	onDisk    = regexp.MustCompile(`on (tmpfs|ext4|overlay|xfs|btrfs)`)
	took      = regexp.MustCompile(`in ([\d.]+(µs|ms|s)|less than a second)\b`)
	rates     = regexp.MustCompile(`[\d.]+ [KM]?i?B/s\t[\d.]+ s`)
	sizes     = regexp.MustCompile(`\b(?:\d+\.\d (KiB|MiB|GiB|TiB)|\d{3,4} (B))\b`)
)

// screen is what was printed, with what differs from run to run replaced.
func (d *desk) screen(s string) string {
	s = strings.ReplaceAll(s, d.dir, "DIR")
	s = hexID.ReplaceAllStringFunc(s, func(id string) string {
		id = id[:12]
		if d.ids[id] == "" {
			d.ids[id] = fmt.Sprintf("#%d", len(d.ids)+1)
		}
		return d.ids[id]
	})
	s = hostKey.ReplaceAllString(s, "FINGERPRINT")
	s = loopback.ReplaceAllString(s, "ADDR")
	s = freeBytes.ReplaceAllString(s, "N ${1}free")
	s = onDisk.ReplaceAllString(s, "on FS")
	s = took.ReplaceAllString(s, "in T")
	s = rates.ReplaceAllString(s, "N/s\tT s")
	return sizes.ReplaceAllString(s, "N $1$2")
}

// reads runs a command that must succeed and say exactly this.
func (d *desk) reads(line, want string) {
	d.t.Helper()
	out, errs, code := d.run(line)
	require.Zero(d.t, code, "candid %s: %s", line, errs)
	got := d.screen(out)
	if os.Getenv("CANDID_SHOW") != "" { // prints what to expect, to be read before it is believed
		fmt.Printf("=== %s\n%s", line, got)
		return
	}
	want = strings.ReplaceAll(want, "\\\n", "") // a long line goes on after a backslash
	require.Equal(d.t, strings.TrimSpace(want), strings.TrimSpace(got), "candid %s", line)
}

// refuses runs a command that must fail with this code and say this.
func (d *desk) refuses(line string, code int, want string) {
	d.t.Helper()
	out, errs, got := d.run(line)
	require.Equal(d.t, code, got, "candid %s: %s%s", line, out, errs)
	require.Contains(d.t, d.screen(errs), want)
}

func (d *desk) pass(h time.Duration) { d.clock.Set(d.clock.Now().Add(h)) }

func (d *desk) step() {
	_, err := d.sites[d.at].Site.Step(context.Background(), true)
	require.NoError(d.t, err)
}
