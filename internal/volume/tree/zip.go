package tree

import (
	"archive/zip"
	"context"
	"fmt"
	"io"
	"path"
	"time"
	"unicode/utf8"

	"candidharbor/core/object"
)

// WriteZip writes files, directories and symbolic links of the picked part of a snapshot
// as a ZIP archive. What ZIP cannot hold (owners, attributes, other kinds of entries,
// names that are not UTF-8) is left out or written as %XX; a file with several names comes
// several times. leftOut gets what was left out.
func WriteZip(ctx context.Context, w io.Writer, get object.Getter, root *object.Root, paths []string,
	leftOut func(path, why string)) error {
	pick, err := newPicker(get, root, paths, false)
	if err != nil {
		return err
	}
	z := zip.NewWriter(w)
	var dir func(id object.ID, rel string) error
	dir = func(id object.ID, rel string) error {
		return object.WalkDir(get, id, nil, func(e object.Entry) error {
			if err := ctx.Err(); err != nil {
				return err
			}
			child := path.Join(rel, string(e.Name))
			if !pick.wants(child) {
				return nil
			}
			h := &zip.FileHeader{Name: zipName(child), Method: zip.Deflate, Modified: time.Unix(0, e.MTime)}
			switch e.Kind {
			case object.File:
				h.SetMode(FileMode(&e))
			case object.Dir:
				h.Name += "/"
				h.Method = zip.Store
				h.SetMode(FileMode(&e))
			case object.Symlink:
				h.SetMode(FileMode(&e))
			default:
				leftOut(child, "a ZIP archive cannot hold a "+e.Kind.String())
				return nil
			}
			f, err := z.CreateHeader(h)
			if err != nil {
				return fmt.Errorf("%s: %w", child, err)
			}
			switch e.Kind {
			case object.File:
				if err := CopyContent(get, &e, f); err != nil {
					return fmt.Errorf("%s: %w", child, err)
				}
			case object.Symlink:
				_, err = f.Write(e.Target)
			case object.Dir:
				err = dir(e.Content, child)
			}
			return err
		})
	}
	if err := dir(root.Top.Content, ""); err != nil {
		return err
	}
	return z.Close()
}

func zipName(p string) string {
	if utf8.ValidString(p) {
		return p
	}
	var out []byte
	for len(p) > 0 {
		r, n := utf8.DecodeRuneInString(p)
		if r == utf8.RuneError && n == 1 {
			out = fmt.Appendf(out, "%%%02X", p[0])
		} else {
			out = append(out, p[:n]...)
		}
		p = p[n:]
	}
	return string(out)
}
