package tree

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime/debug"
	"strconv"
	"testing"
	"time"

	"candidharbor/core/object"
	"candidharbor/internal/volume/journal"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// followed is a volume with a directory beside it on the same filesystem, read by its
// journal and compared with a reading that knows nothing.
type followed struct {
	*bench
	j    *journal.Journal
	f    *Follower
	dir  string
	told int // readings that the journal vouched for
	now  time.Time
}

func follow(t testing.TB, base string) *followed {
	dir, err := os.MkdirTemp(base, "follow")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	for _, d := range []string{"volume", "beside"} {
		require.NoError(t, os.Mkdir(filepath.Join(dir, d), 0o755))
	}
	f := &followed{bench: newBench(t), dir: dir, now: time.Unix(1_700_000_000, 0)}
	f.restart()
	t.Cleanup(func() { f.f.Close(); f.j.Close() })
	w := f.j.Watch(filepath.Join(dir, "volume"), nil, nil)
	fd, err := unix.Open(filepath.Join(dir, "volume"), unix.O_RDONLY|unix.O_DIRECTORY, 0)
	require.NoError(t, err)
	defer unix.Close(fd)
	if _, err := w.Begin(fd); err != nil {
		t.Skipf("this host does not let a filesystem be watched: %v", err)
	}
	w.Forget()
	return f
}

func (f *followed) restart() {
	if f.f != nil {
		f.f.Close()
		require.NoError(f.t, f.j.Close())
	}
	f.j = journal.New("", func() time.Time { return f.now }, func() {})
	f.f = NewFollower(f.j, f.dir, f.path(""), nil)
}

func (f *followed) path(rel string) string { return filepath.Join(f.dir, "volume", rel) }

// read takes a snapshot by the journal; what tells how.
func (f *followed) read() (*Scanned, *Followed) {
	w := f.st.NewWriter(f.st.NewLease())
	defer w.Close()
	c := OpenCache(f.cache, "lineage", "s")
	defer c.Close()
	res, how, err := f.f.Read(context.Background(), ScanOptions{Path: f.path(""), Chunker: f.ck, Sink: w, Get: f.st.Get,
		Cache: c}, f.now)
	require.NoError(f.t, err)
	f.seq++
	_, err = w.Commit(&object.Root{Lineage: object.LineageID{1}, Volume: "v", Origin: "o", Term: 1, Sequence: f.seq,
		Consistency: object.Spread, Cause: object.CauseByHand,
		Top: res.Top, Links: res.Links, HasLinks: res.HasLinks, ChunkAvg: 64 << 10})
	require.NoError(f.t, err)
	require.NoError(f.t, res.Remember())
	how.Done(true)
	if how.ByJournal {
		f.told++
	}
	return res, how
}

// anew reads everything, remembering nothing.
func (f *followed) anew() *Scanned {
	c := OpenCache(f.t.TempDir(), "x", "s")
	defer c.Close()
	res, err := Scan(context.Background(), ScanOptions{Path: f.path(""), Beneath: f.dir, Chunker: f.ck, Sink: nullSink{},
		Cache: c})
	require.NoError(f.t, err)
	res.Forget()
	return res
}

// agrees compares the journal's reading with one that looks at everything.
func (f *followed) agrees(what string) *Followed {
	res, how := f.read()
	want := f.anew()
	require.Equal(f.t, want.Top, res.Top, what)
	require.Equal(f.t, want.Links, res.Links, what)
	require.Equal(f.t, [4]int64{want.Files, want.Dirs, want.Others, want.Bytes}, [4]int64{res.Files, res.Dirs, res.Others,
		res.Bytes}, what)
	require.Equal(f.t, want.Remarks, res.Remarks, what)
	require.Empty(f.t, how.Untold, what)
	return how
}

// strangers makes random changes in and beside the volume.
type strangers struct {
	t    testing.TB
	r    *rand.Rand
	dir  string
	n    int
	maps [][]byte
	fds  []int
}

func (s *strangers) names(dirs bool) []string {
	var out []string
	err := filepath.WalkDir(s.dir, func(p string, d os.DirEntry, err error) error {
		if err == nil && d.IsDir() == dirs && p != s.dir && p != filepath.Join(s.dir, "volume") && p != filepath.Join(s.dir,
			"beside") && (dirs || d.Type().IsRegular()) {
			out = append(out, p)
		}
		return nil
	})
	require.NoError(s.t, err)
	return out
}

func (s *strangers) dirOf() string {
	all := append(s.names(true), filepath.Join(s.dir, "volume"), filepath.Join(s.dir, "volume"),
		filepath.Join(s.dir, "beside"))
	return all[s.r.IntN(len(all))]
}

func (s *strangers) file() string {
	all := s.names(false)
	if len(all) == 0 {
		p := s.fresh()
		require.NoError(s.t, os.WriteFile(p, []byte("first"), 0o644))
		return p
	}
	return all[s.r.IntN(len(all))]
}

func (s *strangers) fresh() string {
	s.n++
	// Few names, so that what is removed comes back as something else.
	return filepath.Join(s.dirOf(), "n"+strconv.Itoa(s.r.IntN(12)))
}

func (s *strangers) bytes() []byte {
	b := make([]byte, s.r.IntN(3000))
	for i := range b {
		b[i] = byte(s.r.Uint32())
	}
	return b
}

// change does one thing; what cannot be done is left. It returns what it tried.
func (s *strangers) change() string {
	dirs := s.names(true)
	switch k := s.r.IntN(19); k {
	case 0, 1:
		p := s.fresh()
		os.WriteFile(p, s.bytes(), 0o644)
		return "write " + p
	case 2:
		p := s.fresh()
		os.Mkdir(p, 0o755)
		return "mkdir " + p
	case 3, 4, 5: // directories moved within, out and in, with what they hold
		if len(dirs) == 0 {
			return ""
		}
		from, to := dirs[s.r.IntN(len(dirs))], s.fresh()
		os.Rename(from, to)
		return "move " + from + " to " + to
	case 6:
		from, to := s.file(), s.fresh()
		os.Rename(from, to)
		return "move file " + from + " to " + to
	case 7, 8:
		from, to := s.file(), s.fresh()
		os.Link(from, to)
		return "link " + from + " to " + to
	case 9:
		p := s.file()
		os.Remove(p)
		return "remove " + p
	case 10:
		p := s.file()
		os.Truncate(p, int64(s.r.IntN(500)))
		return "truncate " + p
	case 11, 12: // the same size and time as before
		p := s.file()
		st, err := os.Stat(p)
		if err != nil || st.Size() == 0 {
			return ""
		}
		f, err := os.OpenFile(p, os.O_WRONLY, 0)
		require.NoError(s.t, err)
		f.WriteAt([]byte{byte(s.r.Uint32())}, int64(s.r.IntN(int(st.Size()))))
		f.Close()
		os.Chtimes(p, st.ModTime(), st.ModTime())
		return "overwrite in place " + p
	case 13: // a map that stays, with its file left open
		p := s.file()
		fd, err := unix.Open(p, unix.O_RDWR|unix.O_CLOEXEC, 0)
		if err != nil {
			return ""
		}
		unix.Ftruncate(fd, 4096)
		m, err := unix.Mmap(fd, 0, 4096, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_SHARED)
		require.NoError(s.t, err)
		if s.r.IntN(2) == 0 {
			s.fds = append(s.fds, fd)
		} else {
			unix.Close(fd)
		}
		s.maps = append(s.maps, m)
		return "map " + p
	case 14:
		for _, m := range s.maps {
			touch(m, s.r.IntN(len(m)))
		}
		if len(s.maps) > 0 && s.r.IntN(3) == 0 {
			unix.Munmap(s.maps[0])
			s.maps = s.maps[1:]
		}
		if len(s.fds) > 0 && s.r.IntN(3) == 0 {
			unix.Close(s.fds[0])
			s.fds = s.fds[1:]
		}
		return "write through maps"
	case 15:
		p := s.file()
		if s.r.IntN(2) == 0 {
			p = s.dirOf()
		}
		if s.r.IntN(2) == 0 {
			os.Chmod(p, os.FileMode(0o700|s.r.IntN(64)))
		} else {
			unix.Setxattr(p, "user.note", []byte(strconv.Itoa(s.r.IntN(9))), 0)
		}
		return "attributes of " + p
	case 16:
		if len(dirs) == 0 {
			return ""
		}
		p := dirs[s.r.IntN(len(dirs))]
		os.RemoveAll(p)
		if s.r.IntN(2) == 0 {
			os.Mkdir(p, 0o755)
		}
		return "remove all of " + p
	}
	if s.r.IntN(2) == 0 { // through a map that is gone at once; in memory no time tells of it
		p := s.file()
		fd, err := unix.Open(p, unix.O_RDWR|unix.O_CLOEXEC, 0)
		if err != nil {
			return ""
		}
		defer unix.Close(fd)
		if m, err := unix.Mmap(fd, 0, 4096, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_SHARED); err == nil {
			touch(m, s.r.IntN(300))
			unix.Munmap(m)
		}
		return "write and unmap " + p
	}
	p := s.fresh()
	os.Symlink("target"+strconv.Itoa(s.r.IntN(5)), p)
	return "symlink " + p
}

// touch writes through a map; where its file was cut short meanwhile, nothing happens.
func touch(m []byte, at int) {
	defer debug.SetPanicOnFault(debug.SetPanicOnFault(true))
	defer func() { _ = recover() }()
	m[at]++
}

func (s *strangers) end() {
	for _, m := range s.maps {
		unix.Munmap(m)
	}
	for _, fd := range s.fds {
		unix.Close(fd)
	}
}

func rounds(t testing.TB, name string, short int) int {
	if n, err := strconv.Atoi(os.Getenv(name)); err == nil {
		return n
	}
	return short
}

// What a reading by journal finds is what one finds that looks at everything, whatever
// was done in and beside the volume, on a disk and in memory, through restarts and lost
// events.
func TestJournalAgainstScan(t *testing.T) {
	for name, base := range map[string]string{"disk": t.TempDir(), "memory": memoryDir(t)} {
		t.Run(name, func(t *testing.T) {
			seed := uint64(rounds(t, "JOURNAL_SEED", 7))
			f := follow(t, base)
			s := &strangers{t: t, r: rand.New(rand.NewPCG(seed, 1)), dir: f.dir}
			defer s.end()
			n := rounds(t, "JOURNAL_ROUNDS", 120)
			for round := range n {
				what := fmt.Sprintf("seed %d, round %d:", seed, round)
				for range s.r.IntN(8) {
					what += "\n" + s.change()
				}
				if round > 0 && s.r.IntN(40) == 0 {
					f.restart()
					if name == "memory" { // there no time tells of writes through maps, so nothing remembered can be compared
						f.cache = t.TempDir()
					}
					require.False(t, f.agrees(what+"\nrestart").ByJournal)
				}
				f.now = f.now.Add(time.Hour)
				how := f.agrees(what)
				if !how.ByJournal {
					require.NotEmpty(t, how.Why, what)
				}
			}
			require.Greater(t, f.told, n*8/10)
		})
	}
}

// While others change the volume all the time, each reading is of some state of theirs;
// once they rest, the next one finds what is there.
func TestJournalWhileOthersWrite(t *testing.T) {
	f := follow(t, quietDir(t))
	s := &strangers{t: t, r: rand.New(rand.NewPCG(3, 1)), dir: f.dir}
	defer s.end()
	f.read()
	for range rounds(t, "JOURNAL_ROUNDS", 120) / 4 {
		stop, rested := make(chan struct{}), make(chan struct{})
		go func() {
			defer close(rested)
			for {
				select {
				case <-stop:
					return
				default:
					s.change()
				}
			}
		}()
		for range 3 {
			f.read()
			f.now = f.now.Add(time.Minute)
		}
		close(stop)
		<-rested
		f.agrees("at rest")
	}
}

// What was lost, and what a mount covers, is looked for; the next reading is told again.
func TestJournalThatCannotVouch(t *testing.T) {
	f := follow(t, quietDir(t))
	require.NoError(t, os.MkdirAll(f.path("a/b"), 0o755))
	require.Equal(t, "it is watched from now on", f.agrees("first").Why)
	how := f.agrees("nothing changed")
	require.Equal(t, []bool{true, true, true}, []bool{how.ByJournal, how.Still, how.Watched})
	require.NoError(t, os.WriteFile(f.path("a/b/f"), []byte("x"), 0o644))
	_, last, ok := f.f.Changed()
	require.True(t, ok && last.Equal(f.now))
	how = f.agrees("one file")
	require.True(t, how.ByJournal && how.Still && !how.Watched)
	_, last, ok = f.f.Changed()
	require.True(t, ok && last.IsZero())

	queue, err := os.ReadFile("/proc/sys/fs/fanotify/max_queued_events")
	require.NoError(t, err)
	n, err := strconv.Atoi(string(queue[:len(queue)-1]))
	require.NoError(t, err)
	release := f.f.watch.Stall()
	for i := range n + 10 { // each its own event, and nobody to take it
		require.NoError(t, os.Symlink("x", f.path("a/l"+strconv.Itoa(i))))
	}
	release()
	how = f.agrees("lost")
	require.False(t, how.ByJournal)
	require.Contains(t, how.Why, "lost track")
	require.True(t, f.agrees("after a loss").ByJournal)

	if err := unix.Mount("none", f.path("a/b"), "tmpfs", 0, ""); err != nil {
		t.Skipf("mounting is not allowed here: %v", err)
	}
	defer unix.Unmount(f.path("a/b"), unix.MNT_DETACH)
	how = f.agrees("mounted")
	require.False(t, how.ByJournal)
	require.True(t, f.agrees("still mounted").ByJournal)
	require.NoError(t, unix.Unmount(f.path("a/b"), 0))
	require.False(t, f.agrees("unmounted").ByJournal)
}

// An audit finds what the kernel did not tell, and says so; the journal is not trusted
// from then on.
func TestAudit(t *testing.T) {
	f := follow(t, quietDir(t))
	require.NoError(t, os.MkdirAll(f.path("a/b"), 0o755))
	require.NoError(t, os.WriteFile(f.path("a/b/f"), []byte("x"), 0o644))
	f.agrees("first")
	f.now = f.now.Add(25 * time.Hour)
	require.NoError(t, os.WriteFile(f.path("a/g"), []byte("y"), 0o644))
	how := f.agrees("a told change")
	require.True(t, how.Audited)
	require.NoError(t, os.WriteFile(f.path("a/b/f"), []byte("z"), 0o644))
	f.f.watch.Drop()
	f.now = f.now.Add(25 * time.Hour)
	_, how = f.read()
	require.Equal(t, []string{"a/b"}, how.Untold)
	how = f.agrees("from then on")
	require.False(t, how.ByJournal)
	require.Contains(t, how.Why, `a change was found in "a/b"`)
}
