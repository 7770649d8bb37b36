package views

import (
	"context"
	"log/slog"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"candidharbor/core/object"

	"github.com/hanwen/go-fuse/v2/fs"
	"github.com/hanwen/go-fuse/v2/fuse"
	"golang.org/x/sys/unix"
)

// Mounted is a volume's moments shown as a filesystem.
type Mounted struct {
	server *fuse.Server
	dir    string
	view   *view
	ended  chan struct{} // closed when nothing is held any more
}

// forever is how long the kernel may rely on what is in a snapshot: it never changes.
const forever = 24 * time.Hour

// Mount shows a volume's moments below a directory of the host, for every user within the
// recorded owners, modes and ACLs.
func Mount(src Source, volume, dir string, log *slog.Logger) (*Mounted, error) {
	top := &topNode{view: &view{src: src, volume: volume, log: log, began: time.Now()}, form: plainForm}
	return top.view.serve(dir, top, time.Second, nil)
}

// serve shows a node and what is below it at a directory. The kernel relies for so long on
// names and attributes that it was told.
func (v *view) serve(dir string, top fs.InodeEmbedder, known time.Duration, change func(*fs.Options)) (*Mounted, error) {
	opt := &fs.Options{EntryTimeout: &known, AttrTimeout: &known, NullPermissions: true,
		MountOptions: fuse.MountOptions{AllowOther: true, DirectMountStrict: true, DirectMountFlags: syscall.MS_RDONLY | syscall.MS_NOSUID | syscall.MS_NODEV,
			FsName: "candid:" + v.volume, Name: "candid", EnableAcl: true, MaxWrite: 1 << 20, MaxReadAhead: 1 << 20, EnableSymlinkCaching: true,
			Options: []string{"default_permissions"}}}
	if change != nil {
		change(opt)
	}
	server, err := fs.Mount(dir, top, opt)
	if err != nil {
		v.end()
		return nil, err
	}
	m := &Mounted{server, dir, v, make(chan struct{})}
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
	err := m.server.Unmount()
	if err == nil {
		<-m.ended
		return nil
	}
	if anyway {
		return syscall.Unmount(m.dir, syscall.MNT_DETACH)
	}
	return err
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

// Stale takes away what services that were killed left mounted at a directory.
func Stale(dir string) error {
	raw, err := os.ReadFile("/proc/self/mountinfo") // proc_pid_mountinfo(5)
	if err != nil {
		return err
	}
	for _, line := range strings.Split(string(raw), "\n") {
		at, kind, _ := strings.Cut(line, " - ")
		fields := strings.Fields(at)
		if len(fields) < 5 || octal.Replace(fields[4]) != dir || !strings.HasPrefix(kind, "fuse.candid ") && !strings.HasPrefix(kind, "overlay "+cloneSource+" ") {
			continue
		}
		if err := unix.Unmount(dir, unix.MNT_DETACH); err != nil {
			return err
		}
	}
	return nil
}

// octal undoes how mountinfo writes what would end a field.
var octal = strings.NewReplacer(`\040`, " ", `\011`, "\t", `\012`, "\n", `\134`, `\`)
