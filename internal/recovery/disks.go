package recovery

import (
	"candidharbor/internal/catalog"
	"candidharbor/internal/refusal"
)

// FilesOf refuses a volume that has no files: a disk.
func FilesOf(v *catalog.Volume) error {
	if v == nil || !v.IsDisk() {
		return nil
	}
	return refusal.Badf("volume %s is a disk and no directory of files: a client of NBD reads a snapshot of it as %s:ID, "+
		"and candid restore brings all of it back", v.Name, v.Name)
}

// tree is a volume of files that these eyes may see.
func (e *Viewer) tree(name string) (*catalog.Volume, error) {
	v, err := e.volume(name)
	if err != nil {
		return nil, err
	}
	return v, FilesOf(v)
}

// isDisk reports whether a volume is a disk that these eyes see.
func (e *Viewer) isDisk(name string) bool {
	v, err := e.volume(name)
	return err == nil && v.IsDisk()
}

// tree is a volume of files.
func (s *Service) tree(name string) (*catalog.Volume, error) { return s.ViewerFor(nil).tree(name) }
