package pairing

import (
	"context"
	"crypto/ed25519"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/datadir"
	"candidharbor/internal/phrase"
	"candidharbor/internal/policy"
	"candidharbor/internal/refusal"
	"candidharbor/internal/run"
	"candidharbor/internal/transfer"
	"candidharbor/internal/visible"

	"golang.org/x/sys/unix"
)

// A further place of a site, such as a disk that comes and goes, is a site of its own that
// lives in the same process and listens nowhere: it has its own store, catalogue, rules,
// floor and key, all on the disk. Routes to it are like any other.

const PlaceAddress = "place:"

// OpenPlaces opens the places whose directories are there.
func (s *Service) OpenPlaces() {
	paths, err := s.Catalog.Places()
	if err != nil {
		s.Log.Error("the places of this site cannot be listed", "error", err)
		return
	}
	for name, dir := range paths {
		if _, err := os.Stat(filepath.Join(dir, "site.yaml")); err != nil {
			s.Log.Warn("a place is not attached", "place", name, "path", dir)
		} else if err := s.openPlace(name, dir); err != nil {
			s.Log.Error("a place cannot be opened", "place", name, "path", dir, "error", err)
		}
	}
}

// FurtherPlace is a further place of this site that is attached.
type FurtherPlace struct {
	Peers *Service
	Begin func()       // once it is known here
	End   func() error // closes it
}

func (s *Service) openPlace(name, dir string) error {
	if err := s.notSwapped(dir); err != nil {
		return err
	}
	if err := ownAlone(dir); err != nil {
		return err
	}
	p, err := s.openFurther(name, dir)
	if err != nil {
		return err
	}
	if err := s.pairPlace(p.Peers, name, dir); err != nil {
		return errors.Join(err, p.End())
	}
	s.mu.Lock()
	s.placesHere[name] = p
	s.mu.Unlock()
	p.Begin()
	s.run.Tell("sites")
	return nil
}

// notSwapped refuses a place whose directory others can put another in the stead of: it is used
// by its path for as long as it is attached.
func (s *Service) notSwapped(dir string) error {
	_, root, err := s.Fixed(dir)
	if err != nil {
		return err
	}
	for above := dir; above != root; {
		above = filepath.Dir(above)
		var st unix.Stat_t
		if err := unix.Lstat(above, &st); err != nil {
			return refusal.Badf("%s: %s", above, err)
		}
		switch {
		case st.Mode&unix.S_IFMT != unix.S_IFDIR:
			return refusal.Badf("%s is a link, and was none when the place was attached", above)
		case st.Uid != 0 && int(st.Uid) != os.Geteuid():
			return refusal.Badf("%s belongs to the user %d, who can put something else in the place of %s: choose a "+
				"directory that only root can move", above, st.Uid, dir)
		case st.Mode&0o022 != 0 && st.Mode&unix.S_ISVTX == 0:
			return refusal.Badf("others may write to %s and put something else in the place of %s: choose a directory that "+
				"only root can move", above, dir)
		}
	}
	return nil
}

// ownAlone refuses a directory in which somebody else could change what this site reads and
// writes there, or that leads out of itself.
func ownAlone(dir string) error {
	return filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.Name() == "lost+found" {
			return fs.SkipDir
		}
		info, err := d.Info()
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		} else if err != nil {
			return err
		}
		st, ok := info.Sys().(*syscall.Stat_t)
		switch kind := d.Type(); {
		case kind != 0 && kind != fs.ModeDir && kind != fs.ModeSocket:
			return refusal.Badf("%s is no file and no directory: a place holds nothing that leads elsewhere", path)
		case ok && int(st.Uid) != os.Geteuid():
			return refusal.Badf("%s belongs to the user %d: a place belongs to the service alone (chown -R %d %s, when you "+
				"trust what it holds)", path, st.Uid, os.Geteuid(), dir)
		case kind != fs.ModeSocket && info.Mode().Perm()&0o022 != 0:
			return refusal.Badf("others may write to %s: a place belongs to the service alone (chmod -R go-w %s, when you "+
				"trust what it holds)", path, dir)
		}
		return nil
	})
}

// ErrPlaceHolds refuses to take or lay out anything at a further place.
var ErrPlaceHolds = refusal.Conflictf("a place holds what is carried to it, and takes and lays out nothing itself: " +
	"ask the site that it is attached to")

// pairPlace makes the site and its place know each other's present keys. Another key than the
// place had when it was attached here before is refused, unless the place announced it.
func (s *Service) pairPlace(p *Service, name, dir string) error {
	everything := catalog.Grants{Offer: true, Read: true, See: true, Configure: true}
	known := func(cat *catalog.Catalog, peer *catalog.Peer) error {
		old, err := cat.Peer(peer.Name)
		if errors.Is(err, catalog.ErrNone) {
			peer.Paired, peer.Seen = catalog.At(s.Clock.Now()), catalog.At(s.Clock.Now())
			return cat.PutPeer(peer)
		} else if err != nil {
			return err
		}
		if old.Key != peer.Key {
			if cat == s.Catalog && old.NextKey != peer.Key {
				return refusal.Conflictf("what lies at %s is named %s and has another key than the place of that name that was "+
					"attached here: if it is meant, end what is known of that one first, with candid site revoke %s", dir, name, name)
			}
			if _, err := cat.ChangeKey(old, peer.Key); err != nil {
				return err
			}
		}
		return cat.SetAddresses(peer.Name, peer.Addresses.V)
	}
	return errors.Join(
		known(s.Catalog, &catalog.Peer{Name: name, Key: hex.EncodeToString(p.Identity().Public()),
			Addresses: catalog.JSON[[]string]{V: []string{PlaceAddress + dir}},
			Grants:    catalog.JSON[catalog.Grants]{V: catalog.Grants{Offer: true, Read: true, See: true}},
			Granted:   catalog.JSON[catalog.Grants]{V: everything}, Former: catalog.JSON[[]string]{V: []string{}}}),
		known(p.Catalog, &catalog.Peer{Name: s.Name(), Key: hex.EncodeToString(s.Identity().Public()),
			Addresses: catalog.JSON[[]string]{V: []string{}},
			Grants:    catalog.JSON[catalog.Grants]{V: everything},
			Granted:   catalog.JSON[catalog.Grants]{V: catalog.Grants{Offer: true, Read: true, See: true}},
			Former:    catalog.JSON[[]string]{V: []string{}}}))
}

// dialPlace makes a line to a place of this site.
func (s *Service) dialPlace(ctx context.Context, name, dir string, keys []ed25519.PublicKey) (*transfer.Link, error) {
	s.mu.Lock()
	p := s.placesHere[name]
	s.mu.Unlock()
	if p == nil {
		return nil, fmt.Errorf("%w: when its disk is there again, candid place attach %s --path %s", ErrDetached, name,
			visible.Word(dir))
	}
	fds, err := unix.Socketpair(unix.AF_UNIX, unix.SOCK_STREAM|unix.SOCK_CLOEXEC|unix.SOCK_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	var ends [2]net.Conn
	for i, fd := range fds {
		f := os.NewFile(uintptr(fd), "place")
		ends[i], err = net.FileConn(f)
		f.Close()
		if err != nil {
			return nil, err
		}
	}
	p.Peers.run.Go(func(ctx context.Context) {
		if err := p.Peers.accept(ends[1]); err != nil && ctx.Err() == nil {
			p.Peers.Log.Info("the line within the site ended", "error", err)
		}
	})
	return transfer.Over(ctx, ends[0], "within this site", s.Identity(), keys...)
}

// ErrDetached is the error of a place whose disk is not there.
var ErrDetached = errors.New("it is detached")

// Attach opens a further place of this site in a directory, making one there when it is
// empty. What it held before is there again.
func (s *Service) Attach(name, dir string) (string, error) {
	if err := policy.CheckName("place", name); err != nil {
		return "", refusal.Wrap(refusal.Misuse, err)
	}
	dir, _, err := s.UnderRoot(dir, true)
	if err != nil {
		return "", err
	}
	release, err := s.run.Hold(s.run.Context(), run.KeyPlaces.Of(""))
	if err != nil {
		return "", err
	}
	defer release()
	paths, err := s.Catalog.Places()
	if err != nil {
		return "", err
	}
	s.mu.Lock()
	is := s.placesHere[name] != nil
	s.mu.Unlock()
	if is {
		return "", refusal.Conflictf("place %s is attached already, at %s", name, paths[name])
	}
	if peer, err := s.Catalog.Peer(name); err == nil && !strings.HasPrefix(strings.Join(peer.Addresses.V, " "),
		PlaceAddress) || name == s.Name() {
		return "", refusal.Conflictf("%s is the name of a site: choose another for the place", name)
	}
	entries, err := os.ReadDir(dir)
	if err != nil {
		return "", refusal.Badf("%s: %s", dir, datadir.Plain(err))
	}
	fresh := !slices.ContainsFunc(entries, func(e os.DirEntry) bool { return e.Name() == "site.yaml" })
	if fresh && slices.ContainsFunc(entries, func(e os.DirEntry) bool { return e.Name() != "lost+found" }) {
		return "", refusal.Conflictf("%s holds something else already: a place needs a directory of its own", dir)
	}
	if err := s.openPlace(name, dir); err != nil {
		return "", refusal.Wrap(refusal.Conflict, err)
	}
	if err := s.Catalog.PutPlace(name, dir); err != nil {
		return "", err
	}
	waiting, err := s.onAttached(name)
	if err != nil {
		return "", err
	}
	s.run.Changed("sites")
	words := fmt.Sprintf("%s/%s is attached at %s", s.Name(), name, dir)
	if fresh {
		return words + fmt.Sprintf(", empty. Carry snapshots there: candid route add NAME --to %s --volumes key=value", name),
			nil
	}
	if waiting > 0 {
		return words + fmt.Sprintf("; %s that waited for it goes on.", phrase.Many(waiting, "route")), nil
	}
	return words + ", with all that it held.", nil
}

// Detach closes a place, so that its disk can be taken away. What it is owed stays owed.
func (s *Service) Detach(name string) (string, error) {
	release, err := s.run.Hold(s.run.Context(), run.KeyPlaces.Of(""))
	if err != nil {
		return "", err
	}
	defer release()
	s.mu.Lock()
	p, l := s.placesHere[name], s.links[name]
	s.mu.Unlock()
	if p == nil {
		return "", refusal.Conflictf("place %s is not attached", name)
	}
	if l != nil {
		l.Close()
	}
	s.mu.Lock()
	delete(s.placesHere, name)
	s.mu.Unlock()
	if err := p.End(); err != nil {
		return "", err
	}
	s.run.Changed("sites")
	return fmt.Sprintf("%s/%s is detached: its disk can be taken away. Routes to it wait, and what they carry stays owed.",
		s.Name(), name), nil
}

// Places lists the further places of this site.
func (s *Service) Places() ([]api.Place, error) {
	paths, err := s.Catalog.Places()
	if err != nil {
		return nil, err
	}
	out := []api.Place{}
	for name, dir := range paths {
		v := api.Place{Name: name, Path: dir}
		s.mu.Lock()
		p := s.placesHere[name]
		s.mu.Unlock()
		if p != nil {
			u := p.Peers.Store.Usage()
			v.Attached, v.Snapshots, v.StoredBytes, v.FreeBytes = true, u.Snapshots, u.StoredBytes, u.FreeBytes
		}
		out = append(out, v)
	}
	slices.SortFunc(out, func(a, b api.Place) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}

// Attached are the places that are there now, by name.
func (s *Service) Attached() map[string]*FurtherPlace {
	s.mu.Lock()
	defer s.mu.Unlock()
	return maps.Clone(s.placesHere)
}
