package demo

import (
	"context"
	"crypto/sha256"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/site"
	"candidharbor/internal/volume/disk"
)

const (
	diskName  = "specimen-db"
	diskSize  = 256 << 20
	diskPage  = 4096
	diskPages = 2000
)

// host is a machine whose disk is specimen-db: a filesystem with the file of a database, of which pages
// change each working day. It keeps apart what the disk is to hold.
type host struct {
	rng    *rand.Rand
	blocks []int64 // of the filesystem, in which the pages of the file are
	pages  [][]byte
	days   map[string][sha256.Size]byte // what the file was, by day
	plain  bool                         // no filesystem can be made on this machine: the pages alone
}

func (h *host) sum() (sum [sha256.Size]byte) {
	all := sha256.New()
	for _, p := range h.pages {
		all.Write(p)
	}
	all.Sum(sum[:0])
	return sum
}

// page is what stands in a page after some day.
func (h *host) page(i int, day time.Time) []byte {
	text := ""
	for len(text) < diskPage-80 {
		text += fmt.Sprintf("%s specimen %06d sheet %04d-%04d det. %03d\n", day.Format("2006-01-02"), i*40+len(text)/70,
			1880+h.rng.IntN(140), h.rng.IntN(9999), h.rng.IntN(400))
	}
	return append([]byte(text), make([]byte, diskPage-len(text))...)
}

// addDisk makes the disk, and the host puts its filesystem there.
func (s *story) addDisk() error {
	site := s.larkfield.Site
	f, err := site.Capture.AddVolume(s.ctx, api.VolumeAdd{Name: diskName, SizeBytes: diskSize,
		Labels: map[string]string{"survey": "daily", "collection": "herbarium"}})
	if err != nil {
		return s.step("A database server gets a disk.", "", err)
	}
	h := &host{rng: rand.New(rand.NewPCG(1887, 3)), days: map[string][sha256.Size]byte{}}
	s.host = h
	for i := range diskPages {
		h.pages = append(h.pages, h.page(i, s.clock.Now()))
	}
	d, err := site.Disks.Disk(diskName)
	if err == nil {
		err = h.format(s.ctx, s.opt.Data, d)
	}
	what := "A database server gets its disk from Larkfield: " + diskName + "."
	out := fmt.Sprintf("%d bytes, with a filesystem and a database on it", f.Bytes)
	if h.plain {
		out = fmt.Sprintf("%d bytes, with the pages of a database: this machine has no mkfs.ext4 to make a filesystem",
			f.Bytes)
	}
	return s.step(what, out, err)
}

// format makes a filesystem with the file, by tools that need no rights, and writes it to the disk as a host
// does.
func (h *host) format(ctx context.Context, data string, d *disk.Disk) error {
	dir := filepath.Join(data, "host")
	tree, image := filepath.Join(dir, "tree"), filepath.Join(dir, "image")
	if err := os.MkdirAll(tree, 0o755); err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	file, err := os.Create(filepath.Join(tree, "specimens.db"))
	if err != nil {
		return err
	}
	for _, p := range h.pages {
		if _, err := file.Write(p); err != nil {
			return err
		}
	}
	if err := file.Close(); err != nil {
		return err
	}
	mkfs := exec.CommandContext(ctx, "mkfs.ext4", "-q", "-F", "-b", strconv.Itoa(diskPage), "-d", tree, image, "256M")
	blocks := exec.CommandContext(ctx, "debugfs", "-R", "blocks specimens.db", image)
	var out []byte
	if err = mkfs.Run(); err == nil {
		out, err = blocks.Output()
	}
	for _, n := range strings.Fields(string(out)) {
		b, err := strconv.ParseInt(n, 10, 64)
		if err != nil {
			break
		}
		h.blocks = append(h.blocks, b)
	}
	if err != nil || len(h.blocks) != diskPages {
		h.plain, h.blocks = true, nil
		for i := range diskPages {
			h.blocks = append(h.blocks, int64(i))
		}
		return h.write(ctx, d, 0, diskPages)
	}
	raw, err := os.ReadFile(image)
	if err != nil {
		return err
	}
	for off := 0; off < len(raw); off += 1 << 20 {
		part := raw[off:min(off+1<<20, len(raw))]
		if object.AllZero(part) {
			continue
		}
		if err := d.WriteAt(ctx, part, int64(off), false); err != nil {
			return err
		}
	}
	return d.Flush(ctx)
}

// write writes pages as they are to be.
func (h *host) write(ctx context.Context, d *disk.Disk, from, to int) error {
	for i := from; i < to; i++ {
		if err := d.WriteAt(ctx, h.pages[i], h.blocks[i]*diskPage, false); err != nil {
			return err
		}
	}
	return d.Flush(ctx)
}

// useDisk changes pages of the database, as on a working day.
func (s *story) useDisk(day time.Time) error {
	h := s.host
	d, err := s.larkfield.Site.Disks.Disk(diskName)
	if err != nil {
		return err
	}
	if wd := day.Weekday(); wd != time.Saturday && wd != time.Sunday {
		for range 20 {
			i := h.rng.IntN(diskPages)
			h.pages[i] = h.page(i, day)
			if err := h.write(s.ctx, d, i, i+1); err != nil {
				return err
			}
		}
	}
	h.days[day.Format("2006-01-02")] = h.sum()
	return nil
}

// badImport overwrites half of the database, and the disk goes back to what it was an hour before.
func (s *story) badImport() error {
	h, site := s.host, s.larkfield.Site
	out, err := s.run(s.larkfield)(site.Capture.TakeSnapshot(diskName, api.SnapshotTake{Note: "before the import"},
		"the demo"))
	if err := s.step("Someone takes a snapshot of "+diskName+" before an import.", out, err); err != nil {
		return err
	}
	d, err := site.Disks.Disk(diskName)
	if err != nil {
		return err
	}
	good := append([][]byte{}, h.pages...)
	for i := range diskPages / 2 {
		h.pages[i] = make([]byte, diskPage)
	}
	if err := h.write(s.ctx, d, 0, diskPages/2); err != nil {
		return err
	}
	h.pages = good
	s.clock.Set(s.clock.Now().Add(time.Hour))
	out, err = s.run(s.larkfield)(site.Recovery.Restore(s.ctx, api.RestoreAsk{Volume: diskName, At: "latest",
		InPlace: true}, "the demo"))
	if err := s.step("The import ruins half of it; the disk goes back.", out, err); err != nil {
		return err
	}
	return s.check(h.is(d), "the disk is as it was before the import")
}

// is reports whether the disk has the pages that it is to have.
func (h *host) is(d interface {
	ReadAt(p []byte, off int64) error
}) bool {
	p := make([]byte, diskPage)
	for i, b := range h.blocks {
		if d.ReadAt(p, b*diskPage) != nil || string(p) != string(h.pages[i]) {
			return false
		}
	}
	return true
}

// disksAreWhole brings states of the disk back to files at both sites, has the filesystem checked by its own
// tool, and compares the database with what the host had that day.
func (s *story) disksAreWhole() error {
	h := s.host
	for volume, site := range map[string]*site.Site{diskName: s.larkfield.Site,
		diskName + "@larkfield": s.stonewick.Site} {
		page, err := site.Recovery.Snapshots(volume, catalog.SnapshotFilter{Limit: 200})
		if err != nil {
			return err
		}
		for _, i := range []int{0, len(page.Items) / 2} {
			x := page.Items[i]
			// The host works in the morning, so that of before nine is of the day before.
			want, known := h.days[x.Taken.In(s.begin.Location()).Add(-9*time.Hour).Format("2006-01-02")]
			if !known || x.Cause != "scheduled" {
				continue
			}
			to := filepath.Join(s.opt.Data, "restored", "specimen.img")
			run, err := site.Recovery.Restore(s.ctx, api.RestoreAsk{Volume: volume, At: x.ID, To: to}, "the demo")
			if err == nil {
				_, err = site.Run.Wait(s.ctx, run.ID)
			}
			if err != nil {
				return err
			}
			err = h.proves(s.ctx, to, want)
			if err := os.Remove(to); err != nil {
				return err
			}
			if err := s.check(err == nil, fmt.Sprintf("%s as of %s is whole at %s: %v", volume, x.Taken, site.Name(),
				err)); err != nil {
				return err
			}
		}
	}
	return s.step("States of "+diskName+" at both sites are brought back to files and checked.",
		"the filesystem's own check finds nothing, and the database is what it was that day", nil)
}

// proves checks an image: its filesystem, and that its database has a sum.
func (h *host) proves(ctx context.Context, image string, want [sha256.Size]byte) error {
	if !h.plain {
		if out, err := exec.CommandContext(ctx, "e2fsck", "-fn", image).CombinedOutput(); err != nil {
			return fmt.Errorf("e2fsck: %w: %s", err, out)
		}
	}
	f, err := os.Open(image)
	if err != nil {
		return err
	}
	defer f.Close()
	all, p := sha256.New(), make([]byte, diskPage)
	for _, b := range h.blocks {
		if _, err := f.ReadAt(p, b*diskPage); err != nil {
			return err
		}
		all.Write(p)
	}
	if [sha256.Size]byte(all.Sum(nil)) != want {
		return fmt.Errorf("the database is another than that day")
	}
	return nil
}
