package disks

import (
	"errors"
	"fmt"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/authority"
	"candidharbor/internal/catalog"
	"candidharbor/internal/nbd"
	"candidharbor/internal/phrase"
	"candidharbor/internal/volume/disk"
)

// A copy of a disk that another site serves is an export as well: the newest of its snapshots that arrived, which
// can only be read. What a connection opened stays that.

// isCopy reports whether a volume is a copy of another site's disk.
func (s *Service) isCopy(v *catalog.Volume) bool { return v.IsDisk() && !v.ActiveAt(s.Name()) }

// copies are those of other sites' disks, with something in them.
func (s *Service) copies() ([]*catalog.Volume, error) {
	all, err := s.Catalog.Volumes()
	if err != nil {
		return nil, err
	}
	var out []*catalog.Volume
	for _, v := range all {
		if !s.isCopy(v) {
			continue
		}
		if row, err := s.Catalog.LastSnapshot(s.Place(), v.Lineage); err != nil {
			return nil, err
		} else if row != nil {
			out = append(out, v)
		}
	}
	return out, nil
}

// newest is the snapshot that stands for a copy now; nil when there is none, or when it is no copy.
func (s *Service) newest(name string) (*catalog.Snapshot, error) {
	v, err := s.Catalog.Volume(name)
	if errors.Is(err, catalog.ErrNone) || err == nil && !s.isCopy(v) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return s.Catalog.LastSnapshot(s.Place(), v.Lineage)
}

// exportOf opens a snapshot to be read, from the image of its copy where that is it.
func (s *Service) exportOf(row *catalog.Snapshot) (*snapshotExport, error) {
	words := fmt.Sprintf("%s as of %s", row.Volume, phrase.Stamp(row.Began.Time))
	if r := s.readStandby(row); r != nil {
		return &snapshotExport{r, words}, nil
	}
	id, err := object.ParseID(row.ID)
	if err != nil {
		return nil, err
	}
	root, _, err := s.Store.Root(id)
	if err != nil {
		return nil, err
	}
	if !root.IsDisk() {
		return nil, fmt.Errorf("%w: %s", nbd.ErrUnknown, row.Volume)
	}
	v, err := disk.OpenView(s.Store, disk.Stored{Map: root.Tree(), Size: root.Top.Size}, root.Block)
	if err != nil {
		return nil, err
	}
	return &snapshotExport{v, words}, nil
}

// copyView tells of a copy.
func (s *Service) copyView(v *catalog.Volume) (*api.Disk, error) {
	out := &api.Disk{Name: v.Name, State: api.DiskCopy, BlockBytes: int64(v.ChunkAvg), Socket: s.Socket(),
		Clients: []api.DiskClient{}, Network: s.network(), Address: s.address(v.Name)}
	row, err := s.Catalog.LastSnapshot(s.Place(), v.Lineage)
	if err != nil {
		return nil, err
	}
	if row == nil {
		out.Sentence = fmt.Sprintf("%s is a disk that %s serves; nothing of it has arrived yet.", v.Name, v.ActiveSite())
		return out, nil
	}
	out.SizeBytes = row.Bytes
	what := fmt.Sprintf("%s is a copy of a disk that %s serves.", v.Name, v.ActiveSite())
	if v.ActiveSite() == authority.Nobody {
		what = fmt.Sprintf("It is not known who is active of %s, and it takes no writes until that is said: "+
			"candid authority show %s.", v.Name, v.Name)
	}
	out.Sentence = fmt.Sprintf("%s It can be read as of %s; to write, make a clone of it: candid clone create NAME %s "+
		"--at latest.", what, phrase.Stamp(row.Began.Time), v.Name)
	if b := s.standby(v.Lineage); b != nil {
		b.tell(out)
	}
	return out, nil
}
