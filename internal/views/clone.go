package views

import (
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/hanwen/go-fuse/v2/fs"
	"github.com/hanwen/go-fuse/v2/fuse"
	"golang.org/x/sys/unix"
)

// Clone is a writable copy of a snapshot: an overlay of the kernel whose lower layer is the
// snapshot, shown by FUSE, and whose upper layer is a directory with only what was changed.
type Clone struct {
	lower *Mounted
	spot  *Spot
}

const (
	cloneSource = "candid-clone" // as what it is mounted, so that it is known for one
	lowerName   = "lower"
	upperName   = "upper"
	workName    = "work"
)

// MountClone mounts the clone of a snapshot at a spot. What was changed lies in home, also of a
// clone that was mounted before. The spot is the clone's from then on, unless it fails.
func MountClone(src Source, volume, snapshot, home string, at *Spot, staging string, log *slog.Logger) (*Clone, error) {
	for _, name := range []string{lowerName, upperName, workName} {
		if err := os.MkdirAll(filepath.Join(home, name), 0o755); err != nil {
			return nil, err
		}
	}
	lower := filepath.Join(home, lowerName)
	under, err := OpenSpot(home, lower)
	if err != nil {
		return nil, err
	}
	if err := errors.Join(at.Clear(), under.Clear()); err != nil {
		under.Close()
		return nil, err
	}
	below, err := mountSnapshot(src, volume, snapshot, under, staging, log)
	if err != nil {
		under.Close()
		return nil, err
	}
	var top unix.Stat_t
	if err := unix.Stat(lower, &top); err != nil {
		return nil, errors.Join(err, below.Stop())
	}
	// The merged top is the upper one's: of a new clone it must be as the snapshot's.
	if entries, err := os.ReadDir(filepath.Join(home, upperName)); err == nil && len(entries) == 0 {
		upper := filepath.Join(home, upperName)
		err := errors.Join(copyXattrs(lower, upper), os.Chown(upper, int(top.Uid), int(top.Gid)),
			unix.Chmod(upper, top.Mode&0o7777), unix.UtimesNano(upper, []unix.Timespec{top.Mtim, top.Mtim}))
		if err != nil {
			return nil, errors.Join(err, below.Stop())
		}
	}
	// One filesystem's inodes beside the other's (xino), so that the names of one file have
	// one; renaming directories is noted instead of refused (redirect_dir).
	opts := fmt.Sprintf("lowerdir=%s,upperdir=%s,workdir=%s,redirect_dir=on,index=off,xino=on", escape(lower),
		escape(filepath.Join(home, upperName)), escape(filepath.Join(home, workName)))
	if len(opts) > 4000 {
		return nil, errors.Join(fmt.Errorf("the path %s is too long for an overlay", home), below.Stop())
	}
	err = at.mount(staging, func(target string) error {
		return unix.Mount(cloneSource, target, "overlay", unix.MS_NOSUID|unix.MS_NODEV, opts)
	})
	if err != nil {
		return nil, errors.Join(fmt.Errorf("the kernel does not lay %s over the snapshot: %w", filepath.Join(home, upperName),
			err), below.Stop())
	}
	return &Clone{below, at}, nil
}

func copyXattrs(from, to string) error {
	names := make([]byte, 64<<10)
	n, err := unix.Listxattr(from, names)
	if err != nil || n == 0 {
		return nil // there are none, or none that can be had
	}
	for _, name := range strings.Split(strings.TrimRight(string(names[:n]), "\x00"), "\x00") {
		value := make([]byte, 64<<10)
		k, err := unix.Getxattr(from, name, value)
		if err == nil {
			err = unix.Setxattr(to, name, value[:k], 0)
		}
		if err != nil {
			return fmt.Errorf("attribute %s of the top: %w", name, err)
		}
	}
	return nil
}

// escape writes a path as the overlay's options want it.
func escape(p string) string { return strings.NewReplacer(`\`, `\\`, `,`, `\,`, `:`, `\:`).Replace(p) }

// mountSnapshot shows one snapshot alone at a directory.
func mountSnapshot(src Source, volume, snapshot string, at *Spot, staging string, log *slog.Logger) (*Mounted, error) {
	v := &view{src: src, volume: volume, log: log, began: time.Now()}
	h, err := v.hold(snapshot)
	if err != nil {
		return nil, err
	}
	top := &node{shown: &shown{view: v, Held: h, base: v.bases.Add(1) << 28}, e: h.Root.Top, id: snapshot}
	return v.serve(at, staging, top, forever, func(opt *fs.Options) {
		opt.FirstAutomaticIno = 1 << 40 // an overlay puts its own bits above those of inodes
		// The overlay would note handles of this mount that the next one does not know.
		opt.ExtraCapabilities = fuse.CAP_NO_EXPORT_SUPPORT
	})
}

// End takes the clone's filesystem away; what was changed stays. While someone is in it that
// is refused, unless it is to go anyway.
func (c *Clone) End(anyway bool) error {
	err := c.spot.unmount(0)
	if err != nil && !anyway {
		return err
	}
	defer c.spot.Close()
	if err == nil {
		return c.lower.End(false)
	}
	// Whoever is in it keeps the overlay, and that what lies below: neither is waited for.
	c.lower.view.stopped.Store(true)
	defer c.lower.spot.Close()
	return errors.Join(c.spot.unmount(unix.MNT_DETACH), c.lower.spot.unmount(unix.MNT_DETACH))
}

// ClearClone takes away what services that were killed left mounted of a clone.
func ClearClone(home string, at *Spot) error {
	under, err := OpenSpot(home, filepath.Join(home, lowerName))
	if errors.Is(err, os.ErrNotExist) {
		return at.Clear()
	} else if err != nil {
		return err
	}
	defer under.Close()
	return errors.Join(at.Clear(), under.Clear())
}
