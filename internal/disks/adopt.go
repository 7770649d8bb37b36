package disks

import (
	"encoding/hex"
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"candidharbor/internal/catalog"
	"candidharbor/internal/policy"
	"candidharbor/internal/store"
	"candidharbor/internal/volume/disk"
)

// about is what a disk says of itself beside its records, for when the catalogue does not know it.
type about struct {
	Name    string `json:"name"`
	Image   string `json:"image"`
	Standby bool   `json:"standby,omitempty"` // it follows a copy, and nobody writes to it
	Ended   bool   `json:"ended,omitempty"`   // it is to go once nobody reads from it
}

const aboutName = "about"

// sayAbout writes what a disk says of itself, unless it says so already.
func (s *Service) sayAbout(v *catalog.Volume) error {
	return s.say(v.Lineage, about{Name: v.Name, Image: v.Path, Standby: s.isCopy(v)})
}

func (s *Service) say(lineage string, is about) error {
	path := filepath.Join(s.home(lineage), aboutName)
	raw, err := json.Marshal(is)
	if err != nil {
		return err
	}
	if was, err := os.ReadFile(path); err == nil && string(was) == string(raw) {
		return nil
	}
	return store.ReplaceFile(path, raw)
}

// adopt makes volumes of disks that no volume and no clone stands for, because the catalogue was lost, or is one of
// before they were made. It adds their owners to those that are known. One that cannot be read keeps what it holds.
func (s *Service) adopt(known map[string]bool) error {
	dirs, err := os.ReadDir(filepath.Dir(s.home("x")))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for _, dir := range dirs {
		lineage := dir.Name()
		if b, err := hex.DecodeString(lineage); err != nil || len(b) != 16 || known[owner(lineage)] {
			continue
		}
		shape, err := disk.ShapeOf(disk.Dir(s.home(lineage)))
		if errors.Is(err, fs.ErrNotExist) { // it was not yet one, or not any more
			continue
		}
		known[owner(lineage)] = true
		is, aerr := s.saysAbout(lineage)
		if aerr == nil && is.Standby {
			if err := s.adoptStandby(lineage, is.Ended); err != nil {
				return err
			}
			continue
		}
		if v, verr := s.Catalog.VolumeOfLineage(lineage); verr == nil {
			if s.isCopy(v) { // another site is active of it; whoever stands back keeps what is in it first
				if err := s.Catalog.SetProtected(v.Name, true); err != nil {
					return err
				}
				continue
			}
		}
		if err != nil {
			s.Log.Error("a disk that the catalogue does not know cannot be read", "records", s.home(lineage), "error", err)
			continue
		}
		v, err := s.found(lineage, shape)
		if err == nil {
			err = s.Catalog.PutVolume(v)
		}
		if err != nil {
			return err
		}
		s.Log.Warn("a disk that the catalogue did not know is served again", "volume", v.Name, "image", v.Path)
		if err := s.Open(v); err != nil {
			s.Log.Error("a disk cannot be opened", "volume", v.Name, "image", v.Path, "error", err)
		}
	}
	return nil
}

func (s *Service) saysAbout(lineage string) (is about, err error) {
	raw, err := os.ReadFile(filepath.Join(s.home(lineage), aboutName))
	if err == nil {
		err = json.Unmarshal(raw, &is)
	}
	return is, err
}

// found is a volume for a disk that none stands for, under its name or, where another has that, a longer one.
func (s *Service) found(lineage string, shape disk.Shape) (*catalog.Volume, error) {
	is, err := s.saysAbout(lineage)
	if err != nil || policy.CheckName("disk", is.Name) != nil {
		is = about{Name: "disk"}
	}
	if is.Image == "" {
		is.Image = filepath.Join(s.home(lineage), "image")
	}
	now := catalog.At(s.Clock.Now())
	v := &catalog.Volume{Name: is.Name, Lineage: lineage, Kind: catalog.KindBlock, Origin: s.Name(), Path: is.Image,
		ChunkAvg: int(shape.Block), Protected: true, Added: now, ScheduledUntil: now}
	v.Labels.V, v.Excludes.V = map[string]string{}, []string{}
	_, verr := s.Catalog.Volume(v.Name)
	_, cerr := s.Catalog.Clone(v.Name)
	switch {
	case verr == nil || cerr == nil || is.Name == "disk":
		v.Name = is.Name[:min(len(is.Name), 50)] + "-" + lineage[:8]
	case !errors.Is(verr, catalog.ErrNone):
		return nil, verr
	case !errors.Is(cerr, catalog.ErrNone):
		return nil, cerr
	}
	return v, nil
}
