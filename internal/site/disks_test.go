package site

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/recovery"
	"candidharbor/internal/refusal"
	"candidharbor/internal/run"

	"github.com/stretchr/testify/require"
)

const diskSize = 3 << 20

func (w *world) disk(s *Site, name string) {
	_, err := s.Capture.AddVolume(w.ctx, api.VolumeAdd{Name: name, SizeBytes: diskSize, BlockBytes: 4096,
		Labels: map[string]string{"k": "v"}})
	require.NoError(w.t, err)
}

// scribble writes into a disk and into what it is to hold.
func (w *world) scribble(s *Site, name string, holds []byte, r *rand.Rand) {
	d, err := s.Disks.Disk(name)
	require.NoError(w.t, err)
	for range 20 {
		off, n := r.IntN(diskSize-9000), 1+r.IntN(9000)
		p := bytes.Repeat([]byte{byte(r.Uint32())}, n)
		require.NoError(w.t, d.WriteAt(w.ctx, p, int64(off), r.IntN(5) == 0))
		copy(holds[off:], p)
	}
}

func (w *world) diskBytes(s *Site, name string) []byte {
	d, err := s.Disks.Disk(name)
	require.NoError(w.t, err)
	p := make([]byte, d.Size())
	require.NoError(w.t, d.ReadAt(p, 0))
	return p
}

// imageOf brings a snapshot back to a file and reads it.
func (w *world) imageOf(s *Site, volume, at string) []byte {
	to := filepath.Join(w.dir, fmt.Sprint("image-", rand.Uint64()))
	w.done(s)(s.Recovery.Restore(w.ctx, api.RestoreAsk{Volume: volume, At: at, To: to}, "test"))
	defer os.Remove(to)
	return must(os.ReadFile(to))
}

// A disk lives as other volumes do: taken by its policy, seen when nothing was written, carried to another
// site, let go by the rules, there again after a restart and after the catalogue was lost.
func TestDiskVolume(t *testing.T) {
	w := newWorld(t)
	here, there := w.open("here"), w.open("there")
	w.pair(here, there)
	w.disk(here, "db")
	w.policy(here, everySix)
	w.route(here, "there")
	r := rand.New(rand.NewPCG(1, 2))
	holds := make([]byte, diskSize)
	was := map[string][]byte{}
	for day := range 8 {
		if day != 5 {
			w.scribble(here, "db", holds, r)
		}
		w.until(here, w.clock.Now().Add(24*time.Hour))
		was[w.rows(here, "db")[0].ID] = bytes.Clone(holds)
		if day == 3 {
			require.NoError(t, here.Close())
			here = w.open("here")
		}
	}
	w.done(here)(here.Rules.Prune("", "test"))
	rows := w.rows(here, "db")
	require.Len(t, was, 7, "a day without a write is seen, not taken")
	require.Equal(t, string(object.Crash), rows[0].Consistency)
	require.EqualValues(t, diskSize, rows[0].Bytes)
	require.Equal(t, "block", must(there.Catalog.Volume("db@here")).Kind)
	far := w.rows(there, "db@here")
	require.NotEmpty(t, far)
	for _, row := range rows {
		require.True(t, bytes.Equal(was[row.ID], w.imageOf(here, "db", row.ID)), row.Began)
	}
	for _, row := range far {
		require.True(t, bytes.Equal(was[row.ID], w.imageOf(there, "db@here", row.ID)), row.Began)
	}
	for _, s := range []*Site{here, there} {
		require.Equal(t, "done", w.done(s)(s.Upkeep.Verify("test")).State)
		w.done(s)(s.Upkeep.Sweep(true, "test"))
		require.Equal(t, "done", w.done(s)(s.Upkeep.Verify("test")).State)
	}
	plan, err := here.Rules.PlanPrune(t.Context(), "")
	require.NoError(t, err)
	require.Zero(t, plan.EnterGrace)

	require.NoError(t, here.Close()) // the catalogue is lost
	for _, f := range []string{"catalog.db", "catalog.db-wal", "catalog.db-shm"} {
		_ = os.Remove(filepath.Join(w.dir, "here", f))
	}
	here = w.open("here")
	require.True(t, bytes.Equal(holds, w.diskBytes(here, "db")))
	w.scribble(here, "db", holds, r)
	w.done(here)(here.Capture.TakeSnapshot("db", api.SnapshotTake{}, "test"))
	require.True(t, bytes.Equal(holds, w.imageOf(here, "db", "latest")))
}

// A disk goes back at once and forward again, and nothing that it was on the way is lost.
func TestDiskGoesBack(t *testing.T) {
	w := newWorld(t)
	s := w.open("here")
	w.disk(s, "db")
	r := rand.New(rand.NewPCG(5, 2))
	holds := make([]byte, diskSize)
	var was [][]byte
	var ids []string
	for range 4 {
		w.scribble(s, "db", holds, r)
		w.done(s)(s.Capture.TakeSnapshot("db", api.SnapshotTake{}, "test"))
		was, ids = append(was, bytes.Clone(holds)), append(ids, w.rows(s, "db")[0].ID)
		w.clock.Set(w.clock.Now().Add(time.Hour))
	}
	w.scribble(s, "db", holds, r)
	for i, from := range was {
		for k, to := range append(was[:len(was):len(was)], bytes.Clone(holds)) {
			at := "now"
			if k < len(ids) {
				at = ids[k]
			}
			c, err := s.Recovery.CompareDisk(w.ctx, "db", ids[i], at)
			require.NoError(t, err)
			told, sum, along := make([]bool, diskSize/4096), int64(0), int64(0)
			for _, x := range c.Ranges {
				for b := x.Offset / 4096; b < (x.Offset+x.Bytes)/4096; b++ {
					told[b] = true
				}
				sum += x.Bytes
			}
			for _, n := range c.Along {
				along += n
			}
			require.Equal(t, c.DiffersBytes, sum)
			require.Equal(t, c.DiffersBytes, along)
			for b := range told {
				if differs := !bytes.Equal(from[b*4096:(b+1)*4096], to[b*4096:(b+1)*4096]); at != "now" || differs {
					require.Equal(t, differs, told[b], "block %d from %d to %d", b, i, k)
				}
			}
		}
	}
	plan, err := s.Recovery.PlanRestore(w.ctx, api.RestoreAsk{Volume: "db", At: ids[1], InPlace: true})
	require.NoError(t, err)
	require.Contains(t, plan.Summary, "come from the snapshot")
	require.True(t, bytes.Equal(holds, w.diskBytes(s, "db")))

	back := w.done(s)(s.Recovery.Restore(w.ctx, api.RestoreAsk{Volume: "db", At: ids[1], InPlace: true}, "test"))
	require.True(t, bytes.Equal(was[1], w.diskBytes(s, "db")))
	require.Len(t, w.rows(s, "db"), 5, "with a safety snapshot")
	require.NoError(t, s.Close())
	s = w.open("here")
	require.True(t, bytes.Equal(was[1], w.diskBytes(s, "db")))
	forward := w.done(s)(s.Recovery.Undo(back.ID, "test"))
	require.True(t, bytes.Equal(holds, w.diskBytes(s, "db")))
	w.done(s)(s.Recovery.Undo(forward.ID, "test"))
	require.True(t, bytes.Equal(was[1], w.diskBytes(s, "db")))

	// Another disk becomes as this one was, whatever its size, and is as before again.
	_, err = s.Capture.AddVolume(w.ctx, api.VolumeAdd{Name: "other", SizeBytes: 2 << 20, BlockBytes: 4096})
	require.NoError(t, err)
	require.NoError(t, must(s.Disks.Disk("other")).WriteAt(w.ctx, []byte("its own"), 1<<20, false))
	mine := w.diskBytes(s, "other")
	into := w.done(s)(s.Recovery.Restore(w.ctx, api.RestoreAsk{Volume: "db", At: ids[2], Into: "other"}, "test"))
	require.Contains(t, into.Outcome, "other is as db was")
	require.True(t, bytes.Equal(was[2], w.diskBytes(s, "other")))
	require.True(t, bytes.Equal(was[1], w.diskBytes(s, "db")))
	w.done(s)(s.Recovery.Undo(into.ID, "test"))
	require.True(t, bytes.Equal(mine, w.diskBytes(s, "other")))
	w.share(s, "notes")
	_, err = s.Capture.AddVolume(w.ctx, api.VolumeAdd{Name: "coarse", SizeBytes: 2 << 20, BlockBytes: 8192})
	require.NoError(t, err)
	for name, say := range map[string]string{"db": "with --in-place", "notes": "is a directory", "nobody": "not found",
		"coarse": "has blocks of 4.0 KiB"} {
		_, err := s.Recovery.Restore(w.ctx, api.RestoreAsk{Volume: "db", At: ids[2], Into: name}, "test")
		require.ErrorContains(t, err, say)
		require.NotEqual(t, refusal.Internal, refusal.ClassOf(err))
	}

	// What it stands on stays when its snapshot goes.
	copy(holds, was[1])
	for _, row := range w.rows(s, "db") {
		_, err := s.Rules.RemoveSnapshot(row.ID)
		require.NoError(t, err)
	}
	w.clock.Set(w.clock.Now().Add(30 * 24 * time.Hour))
	w.done(s)(s.Rules.Prune("", "test"))
	w.done(s)(s.Upkeep.Sweep(true, "test"))
	require.NoError(t, s.Close())
	index := must(filepath.Glob(filepath.Join(w.dir, "here", "*", "index", "*.run")))
	require.NotEmpty(t, index)
	for _, f := range index { // also when what is in the store has to be found anew
		require.NoError(t, os.Remove(f))
	}
	s = w.open("here")
	require.True(t, bytes.Equal(holds, w.diskBytes(s, "db")))
	w.scribble(s, "db", holds, r)
	w.done(s)(s.Capture.TakeSnapshot("db", api.SnapshotTake{}, "test"))
	require.True(t, bytes.Equal(holds, w.imageOf(s, "db", "latest")))
}

// A group of disks and files is one set: its disks are of one instant.
func TestGroupOfDisksAndFiles(t *testing.T) {
	w := newWorld(t)
	s := w.open("here")
	w.disk(s, "db")
	w.disk(s, "log")
	dir := w.share(s, "notes")
	_, err := s.Capture.PutGroup("ledger", api.GroupPut{Volumes: []string{"db", "log", "notes"}})
	require.NoError(t, err)
	r := rand.New(rand.NewPCG(8, 2))
	db, log := make([]byte, diskSize), make([]byte, diskSize)
	w.scribble(s, "db", db, r)
	w.scribble(s, "log", log, r)
	w.write(dir, "a", "of the set")
	w.done(s)(s.Capture.TakeSnapshot("notes", api.SnapshotTake{}, "test"))
	row := w.rows(s, "db")[0]
	set := must(s.Rules.Set(row))
	require.Len(t, set, 3)
	require.Equal(t, row.Began, w.rows(s, "log")[0].Began)
	require.True(t, bytes.Equal(db, w.imageOf(s, "db", "latest")))
	require.True(t, bytes.Equal(log, w.imageOf(s, "log", "latest")))
	require.Equal(t, "of the set", w.textOf(s, w.rows(s, "notes")[0], "a"))

	// It goes back as one, whenever the service ends meanwhile, and forward again by one undo.
	before := map[string][]byte{"db": bytes.Clone(db), "log": bytes.Clone(log)}
	w.write(dir, "a", "later")
	for range 2000 {
		w.write(dir, fmt.Sprint("page ", r.Uint32()), "later")
	}
	w.scribble(s, "db", db, r)
	w.scribble(s, "log", log, r)
	now, files := map[string][]byte{"db": db, "log": log}, exact(t, dir)
	back := api.GroupRestoreAsk{Group: "ledger", At: row.ID, InPlace: true, Disconnect: true}
	plan := must(s.Recovery.PlanGroupRestore(w.ctx, back))
	require.Len(t, plan.Volumes, 3)
	over := func() {
		for busy := true; busy; {
			busy = false
			for _, r := range must(s.Run.Runs(catalog.RunFilter{Limit: 20})).Items {
				if !r.Over() {
					_, err := s.Run.Wait(w.ctx, r.ID)
					require.NoError(t, err)
					busy = true
				}
			}
		}
	}
	is := func(want map[string][]byte) {
		t.Helper()
		for name, bytesOf := range want {
			require.True(t, bytes.Equal(bytesOf, w.diskBytes(s, name)), name)
		}
	}
	whole := 0
	for round := range 12 {
		run, err := s.Recovery.RestoreGroup(w.ctx, back, "test")
		require.NoError(t, err)
		for range round * 40 {
			runtime.Gosched()
			_ = must(s.Run.Run(run.ID))
		}
		require.NoError(t, s.Close())
		s = w.open("here")
		over()
		if string(must(os.ReadFile(filepath.Join(dir, "a")))) == "later" { // nothing of it began
			is(now)
			require.Equal(t, files, exact(t, dir))
			_, err = s.Recovery.Undo(run.ID, "test")
			require.ErrorContains(t, err, "wrote nothing")
			continue
		}
		whole++
		is(before)
		w.done(s)(s.Recovery.Undo(run.ID, "test"))
		is(now)
		require.Equal(t, files, exact(t, dir))
	}
	require.Greater(t, whole, 3)
}

// What cannot be is refused with the way out, and changes nothing.
func TestBadDisks(t *testing.T) {
	w := newWorld(t)
	s := w.open("here")
	w.write(w.dir, "raw", string(bytes.Repeat([]byte("x"), 1000)))
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(w.dir, "link")))
	for say, ask := range map[string]api.VolumeAdd{
		"a multiple of 512":       {Name: "x", SizeBytes: 513},
		"a path":                  {Name: "x"},
		"choose larger":           {Name: "x", SizeBytes: 1 << 45, BlockBytes: 4096},
		"power of two":            {Name: "x", SizeBytes: 4096, BlockBytes: 5000},
		"outside the roots":       {Name: "x", SizeBytes: 4096, Image: "/var/tmp/x.img"},
		"there already":           {Name: "x", SizeBytes: 4096, Image: filepath.Join(w.dir, "raw")},
		"out of the roots":        {Name: "x", SizeBytes: 4096, Image: filepath.Join(w.dir, "link")},
		"more than the disk":      {Name: "x", SizeBytes: 512, Import: filepath.Join(w.dir, "raw")},
		"import":                  {Name: "x", Import: w.dir},
		"one or the other":        {Name: "x", Path: w.dir, SizeBytes: 4096},
		"of a directory of files": {Name: "x", SizeBytes: 4096, Excludes: []string{"*.tmp"}},
	} {
		_, err := s.Capture.AddVolume(w.ctx, ask)
		require.ErrorContains(t, err, say, "%+v", ask)
		require.NotEqual(t, refusal.Internal, refusal.ClassOf(err), "%s", err)
		require.Empty(t, must(s.Catalog.Volumes()))
	}
	ctx, leave := context.WithCancel(w.ctx) // who asked leaves while a server that says nothing is waited for
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	go func() {
		if c, err := l.Accept(); err == nil {
			defer c.Close()
			leave()
		}
	}()
	_, err = s.Capture.AddVolume(ctx, api.VolumeAdd{Name: "x", Import: "nbd://" + l.Addr().String() + "/x"})
	require.ErrorContains(t, err, "canceled")
	require.Empty(t, must(os.ReadDir(filepath.Join(w.dir, "here", "disks"))))
	_, err = s.Capture.AddVolume(w.ctx, api.VolumeAdd{Name: "x", Import: filepath.Join(w.dir, "raw"),
		Image: filepath.Join(w.dir, "x.img")})
	require.NoError(t, err)
	require.Equal(t, append(bytes.Repeat([]byte("x"), 1000), make([]byte, 24)...), w.diskBytes(s, "x"))
	_, err = s.Disks.Grow(w.ctx, "x", 512)
	require.ErrorContains(t, err, "grows only")
	_, err = s.Disks.Release(w.ctx, "x")
	require.ErrorContains(t, err, "nobody holds")
	for _, call := range []func() error{
		func() error { _, err := s.Recovery.Browse("x", "latest", "", ""); return err },
		func() error { _, err := s.Recovery.Find(w.ctx, "x", api.FindAsk{Pattern: "a"}); return err },
		func() error { _, err := s.Clones.Mount(api.MountAsk{Volume: "x", Dir: w.dir}, "test"); return err },
		func() error {
			_, err := s.Recovery.Compare(w.ctx, recovery.CompareAsk{Volume: "x", From: "latest", To: ""})
			return err
		},
	} {
		require.ErrorContains(t, call(), "is a disk")
	}

	// Its image is another file at the next start: nothing is written into that, and nothing of it is taken.
	require.NoError(t, s.Close())
	require.NoError(t, os.Rename(filepath.Join(w.dir, "x.img"), filepath.Join(w.dir, "away.img")))
	require.NoError(t, os.WriteFile(filepath.Join(w.dir, "x.img"), make([]byte, 1024), 0o600))
	s = w.open("here")
	require.Equal(t, api.DiskMissing, must(s.Disks.Show("x")).State)
	said := ""
	for _, x := range must(s.Overview.Status()).Sentences {
		said += x.Text
	}
	require.Contains(t, said, "x cannot be opened")
	run := must(s.Capture.TakeSnapshot("x", api.SnapshotTake{}, "test"))
	require.Equal(t, api.RunFailed, must(s.Run.Wait(w.ctx, run.ID)).State)
	require.NoError(t, os.Rename(filepath.Join(w.dir, "away.img"), filepath.Join(w.dir, "x.img")))
	require.Equal(t, api.DiskReady, must(s.Disks.OpenDisk(w.ctx, "x", false)).State)
	w.done(s)(s.Capture.TakeSnapshot("x", api.SnapshotTake{}, "test"))
	said, err = s.Capture.RemoveVolume("x")
	require.NoError(t, err)
	require.Contains(t, said, "Its image stays")
	require.FileExists(t, filepath.Join(w.dir, "x.img"))
	require.NoError(t, s.Close())
	s = w.open("here")
	require.Empty(t, must(s.Disks.Disks()))
	_, err = s.Capture.AddVolume(w.ctx, api.VolumeAdd{Name: "x", SizeBytes: 4096})
	require.ErrorContains(t, err, "candid disk open x")
	require.Equal(t, api.DiskReady, must(s.Disks.OpenDisk(w.ctx, "x", false)).State)
	require.True(t, must(s.Catalog.Volume("x")).Protected)
	require.Equal(t, "x", string(w.diskBytes(s, "x")[:1]))
}

// Clones of a disk exist at once, take what is written to them alone, and are there again after a restart.
func TestDiskClones(t *testing.T) {
	w := newWorld(t)
	s := w.open("here")
	w.disk(s, "db")
	r := rand.New(rand.NewPCG(11, 2))
	holds := make([]byte, diskSize)
	w.scribble(s, "db", holds, r)
	w.done(s)(s.Capture.TakeSnapshot("db", api.SnapshotTake{}, "test"))
	was := bytes.Clone(holds)
	w.scribble(s, "db", holds, r)
	clones := map[string][]byte{}
	for i := range 5 {
		name := fmt.Sprint("c", i)
		c, err := s.Clones.MakeClone(api.CloneAsk{Name: name, Volume: "db", At: "latest"}, "test")
		require.NoError(t, err)
		require.Contains(t, c.Address, name)
		clones[name] = bytes.Clone(was)
		w.scribble(s, name, clones[name], r)
	}
	for say, ask := range map[string]api.CloneAsk{"no directory": {Name: "x", Volume: "db", Dir: w.dir},
		"a clone c1 already": {Name: "c1", Volume: "db"}, "name of a volume": {Name: "db", Volume: "db"}} {
		_, err := s.Clones.MakeClone(ask, "test")
		require.ErrorContains(t, err, say)
	}
	_, err := s.Capture.AddVolume(w.ctx, api.VolumeAdd{Name: "c1", SizeBytes: 4096})
	require.ErrorContains(t, err, "another disk")
	id := w.rows(s, "db")[0].ID
	_, err = s.Rules.RemoveSnapshot(id)
	require.ErrorContains(t, err, "clone")
	require.NoError(t, s.Close())
	s = w.open("here")
	for name, want := range clones {
		require.True(t, bytes.Equal(want, w.diskBytes(s, name)), name)
	}
	require.True(t, bytes.Equal(holds, w.diskBytes(s, "db")))
	require.Len(t, must(s.Clones.Clones()), 5)

	// One becomes a volume, with its first snapshot and while it is written to; another one by being settled. They
	// outlive the disk's snapshot, which nothing but them needs.
	_, err = s.Clones.CloneToVolume("c0", api.CloneToVolume{To: filepath.Join(w.dir, "x")}, "test")
	require.ErrorContains(t, err, "where it is")
	for _, name := range []string{"c0", "c1"} {
		old := must(s.Disks.Disk(name))
		if name == "c0" {
			w.done(s)(s.Clones.SnapshotClone(name, api.SnapshotTake{}, "test"))
		} else {
			run := w.done(s)(s.Clones.CloneToVolume(name, api.CloneToVolume{}, "test"))
			require.Contains(t, run.Outcome, name+" is a volume of its own")
		}
		require.Same(t, old, must(s.Disks.Disk(name)), "its clients go on")
		row := w.rows(s, name)[0]
		require.Less(t, row.Stored, int64(diskSize/4), "what was written alone")
		require.True(t, bytes.Equal(clones[name], w.imageOf(s, name, "latest")))
		require.Equal(t, "db", must(s.Catalog.Volume(name)).Labels.V["clone-of"])
		_, err = s.Clones.DiscardClone(name, true)
		require.ErrorContains(t, err, "no clone")
		delete(clones, name)
		clones["volume "+name] = w.diskBytes(s, name)
	}
	require.Len(t, must(s.Clones.Clones()), 3)
	volumes := map[string][]byte{}
	for name, holds := range clones {
		if volume, is := strings.CutPrefix(name, "volume "); is {
			volumes[volume] = holds
			delete(clones, name)
		}
	}
	for name := range clones {
		_, err := s.Clones.DiscardClone(name, false)
		require.NoError(t, err)
	}
	require.Empty(t, must(s.Clones.Clones()))
	entries := must(os.ReadDir(filepath.Join(w.dir, "here", "disks")))
	require.Len(t, entries, 3)
	require.Len(t, s.Store.PinOwners(), 3)
	_, err = s.Rules.RemoveSnapshot(id)
	require.NoError(t, err)
	w.clock.Set(w.clock.Now().Add(48 * time.Hour))
	w.done(s)(s.Rules.Prune("", "test"))
	w.done(s)(s.Upkeep.Sweep(true, "test"))
	require.NoError(t, s.Close())
	s = w.open("here")
	for name, want := range volumes {
		require.True(t, bytes.Equal(want, w.diskBytes(s, name)), name)
		w.scribble(s, name, want, r)
		w.done(s)(s.Capture.TakeSnapshot(name, api.SnapshotTake{}, "test"))
		require.True(t, bytes.Equal(want, w.imageOf(s, name, "latest")), name)
	}
	require.Equal(t, "done", w.done(s)(s.Upkeep.Verify("test")).State)
}

// Clones of the first releases lay under their names, and have a history of their own from the next start on.
func TestDiskClonesOfBefore(t *testing.T) {
	w := newWorld(t)
	s := w.open("here")
	w.disk(s, "db")
	r := rand.New(rand.NewPCG(13, 2))
	holds := make([]byte, diskSize)
	w.scribble(s, "db", holds, r)
	w.done(s)(s.Capture.TakeSnapshot("db", api.SnapshotTake{}, "test"))
	for _, name := range []string{"c0", "c1"} {
		_, err := s.Clones.MakeClone(api.CloneAsk{Name: name, Volume: "db", At: "latest"}, "test")
		require.NoError(t, err)
		w.scribble(s, name, bytes.Clone(holds), rand.New(rand.NewPCG(14, 2)))
	}
	w.scribble(s, "c0", holds, rand.New(rand.NewPCG(14, 2)))
	bare := must(s.Catalog.Clone("c1"))
	kept := bare.Lineage
	bare.Lineage = ""
	require.NoError(t, s.Catalog.PutClone(bare))
	_, err := s.Clones.DiscardClone("c1", true)
	require.ErrorContains(t, err, "no lineage")
	require.Len(t, must(os.ReadDir(filepath.Join(w.dir, "here", "disks"))), 3, "nothing of any disk is removed")
	bare.Lineage, bare.Ending = kept, false
	require.NoError(t, s.Catalog.PutClone(bare))
	for _, name := range []string{"c0", "c1"} {
		c := must(s.Catalog.Clone(name))
		lineage := c.Lineage
		c.Lineage, c.Ending = "", name == "c1"
		require.NoError(t, s.Catalog.PutClone(c))
		require.NoError(t, os.Rename(filepath.Join(w.dir, "here/disks", lineage),
			filepath.Join(w.dir, "here/disks/clone-"+name)))
	}
	require.NoError(t, s.Close())
	s = w.open("here")
	require.Len(t, must(s.Clones.Clones()), 1, "what was being discarded is gone")
	require.True(t, bytes.Equal(holds, w.diskBytes(s, "c0")))
	require.Len(t, s.Store.PinOwners(), 2)
	w.done(s)(s.Clones.SnapshotClone("c0", api.SnapshotTake{}, "test"))
	require.True(t, bytes.Equal(holds, w.imageOf(s, "c0", "latest")))
	require.Len(t, must(os.ReadDir(filepath.Join(w.dir, "here", "disks"))), 2)
}

// What is damaged of a disk's snapshots is stored again from the disk with the next one, and a damaged store
// keeps no disk from being opened.
func TestDiskHealsItsSnapshots(t *testing.T) {
	w := newWorld(t)
	s := w.open("here")
	w.disk(s, "db")
	r := rand.New(rand.NewPCG(21, 2))
	holds := make([]byte, diskSize)
	for i := range holds { // so that there is something in each pack
		holds[i] = byte(r.Uint32())
	}
	d := must(s.Disks.Disk("db"))
	require.NoError(t, d.WriteAt(w.ctx, holds, 0, true))
	w.done(s)(s.Capture.TakeSnapshot("db", api.SnapshotTake{}, "test"))
	first, was := w.rows(s, "db")[0].ID, bytes.Clone(holds)
	w.done(s)(s.Upkeep.Sweep(true, "test"))
	require.NoError(t, s.Close())
	w.damage("here", "d", 3)
	s = w.open("here")
	verify := func() string {
		run := must(s.Upkeep.Verify("test"))
		return must(s.Run.Wait(w.ctx, run.ID)).State
	}
	require.Equal(t, api.RunFailed, verify())
	require.NoError(t, s.Close())
	s = w.open("here")
	require.True(t, bytes.Equal(holds, w.diskBytes(s, "db")))
	_, err := s.Recovery.Restore(w.ctx, api.RestoreAsk{Volume: "db", At: first, InPlace: true}, "test")
	require.ErrorContains(t, err, "is damaged")
	for range 2 {
		w.clock.Set(w.clock.Now().Add(time.Hour))
		w.scribble(s, "db", holds, r)
		w.done(s)(s.Capture.TakeSnapshot("db", api.SnapshotTake{}, "test"))
		require.True(t, bytes.Equal(holds, w.imageOf(s, "db", "latest")))
	}
	id := w.rows(s, "db")[1].ID
	require.NotEqual(t, first, id)
	back := w.done(s)(s.Recovery.Restore(w.ctx, api.RestoreAsk{Volume: "db", At: id, InPlace: true}, "test"))
	w.done(s)(s.Recovery.Undo(back.ID, "test"))
	require.True(t, bytes.Equal(holds, w.diskBytes(s, "db")))

	// What the disk has of it still is not damaged any more: only what was written over is lost.
	plain := must(s.Recovery.Restore(w.ctx, api.RestoreAsk{Volume: "db", At: first, To: filepath.Join(w.dir, "f")},
		"test"))
	if end := must(s.Run.Wait(w.ctx, plain.ID)); end.Worked() {
		require.True(t, bytes.Equal(was, must(os.ReadFile(filepath.Join(w.dir, "f")))))
	} else {
		require.NoFileExists(t, filepath.Join(w.dir, "f"))
	}
}

// Whoever opens, closes, grows, takes, restores and discards at once: a disk is open once, and nothing that was
// stored is another than it was.
func TestDisksSideBySide(t *testing.T) {
	w := newWorld(t)
	s := w.open("here")
	w.disk(s, "db")
	socket := filepath.Join(t.TempDir(), "s")
	l := must(net.Listen("unix", socket))
	ctx, end := context.WithCancel(t.Context())
	var all sync.WaitGroup
	all.Go(func() { _ = s.Disks.Serve(ctx, l) })
	r := rand.New(rand.NewPCG(31, 2))
	holds := make([]byte, diskSize)
	w.scribble(s, "db", holds, r)
	w.done(s)(s.Capture.TakeSnapshot("db", api.SnapshotTake{}, "test"))
	first := w.rows(s, "db")[0].ID
	acts := []func(r *rand.Rand){
		func(*rand.Rand) { _, _ = s.Disks.OpenDisk(w.ctx, "db", false) },
		func(r *rand.Rand) { _, _ = s.Disks.CloseDisk(w.ctx, "db", r.IntN(2) == 0) },
		func(*rand.Rand) { _, _ = s.Disks.Release(w.ctx, "db") },
		func(*rand.Rand) { _, _ = s.Capture.RemoveVolume("db") },
		func(r *rand.Rand) { _, _ = s.Disks.Grow(w.ctx, "db", diskSize+512*int64(r.IntN(99))) },
		func(*rand.Rand) {
			if run, err := s.Capture.TakeSnapshot("db", api.SnapshotTake{}, "test"); err == nil {
				_, _ = s.Run.Wait(w.ctx, run.ID)
			}
		},
		func(r *rand.Rand) {
			run, err := s.Recovery.Restore(w.ctx, api.RestoreAsk{Volume: "db", At: first, InPlace: true,
				Disconnect: r.IntN(2) == 0}, "test")
			if err == nil {
				_, _ = s.Run.Wait(w.ctx, run.ID)
			}
		},
		func(r *rand.Rand) {
			_, _ = s.Clones.MakeClone(api.CloneAsk{Name: fmt.Sprint("c", r.IntN(2)), Volume: "db", At: first}, "test")
		},
		func(r *rand.Rand) { _, _ = s.Clones.DiscardClone(fmt.Sprint("c", r.IntN(2)), r.IntN(2) == 0) },
		func(r *rand.Rand) {
			_, _ = s.Capture.AddVolume(w.ctx, api.VolumeAdd{Name: fmt.Sprint("c", r.IntN(3)), SizeBytes: 4096})
		},
		func(*rand.Rand) { _, _ = s.Recovery.CompareDisk(w.ctx, "db", first, "now") },
		func(*rand.Rand) { _, _ = s.Overview.Status() },
		func(r *rand.Rand) {
			c, err := net.Dial("unix", socket)
			if err != nil {
				return
			}
			defer c.Close()
			_ = c.SetDeadline(time.Now().Add(time.Second))
			_, _ = c.Write(append([]byte("\x00\x00\x00\x03IHAVEOPT\x00\x00\x00\x01\x00\x00\x00\x02db"),
				"\x25\x60\x95\x13\x00\x00\x00\x01\x00\x00\x00\x00\x00\x00\x00\x01\x00\x00\x00\x00\x00\x00\x00\x00"+
					"\x00\x00\x00\x04abcd"...))
			_, _ = c.Read(make([]byte, 100+r.IntN(50)))
		},
	}
	var others sync.WaitGroup
	for i := range 8 {
		others.Go(func() {
			r := rand.New(rand.NewPCG(77, uint64(i)))
			for range 40 {
				acts[r.IntN(len(acts))](r)
			}
		})
	}
	others.Wait()
	_, err := s.Disks.OpenDisk(w.ctx, "db", false)
	require.NoError(t, err)
	w.done(s)(s.Capture.TakeSnapshot("db", api.SnapshotTake{}, "test"))
	require.True(t, bytes.Equal(holds, w.imageOf(s, "db", first)))
	require.True(t, bytes.Equal(w.diskBytes(s, "db"), w.imageOf(s, "db", "latest")))
	end()
	all.Wait()
	require.NoError(t, s.Close())
	s = w.open("here")
	require.True(t, bytes.Equal(holds, w.imageOf(s, "db", first)))
	for _, d := range must(s.Disks.Disks()) {
		require.Equal(t, api.DiskReady, d.State, d.Sentence)
	}
	require.Equal(t, "done", w.done(s)(s.Upkeep.Verify("test")).State)
}

// A data directory that was copied has its disks again when a person says so, and a disk whose image or
// records are lost goes on from a snapshot. What was left of it stays.
func TestDiskMovedOrLost(t *testing.T) {
	for _, image := range []string{"", "db.img"} {
		w := newWorld(t)
		s := w.open("here")
		ask := api.VolumeAdd{Name: "db", SizeBytes: diskSize, BlockBytes: 4096}
		if image != "" {
			ask.Image = filepath.Join(w.dir, image)
		}
		_, err := s.Capture.AddVolume(w.ctx, ask)
		require.NoError(t, err)
		r := rand.New(rand.NewPCG(9, uint64(len(image))))
		holds := make([]byte, diskSize)
		var was []byte
		for range 3 {
			w.scribble(s, "db", holds, r)
			w.done(s)(s.Capture.TakeSnapshot("db", api.SnapshotTake{}, "test"))
			if was == nil {
				was = bytes.Clone(holds)
			}
			w.clock.Set(w.clock.Now().Add(time.Hour))
		}
		first := w.rows(s, "db")[2].ID
		w.done(s)(s.Recovery.Restore(w.ctx, api.RestoreAsk{Volume: "db", At: first, InPlace: true}, "test"))
		holds = bytes.Clone(was)
		w.scribble(s, "db", holds, r) // some in the image, some of the snapshot, some not stored
		refused := func(err error, say string) {
			t.Helper()
			require.ErrorContains(t, err, say)
			require.NotEqual(t, refusal.Internal, refusal.ClassOf(err), "%s", err)
		}
		anew := api.RestoreAsk{Volume: "db", At: "latest", InPlace: true, Anew: true}
		_, err = s.Recovery.Restore(w.ctx, anew, "test")
		refused(err, "can be opened")
		require.NoError(t, s.Close())

		copied := func(what string) {
			require.NoError(t, exec.Command("cp", "-a", filepath.Join(w.dir, what), filepath.Join(w.dir, "copy")).Run())
			require.NoError(t, os.RemoveAll(filepath.Join(w.dir, what)))
			require.NoError(t, os.Rename(filepath.Join(w.dir, "copy"), filepath.Join(w.dir, what)))
		}
		copied("here")
		if image != "" {
			copied(image)
		}
		s = w.open("here")
		_, err = s.Disks.OpenDisk(w.ctx, "db", false)
		refused(err, "--moved")
		require.Equal(t, api.DiskReady, must(s.Disks.OpenDisk(w.ctx, "db", true)).State)
		require.True(t, bytes.Equal(holds, w.diskBytes(s, "db")))
		w.done(s)(s.Capture.TakeSnapshot("db", api.SnapshotTake{}, "test"))
		require.True(t, bytes.Equal(holds, w.imageOf(s, "db", "latest")))
		require.NoError(t, s.Close())
		s = w.open("here")
		require.Equal(t, api.DiskReady, must(s.Disks.Show("db")).State)

		v := must(s.Catalog.Volume("db"))
		for _, lost := range []string{v.Path, filepath.Join(w.dir, "here/disks", v.Lineage, "state")} {
			stored := bytes.Clone(holds)
			w.scribble(s, "db", holds, r)
			require.NoError(t, s.Close())
			require.NoError(t, os.Remove(lost))
			s = w.open("here")
			_, err = s.Recovery.Restore(w.ctx, api.RestoreAsk{Volume: "db", At: "latest", InPlace: true}, "test")
			refused(err, "--anew")
			plan := must(s.Recovery.PlanRestore(w.ctx, anew))
			require.Contains(t, plan.Summary, "no safety snapshot")
			require.Equal(t, api.DiskMissing, must(s.Disks.Show("db")).State)
			run := w.done(s)(s.Recovery.Restore(w.ctx, anew, "test"))
			require.Regexp(t, `what was left of it is in \S+/disks/\S+\.aside-`, run.Outcome)
			require.True(t, bytes.Equal(stored, w.diskBytes(s, "db")))
			_, err = s.Recovery.Undo(run.ID, "test")
			refused(err, "began the disk db anew")
			holds = stored
			w.scribble(s, "db", holds, r)
			w.done(s)(s.Capture.TakeSnapshot("db", api.SnapshotTake{}, "test"))
			require.True(t, bytes.Equal(holds, w.imageOf(s, "db", "latest")))
			w.clock.Set(w.clock.Now().Add(time.Hour))
		}
		require.NoError(t, s.Close())
		s = w.open("here")
		require.True(t, bytes.Equal(holds, w.diskBytes(s, "db")))
		require.True(t, bytes.Equal(was, w.imageOf(s, "db", first)))
		require.NoError(t, s.Close())
	}
}

// A snapshot that goes while a disk is brought back from it is there until that is over.
func TestDiskRestoreHolds(t *testing.T) {
	w := newWorld(t)
	s := w.open("here")
	w.disk(s, "db")
	r := rand.New(rand.NewPCG(31, 2))
	holds := make([]byte, diskSize)
	w.scribble(s, "db", holds, r)
	w.done(s)(s.Capture.TakeSnapshot("db", api.SnapshotTake{}, "test"))
	was, id := bytes.Clone(holds), w.rows(s, "db")[0].ID
	for range 2 {
		w.scribble(s, "db", holds, r)
		w.done(s)(s.Capture.TakeSnapshot("db", api.SnapshotTake{}, "test"))
	}
	busy, err := s.Run.Hold(w.ctx, run.KeyVolume.Of("db")) // so that it waits
	require.NoError(t, err)
	back := must(s.Recovery.Restore(w.ctx, api.RestoreAsk{Volume: "db", At: id, InPlace: true}, "test"))
	_, err = s.Rules.RemoveSnapshot(id)
	require.NoError(t, err)
	w.clock.Set(w.clock.Now().Add(48 * time.Hour))
	w.done(s)(s.Rules.Prune("", "test"))
	require.Len(t, w.rows(s, "db"), 2)
	w.done(s)(s.Upkeep.Sweep(true, "test"))
	busy()
	w.done(s)(back, nil)
	require.True(t, bytes.Equal(was, w.diskBytes(s, "db")))
}
