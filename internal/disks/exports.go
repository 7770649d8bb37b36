package disks

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"candidharbor/internal/catalog"
	"candidharbor/internal/nbd"
	"candidharbor/internal/volume/disk"

	"golang.org/x/sys/unix"
)

// exports are what there is for one client: each disk by its volume's name, and each of its snapshots, which
// can only be read, as NAME:ID.
type exports struct {
	s      *Service
	by     *client
	cancel context.CancelFunc
	conn   *hostConnection // of a host; nil: over the socket
}

// List names the disks. Snapshots are not listed: there may be thousands.
func (e *exports) List() []string {
	var names []string
	may := e.may()
	for _, v := range e.s.all() {
		if may(v.name) {
			names = append(names, v.name)
		}
	}
	copies, err := e.s.copies()
	if err != nil {
		e.s.Log.Error("copies of disks cannot be listed", "error", err)
	}
	for _, v := range copies {
		if may(v.Name) {
			names = append(names, v.Name)
		}
	}
	return names
}

func (e *exports) Describe(name string) (nbd.Info, error) {
	if x, err := e.snapshot(name); x != nil || err != nil {
		if err != nil {
			return nbd.Info{}, err
		}
		defer x.Close(true)
		return x.Info(), nil
	}
	v, err := e.find(name)
	if err != nil {
		return nbd.Info{}, err
	}
	return nbd.Info{Size: v.d.Size(), MultiConn: true, Description: "disk " + name}, nil
}

func (e *exports) find(name string) (*served, error) {
	if !e.may()(name) {
		return nil, fmt.Errorf("%w: %s", nbd.ErrUnknown, name)
	}
	e.s.mu.Lock()
	defer e.s.mu.Unlock()
	if v := e.s.open[name]; v != nil {
		return v, nil
	}
	return nil, fmt.Errorf("%w: %s", nbd.ErrUnknown, name)
}

// Open opens an export. The ledger has who came to hold a disk, and who was refused.
func (e *exports) Open(name string) (nbd.Export, error) {
	e.opens(name)
	if x, err := e.snapshot(name); x != nil || err != nil {
		if err == nil {
			err = e.s.record(e.by, "openSnapshot", name, "")
		}
		if err != nil {
			if x != nil {
				x.Close(true)
			}
			return nil, err
		}
		return x, nil
	}
	v, err := e.find(name)
	if err != nil {
		return nil, err
	}
	c, fresh, err := v.enter(e.s, e.by, e.cancel)
	outcome := ""
	if err != nil {
		outcome = "refused: " + err.Error()
	}
	if fresh {
		if rerr := e.s.record(e.by, "openDisk", name, outcome); rerr != nil {
			if c != nil {
				c.leave(true)
			}
			return nil, rerr
		}
	}
	if err != nil {
		return nil, err
	}
	return c, nil
}

// Errno numbers an error of a request.
func (e *exports) Errno(err error) uint32 {
	if n := disk.Errno(err); n != 0 {
		return uint32(n)
	}
	return nbd.EIO
}

// frozen is a disk that nobody writes to.
type frozen interface {
	Size() int64
	ReadAt(p []byte, off int64) error
	Extents(off, n int64) ([]disk.Extent, error)
	Close()
}

// snapshotExport is a snapshot of a disk.
type snapshotExport struct {
	frozen
	words string
}

// snapshot opens what a name such as NAME:ID, or that of a copy, means; nil when it is no such name.
func (e *exports) snapshot(name string) (*snapshotExport, error) {
	volume, id, is := strings.Cut(name, ":")
	if !is {
		row, err := e.s.newest(name)
		if row == nil || err != nil || !e.may()(name) {
			return nil, err
		}
		return e.s.exportOf(row)
	}
	unknown := fmt.Errorf("%w: %s", nbd.ErrUnknown, name)
	if len(id) < 6 || !e.may()(volume) {
		return nil, unknown
	}
	row, err := e.s.Catalog.Snapshot(id)
	if errors.Is(err, catalog.ErrNone) || err == nil && row.Volume != volume {
		return nil, unknown
	}
	if err != nil {
		return nil, err
	}
	x, err := e.s.exportOf(row)
	if errors.Is(err, nbd.ErrUnknown) {
		return nil, unknown
	}
	return x, err
}

func (x *snapshotExport) Info() nbd.Info {
	return nbd.Info{Size: x.Size(), ReadOnly: true, MultiConn: true, Description: x.words}
}

func (x *snapshotExport) ReadNoWait(p []byte, off int64) bool {
	r, is := x.frozen.(*standbyReader)
	return is && r.ReadNoWait(p, off)
}

func (x *snapshotExport) WriteNoWait([]byte, int64) bool { return false }

func (x *snapshotExport) WriteAt(context.Context, []byte, int64, bool) error { return unix.EPERM }

func (x *snapshotExport) Trim(context.Context, int64, int64, bool) error { return unix.EPERM }

func (x *snapshotExport) Zero(context.Context, int64, int64, bool, bool) error { return unix.EPERM }

func (x *snapshotExport) Flush(context.Context) error { return nil }

func (x *snapshotExport) Extents(off, n int64) ([]nbd.Extent, error) {
	return extentsOf(x.frozen.Extents(off, n))
}

func (x *snapshotExport) Close(bool) { x.frozen.Close() }
