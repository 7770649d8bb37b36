package recovery

import (
	"context"
	"fmt"
	"io"

	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
	"candidharbor/internal/volume/tree"
)

// heldSnapshot is a snapshot that stays readable while it is looked at, though it may be removed
// meanwhile.
type heldSnapshot struct {
	v       *catalog.Volume
	row     *catalog.Snapshot
	root    *object.Root
	get     object.Getter // reads the snapshot
	answer  string        // how exactly it stands for the moment
	release func()
}

func (s *Service) holdMoment(volume, at string) (*heldSnapshot, error) {
	return s.ViewerFor(nil).holdMoment(volume, at)
}

func (e *Viewer) holdMoment(volume, at string) (*heldSnapshot, error) {
	s := e.s
	v, err := e.tree(volume)
	if err != nil {
		return nil, err
	}
	row, answer, err := s.rules.Moment(v, at)
	if err != nil {
		return nil, err
	}
	id, err := object.ParseID(row.ID)
	if err != nil {
		return nil, err
	}
	set, err := s.Store.Census(id)
	if err != nil {
		return nil, err
	}
	lease := s.Store.NewLease()
	lease.AcquireSet(set)
	root, err := s.rules.RootOf(row)
	if err != nil {
		lease.Release()
		return nil, refusal.Missingf("snapshot %s was removed meanwhile", row.ID[:12])
	}
	get, root := e.through(volume, s.Store.Get, root)
	return &heldSnapshot{v, row, root, get, answer, lease.Release}, nil
}

// The forms of archives.
const (
	formTar = "tar"
	formZip = "zip"
)

// Archive writes paths of a volume as of a moment as one archive. begin is called before
// the first byte.
func (e *Viewer) Archive(ctx context.Context, volume, at, form string, paths []string, begin func(name string),
	w io.Writer) error {
	if form != formTar && form != formZip {
		return refusal.Badf("archive form %q: it must be tar, which holds everything, or zip", form)
	}
	h, err := e.holdMoment(volume, at)
	if err != nil {
		return err
	}
	defer h.release()
	clean := make([]string, 0, len(paths))
	for _, p := range paths {
		rel, err := cleanAsked(p)
		if err != nil {
			return err
		}
		if _, err := tree.Lookup(h.get, h.root, rel); err != nil {
			return refusal.Missingf("%s has no %s as of %s", volume, p, phrase.Stamp(h.row.Began.Time))
		}
		clean = append(clean, rel)
	}
	begin(fmt.Sprintf("%s-%s.%s", h.v.Name, h.row.Began.Local().Format("20060102-150405"), form))
	if form == formZip {
		return tree.WriteZip(ctx, w, h.get, h.root, clean, func(path, why string) {
			e.s.Log.Info("left out of an archive", "volume", volume, "path", phrase.Printable([]byte(path)), "why", why)
		})
	}
	return tree.WriteTar(ctx, w, h.get, h.root, clean)
}

// File is one file of a snapshot to be read.
type File struct {
	*tree.Content
	Entry object.Entry
	Tag   string // the same for the same content
	Close func()
}

// OpenFile opens a file of a volume as of a moment.
func (e *Viewer) OpenFile(volume, at, path string) (*File, error) {
	rel, err := cleanAsked(path)
	if err != nil {
		return nil, err
	}
	h, err := e.holdMoment(volume, at)
	if err != nil {
		return nil, err
	}
	found, err := tree.Lookup(h.get, h.root, rel)
	if err == nil && found.Kind != object.File {
		err = refusal.Badf("%s is a %s: only files are downloaded by themselves, candid restore --tar takes everything",
			phrase.Printable([]byte(rel)), found.Kind)
	} else if err != nil {
		err = refusal.Missingf("%s has no %s as of %s", volume, phrase.Printable([]byte(rel)), phrase.Stamp(h.row.Began.Time))
	}
	if err != nil {
		h.release()
		return nil, err
	}
	c := tree.NewContent(h.get, &found)
	end := func() {
		c.Close()
		h.release()
	}
	return &File{c, found, fmt.Sprintf("%q", found.Content.String()[:32]), end}, nil
}
