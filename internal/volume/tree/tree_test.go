package tree

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/ed25519"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"candidharbor/core/chunker"
	"candidharbor/core/object"
	"candidharbor/internal/store"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

type bench struct {
	t     testing.TB
	st    *store.Store
	cache string
	seq   uint64
	ck    *chunker.Chunker
}

// memoryDir is a directory in memory where there is one: fsyncs then cost nothing.
func memoryDir(t testing.TB) string {
	base := ""
	if _, err := os.Stat("/dev/shm"); err == nil {
		base = "/dev/shm"
	}
	dir, err := os.MkdirTemp(base, "tree")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	return dir
}

// quietDir is on a filesystem of its own, if this user may mount one: what happens elsewhere on the same
// filesystem fills the kernel's queue of events too.
func quietDir(t testing.TB) string {
	dir := t.TempDir()
	if unix.Mount("tmpfs", dir, "tmpfs", 0, "size=256m") != nil {
		return memoryDir(t)
	}
	t.Cleanup(func() { require.NoError(t, unix.Unmount(dir, unix.MNT_DETACH)) })
	return dir
}

func newBench(t testing.TB) *bench {
	s, err := store.Open(filepath.Join(memoryDir(t), "store"),
		store.Options{Key: ed25519.NewKeyFromSeed(make([]byte, 32))})
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	p, err := chunker.ForAverage(64 << 10)
	require.NoError(t, err)
	return &bench{t: t, st: s, cache: t.TempDir(), ck: chunker.New(p)}
}

func (b *bench) snapshot(dir string, excludes ...string) (*object.Root, *Scanned, *Progress) {
	w := b.st.NewWriter(b.st.NewLease())
	defer w.Close()
	c := OpenCache(b.cache, "lineage", "s")
	defer c.Close()
	var p Progress
	res, err := Scan(context.Background(), ScanOptions{Path: dir, Beneath: dir, Excludes: excludes, Chunker: b.ck, Sink: w,
		Get: b.st.Get, Cache: c, Progress: &p})
	require.NoError(b.t, err)
	b.seq++
	root := &object.Root{Lineage: object.LineageID{1}, Volume: "v", Term: 1, Sequence: b.seq, Top: res.Top,
		Links: res.Links, HasLinks: res.HasLinks}
	_, err = w.Commit(root)
	require.NoError(b.t, err)
	require.NoError(b.t, res.Remember())
	return root, res, &p
}

func (b *bench) restore(root *object.Root, target string, change func(*RestoreOptions)) *Restored {
	opt := RestoreOptions{Source: b.st, Root: root, Target: target, Beneath: filepath.Dir(target), OnConflict: Replace,
		Chunker: b.ck, Suffix: ".as-of"}
	if change != nil {
		change(&opt)
	}
	res, err := Restore(context.Background(), opt)
	require.NoError(b.t, err)
	return res
}

// digest is an independent description of a directory: a sorted tar with everything.
func digest(t testing.TB, dir string) string {
	cmd := exec.Command("sh", "-c",
		`find . -printf '%P\0' | LC_ALL=C sort -z | tar --null --no-recursion --xattrs --xattrs-include='*' --acls \
			--numeric-owner --format=pax --pax-option=delete=atime,delete=ctime -cf - -T - 2>/dev/null | sha256sum
		find . -type s -printf '%P %m %U %G %T@\n' | sort
		find . -type f -links +1 -printf '%P %n\n' | LC_ALL=C sort`)
	cmd.Dir = dir
	out, err := cmd.Output()
	require.NoError(t, err)
	return string(out)
}

func requireSame(t testing.TB, a, b string) {
	out, err := exec.Command("diff", "-r", "--no-dereference", a, b).CombinedOutput()
	if err != nil && !strings.Contains(string(out), "is a") { // diff cannot read FIFOs and devices
		require.NoError(t, err, string(out))
	}
	require.Equal(t, digest(t, a), digest(t, b))
}

func write(t testing.TB, path string, data []byte) {
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(t, os.WriteFile(path, data, 0o644))
}

func noise(seed uint64, n int) []byte {
	rng := rand.New(rand.NewPCG(seed, 2))
	b := make([]byte, n)
	for i := range b {
		b[i] = byte(rng.Uint32())
	}
	return b
}

// faithful makes a tree with everything that a Linux tree can hold.
func faithful(t testing.TB, dir string) {
	write(t, dir+"/plain.txt", []byte("hello\n"))
	write(t, dir+"/empty", nil)
	require.NoError(t, os.MkdirAll(dir+"/empty dir", 0o700))
	write(t, dir+"/large.bin", noise(1, 5<<20))
	write(t, dir+"/zeros", make([]byte, 300_000))
	write(t, dir+"/caf\xe9 \xff\xfe\n", []byte("not UTF-8"))
	write(t, dir+"/"+strings.Repeat("\xf0x", 127)+"y", []byte("255 bytes of name"))
	require.NoError(t, os.Link(dir+"/plain.txt", dir+"/second name"))
	write(t, dir+"/sub/linked", noise(2, 100_000))
	require.NoError(t, os.Link(dir+"/sub/linked", dir+"/linked too"))
	require.NoError(t, os.Symlink("plain.txt", dir+"/link"))
	require.NoError(t, os.Symlink("/nowhere/at/all", dir+"/dangling"))
	require.NoError(t, unix.Mkfifo(dir+"/fifo", 0o640))
	require.NoError(t, unix.Mknod(dir+"/socket", unix.S_IFSOCK|0o755, 0))
	if os.Geteuid() == 0 {
		require.NoError(t, unix.Mknod(dir+"/null", unix.S_IFCHR|0o666, int(unix.Mkdev(1, 3))))
		require.NoError(t, unix.Mknod(dir+"/disk", unix.S_IFBLK|0o660, int(unix.Mkdev(7, 200))))
		require.NoError(t, os.Chown(dir+"/empty", 1234, 4321))
		require.NoError(t, unix.Lchown(dir+"/link", 77, 88))
	}
	write(t, dir+"/setuid", []byte("#!/bin/sh\n"))
	require.NoError(t, unix.Chmod(dir+"/setuid", 0o6755))
	require.NoError(t, unix.Chmod(dir+"/empty dir", 0o1777))
	write(t, dir+"/no-access", []byte("x"))
	require.NoError(t, unix.Chmod(dir+"/no-access", 0))
	require.NoError(t, unix.Setxattr(dir+"/plain.txt", "user.comment", []byte("kept\x00binary"), 0))
	require.NoError(t, unix.Setxattr(dir+"/sub", "user.on-dir", []byte("yes"), 0))
	acl := []byte{2, 0, 0, 0, 1, 0, 6, 0, 255, 255, 255, 255, 2, 0, 4, 0, 0xd2, 4, 0, 0, 4, 0, 4, 0, 255, 255, 255, 255,
		16, 0, 6, 0, 255, 255, 255, 255, 32, 0, 4, 0, 255, 255, 255, 255}
	require.NoError(t, unix.Setxattr(dir+"/large.bin", "system.posix_acl_access", acl, 0))
	f, err := os.Create(dir + "/holes")
	require.NoError(t, err)
	for _, at := range []int64{1 << 20, 9<<20 + 123, 40 << 20} {
		_, err = f.WriteAt(noise(uint64(at), 5000), at)
		require.NoError(t, err)
	}
	require.NoError(t, f.Truncate(64<<20))
	require.NoError(t, f.Close())
	deep := dir
	for range 80 { // a path beyond 4096 bytes
		deep += "/" + strings.Repeat("d", 60)
	}
	old, err := os.Getwd()
	require.NoError(t, err)
	require.NoError(t, os.Chdir(dir))
	for range 80 {
		require.NoError(t, os.Mkdir(strings.Repeat("d", 60), 0o755))
		require.NoError(t, os.Chdir(strings.Repeat("d", 60)))
	}
	require.NoError(t, os.WriteFile("bottom", []byte("deep"), 0o644))
	require.NoError(t, os.Chdir(old))
	for _, p := range []string{"plain.txt", "sub", "holes", "empty dir", "zeros"} {
		ts := []unix.Timespec{{Sec: 1, Nsec: 2}, {Sec: 1_600_000_000, Nsec: 123_456_789}}
		require.NoError(t, unix.UtimesNanoAt(unix.AT_FDCWD, dir+"/"+p, ts, unix.AT_SYMLINK_NOFOLLOW))
	}
	ts := []unix.Timespec{{Sec: 1, Nsec: 2}, {Sec: -5, Nsec: 999_999_999}}
	require.NoError(t, unix.UtimesNanoAt(unix.AT_FDCWD, dir+"/dangling", ts, unix.AT_SYMLINK_NOFOLLOW))
}

func TestFaithful(t *testing.T) {
	b := newBench(t)
	base := t.TempDir()
	src := base + "/src"
	require.NoError(t, os.Mkdir(src, 0o750))
	faithful(t, src)
	root, res, _ := b.snapshot(src)
	require.Empty(t, res.Remarks)
	require.EqualValues(t, root.Dirs, 0)
	out := base + "/out"
	r := b.restore(root, out, nil)
	require.Empty(t, r.Remarks)
	requireSame(t, src, out)
	var st unix.Stat_t
	require.NoError(t, unix.Stat(out+"/holes", &st))
	require.Less(t, st.Blocks*512, int64(1<<20), "holes come back as holes")
	// The same content on another place of the host has the same identity.
	again := newBench(t)
	other, _, _ := again.snapshot(out)
	require.Equal(t, root.Tree(), other.Tree())
	require.Equal(t, root.Links, other.Links)
}

// Nothing is opened again when nothing changed, and only what changed is.
func TestIncremental(t *testing.T) {
	b := newBench(t)
	src := t.TempDir()
	for i := range 300 {
		write(t, fmt.Sprintf("%s/d%02d/f%03d", src, i%10, i), noise(uint64(i), 2000))
	}
	waitSettled(t, src)
	first, _, p := b.snapshot(src)
	require.EqualValues(t, 300, p.ReadFiles.Load())
	_, res, p := b.snapshot(src)
	require.True(t, res.Unchanged)
	require.Zero(t, p.ReadFiles.Load())
	require.NoError(t, os.Rename(src+"/d03", src+"/moved"))
	write(t, src+"/d04/f004", []byte("changed"))
	require.NoError(t, os.Remove(src+"/d05/f005"))
	write(t, src+"/d06/new", []byte("added"))
	waitSettled(t, src)
	second, res, p := b.snapshot(src)
	require.False(t, res.Unchanged)
	require.EqualValues(t, 2+30, p.ReadFiles.Load(), "the changed, the new, and the moved directory's")
	_, res, p = b.snapshot(src)
	require.True(t, res.Unchanged)
	require.Zero(t, p.ReadFiles.Load())
	// A fresh look without the cache finds the same tree.
	clean := newBench(t)
	fresh, _, _ := clean.snapshot(src)
	require.Equal(t, fresh.Tree(), second.Tree())
	// Going back in place touches only what differs and takes nothing for granted.
	live := src
	r := b.restore(first, live, func(o *RestoreOptions) { o.Exact = true; o.Beneath = live; o.Safety = second })
	require.EqualValues(t, 2, r.Removed, "moved and d06/new")
	require.EqualValues(t, 1, r.Replaced)
	back, _, _ := newBench(t).snapshot(src)
	require.Equal(t, first.Tree(), back.Tree())
	_, _, p = b.snapshot(src, "d0*")
	require.Zero(t, p.ReadFiles.Load())
}

// waitSettled waits until a newly written file's time lies before the clock tick.
func waitSettled(t testing.TB, dir string) {
	var st unix.Stat_t
	require.NoError(t, unix.Stat(dir, &st))
	deadline := time.Now().Add(5 * time.Second)
	for begin := time.Now(); time.Since(begin) < 40*time.Millisecond; {
		require.True(t, time.Now().Before(deadline))
		var now unix.Timespec
		require.NoError(t, unix.ClockGettime(unix.CLOCK_REALTIME_COARSE, &now))
	}
}

func TestConflictChoices(t *testing.T) {
	b := newBench(t)
	base := t.TempDir()
	src := base + "/src"
	write(t, src+"/a/file.txt", []byte("old"))
	write(t, src+"/b", []byte("same"))
	past := time.Now().Add(-time.Hour)
	require.NoError(t, os.Chtimes(src+"/a/file.txt", past, past))
	root, _, _ := b.snapshot(src)
	for _, c := range []struct {
		choice  Conflict
		newer   bool
		want    string
		beside  string
		outcome Restored
	}{
		{Skip, true, "live!", "", Restored{Skipped: 1}},
		{Replace, true, "old", "", Restored{Replaced: 1}},
		{Older, true, "live!", "", Restored{Skipped: 1}},
		{Older, false, "old", "", Restored{Replaced: 1}},
		{KeepBoth, true, "live!", "old", Restored{Created: 1}},
	} {
		dir := fmt.Sprintf("%s/%s-%v", base, c.choice, c.newer)
		write(t, dir+"/a/file.txt", []byte("live!"))
		if !c.newer {
			older := past.Add(-time.Hour)
			require.NoError(t, os.Chtimes(dir+"/a/file.txt", older, older))
		}
		for _, plan := range []bool{true, false} {
			r := b.restore(root, dir, func(o *RestoreOptions) {
				o.OnConflict = c.choice
				o.Paths = []string{"a/file.txt"}
				o.Plan = plan
			})
			require.Equal(t, c.outcome.Skipped, r.Skipped)
			require.Equal(t, c.outcome.Replaced, r.Replaced)
			require.Equal(t, c.outcome.Created, r.Created)
			got, err := os.ReadFile(dir + "/a/file.txt")
			require.NoError(t, err)
			if plan {
				require.Equal(t, "live!", string(got))
			} else {
				require.Equal(t, c.want, string(got))
			}
		}
		beside, _ := os.ReadFile(dir + "/a/file.as-of.txt")
		require.Equal(t, c.beside, string(beside))
		require.NoFileExists(t, dir+"/b")
	}
	_, err := Restore(context.Background(), RestoreOptions{Source: b.st, Root: root, Target: base + "/x", Beneath: base,
		Paths: []string{"../etc"}})
	require.ErrorContains(t, err, "leads out")
	_, err = Restore(context.Background(), RestoreOptions{Source: b.st, Root: root, Target: base + "/x", Beneath: base,
		Paths: []string{"a/none"}})
	require.ErrorIs(t, err, ErrNoPath)
}

// A symlink planted in the target leads nowhere: what it points to is not touched.
func TestPlantedSymlink(t *testing.T) {
	b := newBench(t)
	base := t.TempDir()
	src, dst, outside := base+"/src", base+"/dst", base+"/outside"
	write(t, src+"/dir/file", []byte("from the snapshot"))
	root, _, _ := b.snapshot(src)
	write(t, outside+"/file", []byte("precious"))
	require.NoError(t, os.Mkdir(dst, 0o755))
	require.NoError(t, os.Symlink(outside, dst+"/dir"))
	b.restore(root, dst, nil)
	got, err := os.ReadFile(outside + "/file")
	require.NoError(t, err)
	require.Equal(t, "precious", string(got))
	requireSame(t, src, dst)
	require.NoError(t, os.Symlink(outside, base+"/way-out"))
	_, err = Restore(context.Background(), RestoreOptions{Source: b.st, Root: root, Target: base + "/way-out/x",
		Beneath: dst})
	require.Error(t, err)
}

func TestTar(t *testing.T) {
	b := newBench(t)
	base := t.TempDir()
	src := base + "/src"
	require.NoError(t, os.Mkdir(src, 0o755))
	faithful(t, src)
	// What tar itself cannot hold: sockets, times before 1970, paths beyond 4096 bytes.
	require.NoError(t, os.Remove(src+"/socket"))
	require.NoError(t, os.Remove(src+"/dangling"))
	require.NoError(t, os.RemoveAll(src+"/"+strings.Repeat("d", 60)))
	root, _, _ := b.snapshot(src)
	var buf bytes.Buffer
	require.NoError(t, WriteTar(context.Background(), &buf, b.st.Get, root, nil))
	out := base + "/out"
	require.NoError(t, os.Mkdir(out, 0o755))
	cmd := exec.Command("tar", "--xattrs", "--xattrs-include=*", "--numeric-owner", "-xpf", "-")
	cmd.Dir, cmd.Stdin = out, bytes.NewReader(buf.Bytes())
	msg, err := cmd.CombinedOutput()
	require.NoError(t, err, string(msg))
	one, _, _ := newBench(t).snapshot(out)
	names := func(r *object.Root) (list []string) {
		var walk func(id object.ID, rel string)
		walk = func(id object.ID, rel string) {
			require.NoError(t, object.WalkDir(func(id object.ID) (object.Envelope, error) {
				return b.st.Get(id)
			}, id, nil, func(e object.Entry) error {
				list = append(list, fmt.Sprintf("%s/%q %v %o %d:%d %d %d", rel, e.Name, e.Kind, e.Mode, e.UID, e.GID, e.Size,
					e.MTime))
				if e.Kind == object.Dir {
					walk(e.Content, rel+"/"+string(e.Name))
				}
				return nil
			}))
		}
		walk(r.Tree(), "")
		return list
	}
	two, _, _ := b.snapshot(out)
	require.Equal(t, names(root), names(two))
	require.Equal(t, one.Tree(), two.Tree())
	buf.Reset()
	require.NoError(t, WriteTar(context.Background(), &buf, b.st.Get, root, []string{"sub/linked"}))
	tr := tar.NewReader(&buf)
	var got []string
	for {
		h, err := tr.Next()
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
		got = append(got, h.Name)
	}
	require.Equal(t, []string{"sub/", "sub/linked"}, got)
}

// A file whose bytes are those of a directory object is a file; directories that are
// each other's doubles, 64 deep, cost 64 objects.
func TestDoublesAndImpostors(t *testing.T) {
	b := newBench(t)
	base := t.TempDir()
	src := base + "/src"
	write(t, src+"/x", []byte("leaf"))
	root, _, _ := b.snapshot(src)
	env, err := b.st.Get(root.Tree())
	require.NoError(t, err)
	write(t, src+"/impostor", object.Encode(nil, env.Kind, env.Children(), env.Payload))
	root, _, _ = b.snapshot(src)
	b.restore(root, base+"/out", nil)
	requireSame(t, src, base+"/out")

	w := b.st.NewWriter(b.st.NewLease())
	id := root.Tree()
	require.NoError(t, w.Has(id))
	for range 64 {
		d := object.NewDirBuilder(w.Put)
		for _, n := range []string{"left", "right"} {
			require.NoError(t, d.Add(object.Entry{Name: []byte(n), Kind: object.Dir, HasContent: true, Content: id}))
		}
		id, err = d.Finish()
		require.NoError(t, err)
	}
	top, err := w.Commit(&object.Root{Lineage: object.LineageID{2}, Top: object.Entry{Kind: object.Dir, HasContent: true,
		Content: id}})
	require.NoError(t, err)
	set, err := b.st.Census(top)
	require.NoError(t, err)
	small, err := b.st.Census(b.st.Roots()[0])
	require.NoError(t, err)
	require.LessOrEqual(t, set.GetCardinality(), small.GetCardinality()+64+3)
	_, err = b.st.Sweep(context.Background(), store.SweepOptions{})
	require.NoError(t, err)
	res, err := b.st.Verify(context.Background(), store.VerifyOptions{})
	require.NoError(t, err)
	require.Empty(t, res.Damage)
}

// Files that change or vanish while they are read are remarks, never a failure.
func TestMovingTarget(t *testing.T) {
	b := newBench(t)
	src := t.TempDir()
	for i := range 400 {
		write(t, fmt.Sprintf("%s/f%03d", src, i), noise(uint64(i), 60_000))
	}
	stop := make(chan struct{})
	done := make(chan struct{})
	go func() {
		defer close(done)
		for i := 0; ; i++ {
			select {
			case <-stop:
				return
			default:
			}
			name := fmt.Sprintf("%s/f%03d", src, (i*7)%400)
			if i%3 == 0 {
				os.Remove(name)
			} else {
				os.WriteFile(name, noise(uint64(i), 1000+i%90_000), 0o644)
			}
		}
	}()
	for range 5 {
		root, _, _ := b.snapshot(src)
		out := filepath.Join(t.TempDir(), "out")
		r := b.restore(root, out, nil)
		require.Empty(t, r.Remarks)
	}
	close(stop)
	<-done
	root, res, _ := b.snapshot(src)
	require.Empty(t, res.Remarks)
	fresh, _, _ := newBench(t).snapshot(src)
	require.Equal(t, fresh.Tree(), root.Tree())
}

// A directory of 200,000 entries; and one that shrank encodes like one that was
// always small.
func TestHugeDirectory(t *testing.T) {
	b := newBench(t)
	src := t.TempDir()
	fd, err := unix.Open(src, unix.O_RDONLY|unix.O_DIRECTORY, 0)
	require.NoError(t, err)
	defer unix.Close(fd)
	for i := range 200_000 {
		require.NoError(t, unix.Symlinkat(fmt.Sprint("target-", i), fd, fmt.Sprintf("entry-%06d", i)))
	}
	root, _, _ := b.snapshot(src)
	n, err := object.CountDir(b.st.Get, root.Tree())
	require.NoError(t, err)
	require.EqualValues(t, 200_000, n)
	e, err := Lookup(b.st.Get, root, "entry-123456")
	require.NoError(t, err)
	require.Equal(t, "target-123456", string(e.Target))
	for i := 100; i < 200_000; i++ {
		require.NoError(t, unix.Unlinkat(fd, fmt.Sprintf("entry-%06d", i), 0))
	}
	shrunk, _, _ := b.snapshot(src)
	small := t.TempDir()
	out, err := exec.Command("cp", "-a", src+"/.", small).CombinedOutput()
	require.NoError(t, err, string(out))
	fresh, _, _ := newBench(t).snapshot(small)
	require.Equal(t, fresh.Tree(), shrunk.Tree())
}
