package tree

import (
	"path"

	"candidharbor/core/object"

	"golang.org/x/sys/unix"
)

// loadLinks finds which of the picked paths are names of one file.
func (r *restorer) loadLinks() error {
	if !r.opt.Root.HasLinks {
		return nil
	}
	return object.WalkLinks(r.opt.Source.Get, r.opt.Root.Links, func(paths [][]byte) error {
		var set *linkSet
		for _, p := range paths {
			rel := string(p)
			if !r.picked.wants(rel) {
				continue
			}
			if set == nil {
				set = &linkSet{first: rel}
			}
			r.links[rel] = set
		}
		if set != nil && len(paths) > 0 {
			alone := 0
			for _, p := range paths {
				if r.links[string(p)] == set {
					alone++
				}
			}
			if alone == 1 {
				delete(r.links, set.first)
			}
		}
		return nil
	})
}

// finishLinks gives files their further names, then sets the times of the
// directories that this touched.
func (r *restorer) finishLinks(top int) error {
	touched := map[string]bool{}
	for _, l := range r.later {
		first := r.links[l.path].first
		if err := r.link(top, first, l.path); err != nil {
			r.remark(l.path, "could not become another name of %s: %s", first, plainError(err))
			continue
		}
		touched[path.Dir(l.path)] = true
	}
	for dir := range touched {
		if dir == "." || !r.picked.whole(dir) {
			continue
		}
		e, err := Lookup(r.opt.Source.Get, r.opt.Root, dir)
		if err != nil {
			return err
		}
		fd, err := openPath(top, dir)
		if err != nil {
			return err
		}
		err = r.applyMeta(fd, dir, &e, false)
		unix.Close(fd)
		if err != nil {
			return err
		}
	}
	return nil
}

func openPath(top int, rel string) (int, error) {
	return unix.Openat2(top, rel, &unix.OpenHow{Flags: unix.O_RDONLY | unix.O_DIRECTORY | unix.O_CLOEXEC, Resolve: unix.RESOLVE_BENEATH | unix.RESOLVE_NO_SYMLINKS})
}

func (r *restorer) link(top int, first, second string) error {
	from, err := openPath(top, path.Dir(first))
	if err != nil {
		return err
	}
	defer unix.Close(from)
	to, err := openPath(top, path.Dir(second))
	if err != nil {
		return err
	}
	defer unix.Close(to)
	var a, b unix.Stat_t
	if err := unix.Fstatat(from, path.Base(first), &a, unix.AT_SYMLINK_NOFOLLOW); err != nil {
		return err
	}
	if unix.Fstatat(to, path.Base(second), &b, unix.AT_SYMLINK_NOFOLLOW) == nil && a.Ino == b.Ino && a.Dev == b.Dev {
		return nil
	}
	temp := tempName()
	if err := unix.Linkat(from, path.Base(first), to, temp, 0); err != nil {
		return err
	}
	if err := r.putInPlace(to, temp, path.Base(second)); err != nil {
		unix.Unlinkat(to, temp, 0)
		return err
	}
	return nil
}
