package recovery

import (
	"context"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/refusal"
)

// mostWritten bounds the blocks that are looked at to tell where a disk was written of late.
const mostWritten = 1 << 20

// DiskWrites tells where a disk was written from one of its last snapshots here to the next, the newest first.
func (s *Service) DiskWrites(ctx context.Context, volume string, last int) ([]api.DiskWrites, error) {
	v, err := s.Catalog.Volume(volume)
	if err != nil {
		return nil, err
	}
	if !v.IsDisk() {
		return nil, refusal.Badf("volume %s is a directory of files and no disk: its files are compared", volume)
	}
	rows, err := s.Catalog.Snapshots(s.Place(), v.Name, catalog.SnapshotFilter{Limit: last + 1})
	if err != nil {
		return nil, err
	}
	all, left := []api.DiskWrites{}, int64(mostWritten)
	for i := 0; i+1 < len(rows) && left > 0; i++ {
		to, err := s.diskSide(rows[i], "")
		if err != nil {
			return nil, err
		}
		from, err := s.diskSide(rows[i+1], "")
		if err != nil {
			return nil, err
		}
		c, err := s.compareSides(ctx, from, to, func(int64) int64 { return -1 })
		if err != nil {
			return nil, err
		}
		left -= c.DiffersBytes / c.BlockBytes
		all = append(all, api.DiskWrites{From: c.From.At, To: c.To.At, Snapshot: rows[i].ID, SizeBytes: c.SizeBytes,
			WrittenBytes: c.DiffersBytes, Along: c.Along})
	}
	return all, nil
}
