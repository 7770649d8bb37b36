package capture

import (
	"context"
	"errors"
	"fmt"
	"os"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/datadir"
	"candidharbor/internal/disks"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
	"candidharbor/internal/run"
	"candidharbor/internal/volume/disk"

	"golang.org/x/sys/unix"
)

// addDisk makes a disk, which is open to clients from then on.
func (s *Service) addDisk(ctx context.Context, ask api.VolumeAdd) (_ *api.VolumeFound, err error) {
	ctx, cancel := either(ctx, s.run.Context())
	defer cancel()
	if len(ask.Excludes) > 0 {
		return nil, refusal.Badf("excludes are of a directory of files: give --path, or none of them for a disk")
	}
	if old, err := s.Catalog.Volume(ask.Name); err == nil {
		if old.IsDisk() && !old.Protected {
			return nil, refusal.Conflictf("the disk %s is there and not served: candid disk open %s serves it again", old.Name,
				old.Name)
		}
		return nil, refusal.Conflictf("volume %s is there already, or was and has snapshots: choose another name for the "+
			"disk", old.Name)
	}
	block := uint32(disks.BlockSize)
	if ask.BlockBytes != 0 {
		block = uint32(ask.BlockBytes)
		if err := object.CheckBlock(block); err != nil || int64(block) != ask.BlockBytes {
			return nil, refusal.Badf("a block of %d bytes: it is to be a power of two from 4096 to 1048576", ask.BlockBytes)
		}
	}
	size, source := ask.SizeBytes, (*diskSource)(nil)
	if ask.Import != "" {
		if source, err = s.openSource(ctx, ask.Import); err != nil {
			return nil, err
		}
		defer func() { _ = source.close() }() // all that is wanted of it was read
		least := (source.size + 511) / 512 * 512
		if size == 0 {
			size = least
		}
		if size < least {
			return nil, refusal.Badf("%s has %s, which is more than the disk of %s is to have", ask.Import, phrase.Size(least),
				phrase.Size(size))
		}
	}
	if size == 0 {
		return nil, refusal.Badf("say what it is: a disk needs a size, and a volume of files a path")
	}
	if err := disk.CheckShape(size, block); err != nil {
		return nil, refusal.Wrap(refusal.Misuse, err)
	}
	v := &catalog.Volume{Name: ask.Name, Lineage: disks.NewLineage(), Kind: catalog.KindBlock, Origin: s.Name(),
		ChunkAvg: int(block), Protected: true, Added: catalog.At(s.Clock.Now()), ScheduledUntil: catalog.At(s.Clock.Now())}
	v.Labels.V, v.Excludes.V = ask.Labels, []string{}
	if v.Labels.V == nil {
		v.Labels.V = map[string]string{}
	}
	if v.Path, err = s.disks.Image(ask.Image, v.Lineage); err != nil {
		return nil, err
	}
	var fill func(*os.File) error
	if source != nil {
		fill = func(image *os.File) error { return source.copy(ctx, image) }
	}
	if err := s.disks.Make(ctx, v, disk.Shape{Size: size, Block: block, Imported: fill != nil}, fill); err != nil {
		var errno unix.Errno
		if errors.As(err, &errno) && refusal.ClassOf(err) == refusal.Internal {
			class := refusal.Misuse
			if disk.Errno(err) == unix.ENOSPC {
				class = refusal.Full
			}
			err = refusal.Wrap(class, fmt.Errorf("the image %s cannot be made: %s", v.Path, datadir.Plain(err)))
		}
		return nil, err
	}
	if err := s.authority.ListOne(v.Name); err != nil {
		return nil, err
	}
	s.run.Changed("volumes")
	view, err := s.describe(v.Name)
	if err != nil {
		return nil, err
	}
	out := &api.VolumeFound{Volume: *view, Bytes: size, StoreFree: s.Store.Usage().FreeBytes, Mounts: []string{},
		Unreadable: []string{}, Warnings: []string{}}
	if len(view.Policies) == 0 {
		out.Warnings = append(out.Warnings, "No policy chooses this volume yet: nothing is taken by itself.")
	}
	return out, nil
}

// removeDisk stops serving a disk. Its image stays, with what says what in it counts.
func (s *Service) removeDisk(v *catalog.Volume) (string, error) {
	if err := s.disks.Stop(s.run.Context(), v.Name); err != nil {
		return "", err
	}
	if err := s.Catalog.SetProtected(v.Name, false); err != nil {
		return "", err
	}
	s.run.Changed("volumes")
	return fmt.Sprintf("%s is no longer served and protected. Its image stays at %s, and candid disk open %s serves it "+
		"again; its snapshots stay until you remove them with: candid snapshot remove ID", v.Name, v.Path, v.Name), nil
}

// diskReading is a disk on its way into a snapshot.
type diskReading struct {
	d  *disk.Disk
	in *disk.Instant // nil: none was taken, or it has ended
	h  disk.Harvested
}

func (s *Service) prepareDisk(r *reading) error {
	d, err := s.disks.Disk(r.v.Name)
	if err != nil {
		return err
	}
	r.disk = &diskReading{d: d}
	r.W = s.Store.NewWriter(s.Store.NewLease())
	r.Prog.Total.Store(d.ChangedBlocks() * int64(d.Block()))
	return nil
}

// end gives up an instant that did not become a snapshot.
func (d *diskReading) end() {
	if d != nil && d.in != nil {
		_ = d.in.GiveUp() // its error is one of the disk, which every request tells from then on
		d.in = nil
	}
}

// stored makes the instant what the next snapshot is compared with.
func (d *diskReading) stored() error {
	in := d.in
	d.in = nil
	return in.Stored(d.h.Map)
}

// freeze takes one instant of all disks among the readings, in their order, which is the same everywhere.
func (s *Service) freeze(all []*reading) error {
	var which []*reading
	var ds []*disk.Disk
	for _, r := range all {
		if r.disk != nil {
			which, ds = append(which, r), append(ds, r.disk.d)
		}
	}
	if len(ds) == 0 {
		return nil
	}
	instants, err := disk.Freeze(ds...)
	if err != nil {
		return err
	}
	for i, r := range which {
		r.disk.in = instants[i]
		r.began, r.ended = instants[i].At, instants[i].At
	}
	return nil
}

// harvest stores what belongs to the instant of the disks.
func (s *Service) harvest(ctx context.Context, j *run.Job, all []*reading) error {
	for _, r := range all {
		if r.disk == nil {
			continue
		}
		j.Say("storing what changed in " + r.v.Name)
		var err error
		r.disk.h, err = r.disk.in.Harvest(ctx, r.W, func(n int64) { r.Prog.Bytes.Add(n) })
		if err != nil {
			return ExplainScan(r.v, err)
		}
	}
	return nil
}

func (d *diskReading) describe(root *object.Root) {
	root.Top = object.Entry{Kind: object.BlockDevice, Size: d.h.Map.Size, HasContent: true, Content: d.h.Map.Map}
	root.Block, root.Bytes = d.d.Block(), d.h.Map.Size
}

// isDiskCurrent reports whether the last snapshot has the very bytes that were there at the instant.
func (s *Service) isDiskCurrent(r *reading) bool {
	if r.last == nil || !r.last.GraceUntil.IsZero() {
		return false
	}
	id, err := object.ParseID(r.last.ID)
	if err != nil {
		return false
	}
	root, _, err := s.Store.Root(id)
	return err == nil && root.IsDisk() && root.Tree() == r.disk.h.Map.Map && root.Top.Size == r.disk.h.Map.Size
}

func (s *Service) rememberDisk(r *reading) {
	if err := r.disk.stored(); err != nil {
		s.Log.Warn("it could not be noted what a disk's snapshot has; the next one reads more", "volume", r.v.Name, "error",
			err)
	}
}

// words is the outcome for people.
func (d *diskReading) words(row *catalog.Snapshot) string {
	return fmt.Sprintf("snapshot %s: a disk of %s, %s of it read, of which %s were new in the store", row.ID[:12],
		phrase.Size(row.Bytes), phrase.Size(d.h.Bytes), phrase.Size(row.Stored))
}
