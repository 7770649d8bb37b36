package recovery

import (
	"context"
	"fmt"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/authority"
	"candidharbor/internal/catalog"
	"candidharbor/internal/refusal"
)

const (
	mostRanges = 10_000
	alongParts = 64
)

// diskSide is one moment of a disk.
type diskSide struct {
	api.ComparedSide
	top   object.MapTop
	size  int64
	block uint32
}

// CompareDisk tells in which bytes two moments of a disk differ, or a moment and now.
func (s *Service) CompareDisk(ctx context.Context, volume, from, to string) (*api.DiskComparison, error) {
	v, err := s.Catalog.Volume(volume)
	if err != nil {
		return nil, err
	}
	if !v.IsDisk() {
		return nil, refusal.Badf("volume %s is a directory of files and no disk: its files are compared", volume)
	}
	a, err := s.diskAt(v, from)
	if err != nil {
		return nil, err
	}
	var b *diskSide
	changed := func(int64) int64 { return -1 }
	if to != "now" {
		b, err = s.diskAt(v, to)
	} else {
		b, changed, err = s.diskNow(v)
	}
	if err != nil {
		return nil, err
	}
	return s.compareSides(ctx, a, b, changed)
}

// compareSides tells in which bytes two moments differ; changed are blocks of the second that may differ from what it
// is stored as: the first of them from one on, negative when there is none.
func (s *Service) compareSides(
	ctx context.Context, a, b *diskSide, changed func(from int64) int64,
) (*api.DiskComparison, error) {
	if a.block != b.block && b.block != 0 {
		return nil, fmt.Errorf("the two moments have blocks of %d and %d bytes", a.block, b.block)
	}
	c := &diskDifference{size: max(a.size, b.size), block: int64(a.block),
		out: &api.DiskComparison{From: a.ComparedSide, To: b.ComparedSide, Ranges: []api.DiskRange{},
			Along: make([]int64, alongParts)}}
	c.out.SizeBytes, c.out.BlockBytes = c.size, c.block
	written := changed(0)
	err := object.DiffMaps(s.Store.Get, a.top, b.top, func(block int64, _, _ object.Slot) error {
		for ; written >= 0 && written < block; written = changed(written + 1) {
			c.add(written)
		}
		if written == block {
			written = changed(written + 1)
		}
		c.add(block)
		return ctx.Err()
	})
	for ; written >= 0; written = changed(written + 1) {
		c.add(written)
	}
	return c.out, err
}

func (s *Service) diskAt(v *catalog.Volume, at string) (*diskSide, error) {
	row, answer, err := s.rules.Moment(v, at)
	if err != nil {
		return nil, err
	}
	return s.diskSide(row, answer)
}

func (s *Service) diskSide(row *catalog.Snapshot, answer string) (*diskSide, error) {
	root, err := s.rules.RootOf(row)
	if err != nil {
		return nil, err
	}
	if !root.IsDisk() {
		return nil, refusal.Conflictf("snapshot %s is of a directory and no disk", row.ID[:12])
	}
	return &diskSide{api.ComparedSide{At: row.Began.Time, Snapshot: row.ID, Answer: answer}, root.Map(), root.Top.Size,
		root.Block}, nil
}

// diskNow is a disk as it is: its last snapshot, and the blocks that were written since.
func (s *Service) diskNow(v *catalog.Volume) (*diskSide, func(from int64) int64, error) {
	if !v.ActiveAt(s.Name()) {
		return nil, nil, authority.Elsewhere(v, "how it is now can be compared there alone")
	}
	d, err := s.disks.Disk(v.Name)
	if err != nil {
		return nil, nil, err
	}
	base, changed := d.Changed()
	side := &diskSide{ComparedSide: api.ComparedSide{At: s.Clock.Now(), Answer: "as it is now"}, size: d.Size(),
		block: d.Block()}
	if !base.Map.IsZero() {
		side.top = object.MapTop{ID: base.Map, Level: object.MapLevel(object.Blocks(base.Size, d.Block()))}
	}
	return side, changed, nil
}

// diskDifference gathers blocks that differ, which come in order.
type diskDifference struct {
	size, block int64
	out         *api.DiskComparison
}

func (c *diskDifference) add(block int64) {
	off := block * c.block
	n := min(c.block, c.size-off)
	if n <= 0 {
		return
	}
	c.out.DiffersBytes += n
	part := (c.size + alongParts - 1) / alongParts
	for at := off; at < off+n; {
		end := min((at/part+1)*part, off+n)
		c.out.Along[at/part] += end - at
		at = end
	}
	if k := len(c.out.Ranges) - 1; k >= 0 && c.out.Ranges[k].Offset+c.out.Ranges[k].Bytes == off {
		c.out.Ranges[k].Bytes += n
		return
	}
	if len(c.out.Ranges) == mostRanges {
		c.out.Cut = true
		return
	}
	c.out.Ranges = append(c.out.Ranges, api.DiskRange{Offset: off, Bytes: n})
}
