package datadir

import (
	"crypto/ed25519"
	"crypto/rand"
	"crypto/tls"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"candidharbor/core/retention"
	"candidharbor/internal/beneath"
	"candidharbor/internal/catalog"
	"candidharbor/internal/clock"
	"candidharbor/internal/phrase"
	"candidharbor/internal/policy"
	"candidharbor/internal/refusal"
	"candidharbor/internal/store"
	"candidharbor/internal/transfer"

	"github.com/goccy/go-yaml"
	"golang.org/x/sys/unix"
)

// Config is site.yaml.
type Config struct {
	Name          string   `yaml:"name"`
	Listen        string   `yaml:"listen"`         // console and API
	PeerListen    string   `yaml:"peer_listen"`    // other sites
	PeerAddresses []string `yaml:"peer_addresses"` // how other sites reach peer_listen; empty: as it listens
	Roots         []string `yaml:"roots"`          // what may be read and written
	// Hosts are further names under which browsers reach the console, such as a proxy's.
	Hosts   []string `yaml:"hosts,omitempty"`
	TLSCert string   `yaml:"tls_cert"`
	TLSKey  string   `yaml:"tls_key"`
	// Floor is how long nothing is removed after it was taken or arrived here, whoever
	// asks, such as 30 days. No policy, person or other site can undercut it.
	Floor string `yaml:"floor,omitempty"`
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
	if defaults.Name != "" && defaults.Name != c.Name {
		return c, fmt.Errorf("%s is the site %q, not %q: a site keeps its name, because other sites know it by it", dir, c.Name, defaults.Name)
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

// lockDir makes sure that one process serves a data directory.
func lockDir(dir string) (*os.File, error) {
	f, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_CREATE|os.O_RDWR|unix.O_NOFOLLOW, 0o600)
	if err != nil {
		return nil, err
	}
	if err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		held, _ := os.ReadFile(f.Name())
		f.Close()
		return nil, fmt.Errorf("data directory %s is in use by process %s: stop that service first, or choose another directory", dir, strings.TrimSpace(string(held)))
	}
	f.Truncate(0)
	fmt.Fprintf(f, "%d\n", os.Getpid())
	return f, nil
}

// loadKey reads the site's key, making it for a new site.
func KeyPath(dir string) string { return filepath.Join(dir, "keys", "site.pem") }

// LoadKey reads a key, making it the first time.
func LoadKey(path string) (ed25519.PrivateKey, error) {
	raw, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			return nil, err
		}
		_, key, err := ed25519.GenerateKey(rand.Reader)
		if err != nil {
			return nil, err
		}
		block := pem.EncodeToMemory(&pem.Block{Type: "CANDID HARBOR SITE KEY", Bytes: key.Seed()})
		return key, store.ReplaceFile(path, block)
	}
	if err != nil {
		return nil, err
	}
	block, _ := pem.Decode(raw)
	if block == nil || len(block.Bytes) != ed25519.SeedSize {
		return nil, fmt.Errorf("%s is not a site key: restore the file from your backup of the data directory", path)
	}
	return ed25519.NewKeyFromSeed(block.Bytes), nil
}

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
	// Nothing is told of what lies outside the roots, not even whether it is there.
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
		return "", "", refusal.Badf("path %s leads by a link out of the roots of this site (%s), or to nothing: add a root in site.yaml or choose another path", path, strings.Join(s.Conf.Roots, ", "))
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
	return "", "", refusal.Badf("path %s is outside the roots of this site (%s): add a root in site.yaml or choose another path", path, strings.Join(s.Conf.Roots, ", "))
}

func Plain(err error) string {
	var pe *fs.PathError
	if errors.As(err, &pe) {
		return pe.Err.Error()
	}
	return err.Error()
}

// Lock makes a data directory this process's own.
func Lock(path string, clock clock.Clock, log *slog.Logger) (*Dir, error) {
	lock, err := lockDir(path)
	return &Dir{Path: path, Clock: clock, Log: log, lock: lock}, err
}

// Open opens what lies in the data directory. Of a further place of another site that one's
// configuration is given.
func (s *Dir) Open(fresh Config, host *Config) (err error) {
	s.Conf, err = loadConfig(s.Path, fresh)
	if err != nil {
		return err
	}
	if host != nil {
		s.Conf, s.IsPlace = s.Conf.ofPlace(*host), true
	}
	s.Room = func() (int64, int64) { return RoomOn(s.Path) }
	var ballast int64
	if s.Conf.Ballast != "" {
		_, total := s.Room()
		if ballast, err = ParseShare("ballast", s.Conf.Ballast, total); err != nil {
			return fmt.Errorf("%s: %w", filepath.Join(s.Path, "site.yaml"), err)
		}
		if _, _, headroom := s.Lacking(); ballast+headroom > total {
			return fmt.Errorf("%s: a ballast of %s and a headroom of %s are more than the %s of the store's filesystem: make one smaller",
				filepath.Join(s.Path, "site.yaml"), phrase.Size(ballast), phrase.Size(headroom), phrase.Size(total))
		}
	}
	if s.Conf.Floor != "" {
		if s.Floor, err = retention.ParseDuration(s.Conf.Floor); err != nil {
			return err
		}
	}
	key, err := LoadKey(KeyPath(s.Path))
	if err != nil {
		return err
	}
	id, err := transfer.NewIdentity(key)
	if err != nil {
		return err
	}
	s.id.Store(id)
	if s.Sealing, err = loadSeal(filepath.Join(s.Path, "keys", "crates.age")); err != nil {
		return err
	}
	for _, name := range []string{"scan", NamesDir} {
		if err := os.MkdirAll(filepath.Join(s.Path, name), 0o700); err != nil {
			return err
		}
	}
	options := store.Options{Key: key, Logger: s.Log, Thorough: s.Conf.Effort == effortThorough}
	if s.Store, err = store.Open(filepath.Join(s.Path, "store"), options); err != nil {
		return err
	}
	if err := s.Store.SetBallast(ballast); err != nil {
		s.Log.Warn("the ballast could not be set aside", "bytes", ballast, "error", err)
	}
	if s.Catalog, err = catalog.Open(filepath.Join(s.Path, "catalog.db")); err != nil {
		return fmt.Errorf("%w; or put the newest file of %s in its place", err, filepath.Join(s.Path, CopiesDir))
	}
	return s.keepsName()
}

// Close closes what lies in the data directory and gives it free.
func (s *Dir) Close() error {
	var errs []error
	if s.Catalog != nil {
		errs = append(errs, s.Catalog.Close())
	}
	if s.Store != nil {
		errs = append(errs, s.Store.Close())
	}
	return errors.Join(append(errs, s.lock.Close())...)
}

const nameSetting = "founded as"

// keepsName refuses another name than the site was founded with: its snapshots, its rules and
// other sites know it by that one, and under another its own volumes would be strangers' to it.
func (s *Dir) keepsName() error {
	was, err := s.Catalog.Setting(nameSetting)
	if err != nil {
		return err
	}
	if was == "" {
		return s.Catalog.Set(nameSetting, s.Conf.Name)
	}
	if was != s.Conf.Name {
		return fmt.Errorf("%s: this site was founded as %s, and its snapshots, rules and paired sites know it by that name: put name: %s back in place of %s",
			filepath.Join(s.Path, "site.yaml"), was, was, s.Conf.Name)
	}
	return nil
}
