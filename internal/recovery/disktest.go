package recovery

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"sync/atomic"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/run"
	"candidharbor/internal/volume/disk"
)

// diskTest is a trial of bringing a disk back: random stretches of it go to a raw image in scratch space, and what is
// there afterwards is compared with what was recorded.
type diskTest struct {
	s       *Service
	root    *object.Root
	f       *os.File
	stretch int64
	at      []int64 // where the stretches begin
	done    atomic.Int64
}

// stretchBytes is of one, at least; a block is never parted.
const stretchBytes = 1 << 20

// testDisk tries to bring a disk back. From the time it took it estimates how long all of newest would take.
func (s *Service) testDisk(ctx context.Context, j *run.Job, v *catalog.Volume, row, newest *catalog.Snapshot,
	stretches int) (any, string, error) {
	j.Say("waiting for another trial")
	free, err := s.run.Hold(ctx, run.KeyTests.Of("")) // one at a time: they measure
	if err != nil {
		return nil, "", err
	}
	defer free()
	root, err := s.rules.RootOf(row)
	if err != nil {
		return nil, "", err
	}
	if !root.IsDisk() {
		return nil, "", fmt.Errorf("snapshot %s is of a directory and no disk", row.ID[:12])
	}
	view, err := disk.OpenView(s.Store, disk.Stored{Map: root.Tree(), Size: root.Top.Size}, root.Block)
	if err != nil {
		return nil, "", err
	}
	defer view.Close()
	t := &diskTest{s: s, root: root, stretch: max(stretchBytes, int64(root.Block))}
	t.choose(stretches)
	j.Begin(func() api.Progress {
		return api.Progress{DoneBytes: t.done.Load(), TotalBytes: int64(len(t.at)) * t.stretch}
	})
	if t.f, err = s.scratchFile(); err != nil {
		return nil, "", err
	}
	defer t.f.Close()
	began := time.Now()
	j.Say("restoring to scratch space")
	out := &api.Trial{Volume: v.Name, Site: s.Name(), Snapshot: row.ID, Taken: row.Began.Time}
	if err := t.restore(ctx, view); err != nil {
		return out, "", fmt.Errorf("%s as of %s could not be brought back: %w", v.Name, phrase.Stamp(row.Began.Time), err)
	}
	took := time.Since(began)
	out.Bytes, out.Seconds = t.done.Load(), took.Seconds()
	j.Say("comparing with what was recorded")
	if err := t.compare(ctx); err != nil {
		return out, "", fmt.Errorf("of %s as of %s not all came back as it was recorded: %w", v.Name,
			phrase.Stamp(row.Began.Time), err)
	}
	rs, err := s.rules.RulesFor(v)
	if err != nil {
		return out, "", err
	}
	out.At, out.Good, out.ObjectiveSecs = s.Clock.Now(), true, int64(rs.Recovery.Seconds())
	out.WholeSeconds = int64(out.Seconds*float64(newest.Bytes)/float64(max(out.Bytes, 1))) + 1
	out.Sentence = fmt.Sprintf("%s of the disk %s as of %s, in %s, came back as recorded in %s; all of the newest state "+
		"in about %s, or at once by going back in place", phrase.Size(out.Bytes), v.Name, phrase.Stamp(row.Began.Time),
		phrase.Many(len(t.at), "part"), phrase.Ago(took), phrase.Ago(time.Duration(out.WholeSeconds)*time.Second))
	out.Sentence += s.withinObjective(j, out)
	return out, out.Sentence, nil
}

// scratchFile is a file without a name in scratch space.
func (s *Service) scratchFile() (*os.File, error) {
	dir := filepath.Join(s.Path, ScratchDir)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	f, err := os.CreateTemp(dir, "disk")
	if err != nil {
		return nil, err
	}
	return f, os.Remove(f.Name())
}

// choose takes up to n stretches of the disk: all when there are no more.
func (t *diskTest) choose(n int) {
	all := (t.root.Top.Size + t.stretch - 1) / t.stretch
	chosen := map[int64]bool{}
	for int64(len(chosen)) < min(all, int64(n)) {
		i := int64(len(chosen))
		if all > int64(n) {
			i = rand.Int64N(all)
		}
		chosen[i] = true
	}
	for i := range chosen {
		t.at = append(t.at, i*t.stretch)
	}
	slices.Sort(t.at)
}

func (t *diskTest) restore(ctx context.Context, view *disk.View) error {
	if err := t.f.Truncate(t.root.Top.Size); err != nil {
		return err
	}
	buf := make([]byte, t.stretch)
	for _, off := range t.at {
		if err := ctx.Err(); err != nil {
			return err
		}
		p := buf[:min(t.stretch, t.root.Top.Size-off)]
		if err := view.ReadAt(p, off); err != nil {
			return err
		}
		if !object.AllZero(p) {
			if _, err := t.f.WriteAt(p, off); err != nil {
				return err
			}
		}
		t.done.Add(int64(len(p)))
	}
	return t.f.Sync()
}

// compare recomputes the identity of each block from the image.
func (t *diskTest) compare(ctx context.Context) error {
	block, top, reader := int64(t.root.Block), t.root.Map(), object.NewMapReader(t.s.Store.Get)
	buf := make([]byte, object.Headroom+block)
	for _, from := range t.at {
		for off := from; off < min(from+t.stretch, t.root.Top.Size); off += block {
			if err := ctx.Err(); err != nil {
				return err
			}
			p := buf[object.Headroom:][:min(block, t.root.Top.Size-off)]
			if _, err := t.f.ReadAt(p, off); err != nil {
				return err
			}
			s, err := reader.At(top.ID, top.Level, off/block)
			if err != nil {
				return err
			}
			switch {
			case s.State == object.Lost:
				err = errors.New("it was lost before the snapshot")
			case s.State == object.Hole && !object.AllZero(p):
				err = errors.New("it is not zeros")
			case s.State == object.Held && object.Sum(object.EncodeChunkInPlace(buf[:object.Headroom+len(p)])) != s.Chunk:
				err = errors.New("it has other bytes")
			}
			if err != nil {
				return fmt.Errorf("the block at byte %d: %w", off, err)
			}
		}
	}
	return nil
}
