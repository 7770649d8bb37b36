package views

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"candidharbor/core/object"
	"candidharbor/internal/beneath"

	"github.com/hanwen/go-fuse/v2/fs"
	"github.com/hanwen/go-fuse/v2/fuse"
	"golang.org/x/sys/unix"
)

// Mounted is a volume's moments shown as a filesystem.
type Mounted struct {
	spot  *Spot
	view  *view
	ended chan struct{} // closed when nothing is held any more
}

const fuseKind = "fuse.candid" // by which what a service left mounted is known

// forever is how long the kernel may rely on what is in a snapshot: it never changes.
const forever = 24 * time.Hour

// Mount shows a volume's moments at a directory of the host, for every user within the
// recorded owners, modes and ACLs. It is put together in staging, a directory where only the
// service comes, which need not be there. The spot is the mount's from then on, unless it fails.
func Mount(src Source, volume string, at *Spot, staging string, log *slog.Logger) (*Mounted, error) {
	top := &topNode{view: &view{src: src, volume: volume, log: log, began: time.Now()}, form: plainForm}
	return top.view.serve(at, staging, top, time.Second, nil)
}

// mostAtOnce is what one request of the kernel reads at most.
const mostAtOnce = 1 << 20

// serve shows a node and what is below it at a directory. The kernel relies for so long on
// names and attributes that it was told.
func (v *view) serve(at *Spot, staging string, top fs.InodeEmbedder, known time.Duration, change func(*fs.Options)) (
	*Mounted, error) {
	opt := &fs.Options{EntryTimeout: &known, AttrTimeout: &known, NullPermissions: true,
		MountOptions: fuse.MountOptions{Name: "candid", EnableAcl: true, MaxWrite: mostAtOnce, MaxReadAhead: mostAtOnce,
			EnableSymlinkCaching: true}}
	if change != nil {
		change(opt)
	}
	server, err := v.mount(at, staging, top, opt)
	if err != nil {
		v.end()
		return nil, err
	}
	m := &Mounted{at, v, make(chan struct{})}
	go func() { // the kernel need not say that it forgets what it knew
		server.Wait()
		v.end()
		close(m.ended)
	}()
	return m, nil
}

// Stop ends it for good, because the source ends: whoever is still in it reads errors.
func (m *Mounted) Stop() error {
	m.view.stopped.Store(true)
	return m.End(true)
}

// End takes the filesystem away. While someone is in it that is refused, unless it is to
// go anyway: then nobody finds it any more and it ends when the last has left.
func (m *Mounted) End(anyway bool) error {
	select {
	case <-m.ended: // somebody else took it away
		m.spot.Close()
		return nil
	default:
	}
	err := m.spot.unmountSoon()
	switch {
	case err == nil:
		<-m.ended
	case !anyway:
		return err
	default:
		err = m.spot.unmount(unix.MNT_DETACH)
	}
	m.spot.Close()
	return err
}

// mount mounts the connection to the kernel by what is open, which the library would do by
// path, and serves it.
func (v *view) mount(at *Spot, staging string, top fs.InodeEmbedder, opt *fs.Options) (*fuse.Server, error) {
	dev, err := unix.Open("/dev/fuse", unix.O_RDWR|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, &os.PathError{Op: "open", Path: "/dev/fuse", Err: err}
	}
	data := fmt.Sprintf("fd=%d,rootmode=%o,user_id=%d,group_id=%d,max_read=%d,default_permissions,allow_other", dev,
		unix.S_IFDIR, os.Geteuid(), os.Getegid(), mostAtOnce)
	err = at.mount(staging, func(target string) error {
		return os.NewSyscallError("mount", unix.Mount("candid:"+v.volume, target, fuseKind, unix.MS_RDONLY|unix.MS_NOSUID|
			unix.MS_NODEV, data))
	})
	if err != nil {
		unix.Close(dev)
		return nil, err
	}
	server, err := fs.Mount(fmt.Sprintf("/dev/fd/%d", dev), top, opt)
	if err != nil {
		return nil, errors.Join(err, at.unmount(unix.MNT_DETACH))
	}
	at.noPolling()
	return server, nil
}

// noPolling has the kernel ask once whether files here can be polled. It would ask when this
// process opens one, in a call that the runtime takes for short, and nobody would answer.
func (s *Spot) noPolling() {
	fd, err := beneath.At(s.parent, s.name+"/.go-fuse-epoll-hack", unix.O_RDONLY, 0)
	if err != nil {
		return
	}
	defer unix.Close(fd)
	_, _ = unix.Poll([]unix.PollFd{{Fd: int32(fd), Events: unix.POLLIN}}, 0)
}

type view struct {
	src    Source
	volume string
	log    *slog.Logger
	began  time.Time
	bases  atomic.Uint64

	stopped atomic.Bool // nothing is read any more
	mu      sync.Mutex
	held    map[*Held]bool
	ended   bool
}

// hold opens a snapshot until it is let go, or nothing of the view is left.
func (v *view) hold(id string) (*Held, error) {
	h, err := v.src.Hold(v.volume, id)
	if err != nil {
		return nil, err
	}
	get := h.Get
	h.Get = func(id object.ID) (object.Envelope, error) {
		if v.stopped.Load() {
			return object.Envelope{}, syscall.ENOTCONN
		}
		return get(id)
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.ended {
		h.Release()
		return nil, syscall.ENOTCONN
	}
	if v.held == nil {
		v.held = map[*Held]bool{}
	}
	v.held[h] = true
	return h, nil
}

func (v *view) letGo(h *Held) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.held[h] {
		delete(v.held, h)
		h.Release()
	}
}

func (v *view) end() {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.ended = true
	for h := range v.held {
		h.Release()
	}
	v.held = nil
}

func (v *view) fail(what string, err error) syscall.Errno {
	v.log.Error("a mounted snapshot could not be read", "volume", v.volume, "what", what, "error", err)
	return syscall.EIO
}

// topNode lists moments, under names of one form.
type topNode struct {
	fs.Inode
	*view
	form string
}

var (
	_ fs.NodeLookuper  = (*topNode)(nil)
	_ fs.NodeReaddirer = (*topNode)(nil)
	_ fs.NodeGetattrer = (*topNode)(nil)
)

// Getattr is part of fs.
func (t *topNode) Getattr(_ context.Context, _ fs.FileHandle, out *fuse.AttrOut) syscall.Errno {
	out.Mode = 0o555
	at := t.began
	if m, ok, err := t.src.Newest(t.volume); err == nil && ok {
		at = m.Taken
	}
	out.SetTimes(&at, &at, &at)
	return 0
}

// Readdir is part of fs.
func (t *topNode) Readdir(context.Context) (fs.DirStream, syscall.Errno) {
	all, err := t.src.Moments(t.volume, time.Time{})
	if err != nil {
		return nil, t.fail("the list of moments", err)
	}
	var list []fuse.DirEntry
	if t.form == plainForm {
		list = append(list, fuse.DirEntry{Name: versions, Mode: syscall.S_IFDIR})
		if len(all) > 0 {
			list = append(list, fuse.DirEntry{Name: latest, Mode: syscall.S_IFLNK})
		}
	}
	for _, n := range names(all, t.form) {
		list = append(list, fuse.DirEntry{Name: n.name, Mode: syscall.S_IFDIR})
	}
	return fs.NewListDirStream(list), 0
}

// Lookup is part of fs.
func (t *topNode) Lookup(ctx context.Context, name string, out *fuse.EntryOut) (*fs.Inode, syscall.Errno) {
	if t.form == plainForm && name == versions {
		out.Mode = 0o555
		out.SetTimes(&t.began, &t.began, &t.began)
		return t.NewInode(ctx, &topNode{view: t.view, form: smbForm}, fs.StableAttr{Mode: syscall.S_IFDIR}), 0
	}
	if t.form == plainForm && name == latest {
		m, ok, err := t.src.Newest(t.volume)
		if err != nil {
			return nil, t.fail("the newest moment", err)
		}
		if !ok {
			return nil, syscall.ENOENT
		}
		to := m.Taken.UTC().Format(t.form)
		out.Mode, out.Size = 0o777, uint64(len(to))
		return t.NewInode(ctx, &linkNode{to: to}, fs.StableAttr{Mode: syscall.S_IFLNK}), 0
	}
	m, ok, err := lookUp(t.src, t.volume, name, t.form)
	if err != nil {
		return nil, t.fail("moment "+name, err)
	}
	if !ok {
		return nil, syscall.ENOENT
	}
	if child := t.GetChild(name); child != nil { // the kernel asks again
		if n, ok := child.Operations().(*node); ok && n.id == m.ID {
			n.attr(&out.Attr)
			out.SetAttrTimeout(forever)
			return child, 0
		}
	}
	h, err := t.hold(m.ID)
	if err != nil {
		return nil, t.fail("moment "+name, err)
	}
	n := &node{shown: &shown{view: t.view, Held: h, base: t.bases.Add(1) << 28}, e: h.Root.Top, id: m.ID}
	n.attr(&out.Attr)
	out.SetAttrTimeout(forever)
	return t.NewInode(ctx, n, fs.StableAttr{Mode: syscall.S_IFDIR}), 0
}

// linkNode is the name of the newest moment.
type linkNode struct {
	fs.Inode
	to string
}

// Readlink is part of fs.
func (l *linkNode) Readlink(context.Context) ([]byte, syscall.Errno) { return []byte(l.to), 0 }
