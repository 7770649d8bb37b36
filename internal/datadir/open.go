package datadir

import (
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"

	"candidharbor/core/retention"
	"candidharbor/internal/catalog"
	"candidharbor/internal/clock"
	"candidharbor/internal/phrase"
	"candidharbor/internal/store"
	"candidharbor/internal/transfer"

	"golang.org/x/sys/unix"
)

// lockDir makes sure that one process serves a data directory.
func lockDir(dir string) (*os.File, error) {
	f, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_CREATE|os.O_RDWR|unix.O_NOFOLLOW, 0o600)
	if err != nil {
		return nil, err
	}
	if err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		held, _ := os.ReadFile(f.Name())
		f.Close()
		return nil, fmt.Errorf("data directory %s is in use by process %s: stop that service first, or choose "+
			"another directory", dir, strings.TrimSpace(string(held)))
	}
	f.Truncate(0)
	fmt.Fprintf(f, "%d\n", os.Getpid())
	return f, nil
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
			return fmt.Errorf("%s: a ballast of %s and a headroom of %s are more than the %s of the store's filesystem: make "+
				"one smaller",
				filepath.Join(s.Path, "site.yaml"), phrase.Size(ballast), phrase.Size(headroom), phrase.Size(total))
		}
	}
	if s.Left = leftBehind; s.Conf.LeftBehind != "" {
		if s.Left, err = retention.ParseDuration(s.Conf.LeftBehind); err != nil {
			return err
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
		return fmt.Errorf("%s: this site was founded as %s, and its snapshots, rules and paired sites know it by that "+
			"name: put name: %s back in place of %s",
			filepath.Join(s.Path, "site.yaml"), was, was, s.Conf.Name)
	}
	return nil
}
