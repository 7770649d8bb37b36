package datadir

import (
	"crypto/tls"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"candidharbor/core/retention"
	"candidharbor/internal/policy"
	"candidharbor/internal/refusal"
	"candidharbor/internal/store"

	"github.com/goccy/go-yaml"
)

// Config is site.yaml.
type Config struct {
	Name          string   `yaml:"name"`
	Listen        string   `yaml:"listen"`         // console and API
	PeerListen    string   `yaml:"peer_listen"`    // other sites
	PeerAddresses []string `yaml:"peer_addresses"` // how other sites reach peer_listen; empty: as it listens
	Roots         []string `yaml:"roots"`          // what may be read and written
	// DiskListen is where hosts with certificates open disks; empty: nowhere but on this host.
	DiskListen string `yaml:"disk_listen,omitempty"`
	// Hosts are further names under which browsers reach the console, such as a proxy's.
	Hosts   []string `yaml:"hosts,omitempty"`
	TLSCert string   `yaml:"tls_cert"`
	TLSKey  string   `yaml:"tls_key"`
	// Floor is how long nothing is removed after it was taken or arrived here, whoever
	// asks, such as 30 days. No policy, person or other site can undercut it.
	Floor string `yaml:"floor,omitempty"`
	// StartAlone says whether the site serves volumes that others may take over before any of those answered after a
	// start; nil: it does.
	StartAlone *bool `yaml:"start_alone,omitempty"`
	// Alone says what the active site does when it hears nobody: go on, which is the default. "stop after" a time is
	// reserved for a release that keeps it.
	Alone string `yaml:"alone,omitempty"`
	// LeftBehind is how long snapshots are kept without which another site took over, such as 30 days, which is the
	// default.
	LeftBehind string `yaml:"left_behind,omitempty"`
	// Headroom is the free space that the store leaves to others on its filesystem, such
	// as 20 GiB or 10 %. WhenLow names the measures when it is not kept, in their order.
	Headroom string   `yaml:"headroom,omitempty"`
	WhenLow  []string `yaml:"when_low,omitempty"`
	// Ballast is capacity of the store's filesystem, such as 50 GiB or 10 %, that only
	// snapshots may use: what of it they do not use yet is set aside in a file of that size.
	Ballast string `yaml:"ballast,omitempty"`
	// Hooks are commands that policies and groups name, to hold writers while they are read.
	Hooks map[string]Hook `yaml:"hooks,omitempty"`
	// Effort is how hard the place compresses what comes: quick, and thorough at the next
	// sweep, which is the default; or thorough at once, as an archive may.
	Effort string `yaml:"effort,omitempty"`
	// Standby is the directory in which copies of other sites' volumes are laid out ready
	// for use, when a route asks for that. It must lie below one of the roots.
	Standby string `yaml:"standby,omitempty"`
	// Alarms says where alarms are sent, beside the log and the console.
	Alarms *Alarms `yaml:"alarms,omitempty"`
	// Journal false makes every snapshot look at everything, instead of asking the kernel
	// what changed.
	Journal *bool `yaml:"journal,omitempty"`
}

// Hook is a command of the host. It runs as the service's user, with the volumes' names
// and paths in its environment.
type Hook struct {
	Run     []string `yaml:"run"`               // the program and its arguments, as they are
	Timeout string   `yaml:"timeout,omitempty"` // such as 30 seconds, which is the default
}

// IsHost reports whether the site is reached under a name: that of its host, one that it
// listens on or has a certificate for, or one of hosts in site.yaml.
func (s *Dir) IsHost(name string) bool {
	own, _ := os.Hostname()
	short, _, _ := strings.Cut(own, ".")
	listen, _, _ := net.SplitHostPort(s.Conf.Listen)
	for _, n := range append([]string{"localhost", own, short, listen}, s.Conf.Hosts...) {
		if n != "" && strings.EqualFold(n, name) {
			return true
		}
	}
	s.certOnce.Do(func() {
		if s.Conf.TLSCert == "" {
			return
		}
		if pair, err := tls.LoadX509KeyPair(s.Conf.TLSCert, s.Conf.TLSKey); err == nil {
			s.cert = pair.Leaf
		}
	})
	return s.cert != nil && s.cert.VerifyHostname(name) == nil
}

const (
	effortQuick    = "quick"
	effortThorough = "thorough"
)

const configHead = `# A Candid Harbor site. Restart the service after changing this file.
# roots: directories that volumes may lie in and restores may write to.
`

// loadConfig reads site.yaml, or writes one for a new site.
func loadConfig(dir string, defaults Config) (Config, error) {
	path := filepath.Join(dir, "site.yaml")
	raw, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return writeConfig(path, defaults)
	}
	if err != nil {
		return Config{}, err
	}
	var c Config
	if err := yaml.UnmarshalWithOptions(raw, &c, yaml.Strict()); err != nil {
		return c, fmt.Errorf("%s: %s", path, yaml.FormatError(err, false, true))
	}
	if defaults.Listen != "" {
		c.Listen = defaults.Listen
	}
	if defaults.PeerListen != "" {
		c.PeerListen = defaults.PeerListen
	}
	if defaults.DiskListen != "" {
		c.DiskListen = defaults.DiskListen
	}
	if defaults.Name != "" && defaults.Name != c.Name {
		return c, fmt.Errorf("%s is the site %q, not %q: a site keeps its name, because other sites know it by it", dir,
			c.Name, defaults.Name)
	}
	return c.Check(path)
}

func writeConfig(path string, c Config) (Config, error) {
	if c.Name == "" {
		host, _ := os.Hostname()
		c.Name = strings.ToLower(strings.SplitN(host, ".", 2)[0])
	}
	if c.Listen == "" {
		c.Listen = "127.0.0.1:7310"
	}
	if c.PeerListen == "" {
		c.PeerListen = nextPort(c.Listen)
	}
	if len(c.Roots) == 0 {
		c.Roots = []string{"/srv", "/home"}
		var there []string
		for _, r := range c.Roots {
			if st, err := os.Stat(r); err == nil && st.IsDir() {
				there = append(there, r)
			}
		}
		c.Roots = there
	}
	c, err := c.Check(path)
	if err != nil {
		return c, err
	}
	body, err := yaml.Marshal(c)
	if err != nil {
		return c, err
	}
	return c, store.ReplaceFile(path, append([]byte(configHead), body...))
}

func nextPort(listen string) string {
	host, port, err := net.SplitHostPort(listen)
	n, perr := strconv.Atoi(port)
	if err != nil || perr != nil || n == 0 {
		return net.JoinHostPort(host, "0")
	}
	return net.JoinHostPort(host, strconv.Itoa(n+1))
}

// Check finds what is wrong with a configuration and fills in what it leaves out.
func (c Config) Check(path string) (Config, error) {
	if err := policy.CheckName("site", c.Name); err != nil {
		return c, fmt.Errorf("%s: %w", path, err)
	}
	if err := c.checkHooks(path); err != nil {
		return c, err
	}
	for _, a := range []string{c.Listen, c.PeerListen} {
		if _, _, err := net.SplitHostPort(a); err != nil {
			return c, fmt.Errorf("%s: address %q must be host:port", path, a)
		}
	}
	if _, _, err := net.SplitHostPort(c.DiskListen); c.DiskListen != "" && err != nil {
		return c, fmt.Errorf("%s: disk_listen: address %q must be host:port, such as 0.0.0.0:10809", path, c.DiskListen)
	}
	if c.Headroom != "" {
		if _, err := ParseShare("headroom", c.Headroom, 1<<40); err != nil {
			return c, fmt.Errorf("%s: %w", path, err)
		}
	}
	for _, m := range c.WhenLow {
		if !slices.Contains(AllMeasures, m) {
			return c, fmt.Errorf("%s: when_low: %q is no measure: use %s", path, m, strings.Join(AllMeasures, ", "))
		}
	}
	if c.Floor != "" {
		if _, err := retention.ParseDuration(c.Floor); err != nil {
			return c, fmt.Errorf("%s: floor: %w", path, err)
		}
	}
	if c.Alone != "" && c.Alone != "go on" {
		return c, fmt.Errorf("%s: alone: %q is not kept by this release, which serves on when it hears nobody: write go on, "+
			"or leave it away", path, c.Alone)
	}
	if c.LeftBehind != "" {
		if _, err := retention.ParseDuration(c.LeftBehind); err != nil {
			return c, fmt.Errorf("%s: left_behind: %w", path, err)
		}
	}
	if c.Effort != "" && c.Effort != effortQuick && c.Effort != effortThorough {
		return c, fmt.Errorf("%s: effort %q: write %s or %s", path, c.Effort, effortQuick, effortThorough)
	}
	if c.Standby != "" && !filepath.IsAbs(c.Standby) {
		return c, fmt.Errorf("%s: standby %q must be an absolute path", path, c.Standby)
	}
	if err := c.Alarms.Check(); err != nil {
		return c, fmt.Errorf("%s: %w", path, err)
	}
	for i, r := range c.Roots {
		if !filepath.IsAbs(r) {
			return c, fmt.Errorf("%s: root %q must be an absolute path", path, r)
		}
		c.Roots[i] = filepath.Clean(r)
	}
	return c, nil
}

// hookTimeout is how long a hook may take that says nothing else.
const hookTimeout = 30 * time.Second

// Limit is how long the hook may take.
func (h Hook) Limit() (time.Duration, error) {
	if h.Timeout == "" {
		return hookTimeout, nil
	}
	return retention.ParseDuration(h.Timeout)
}

func (c Config) checkHooks(path string) error {
	for _, name := range slices.Sorted(maps.Keys(c.Hooks)) {
		h := c.Hooks[name]
		if err := policy.CheckName("hook", name); err != nil {
			return fmt.Errorf("%s: %w", path, err)
		}
		if len(h.Run) == 0 || !filepath.IsAbs(h.Run[0]) {
			return fmt.Errorf("%s: hook %s: run must begin with the program's whole path, such as "+
				"[/usr/local/sbin/freeze-register]", path, name)
		}
		if _, err := h.Limit(); err != nil {
			return fmt.Errorf("%s: hook %s: timeout: %w", path, name, err)
		}
	}
	return nil
}

// KnownHooks refuses names that site.yaml does not define.
func (s *Dir) KnownHooks(q policy.Quiesce) error {
	for _, name := range []string{q.Freeze, q.Thaw} {
		if _, ok := s.Conf.Hooks[name]; name != "" && !ok {
			known := "it defines none yet"
			if len(s.Conf.Hooks) > 0 {
				known = "it defines " + strings.Join(slices.Sorted(maps.Keys(s.Conf.Hooks)), ", ")
			}
			return refusal.Badf("hook %q is not in site.yaml (%s): add it under hooks and restart the service, or name another",
				name, known)
		}
	}
	return nil
}

// ofPlace is what counts of a place's site.yaml, which whoever had the disk may have written:
// how it keeps what it holds, and nothing that runs, calls or names a path of the host.
func (c Config) ofPlace(host Config) Config {
	return Config{Name: c.Name, Listen: c.Listen, PeerListen: c.PeerListen, Roots: host.Roots, Floor: c.Floor,
		Headroom: c.Headroom, WhenLow: c.WhenLow,
		Ballast: c.Ballast, Effort: c.Effort, Journal: new(bool)}
}
