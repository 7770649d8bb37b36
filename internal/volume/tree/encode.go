package tree

import (
	"fmt"

	"candidharbor/core/object"

	"golang.org/x/sys/unix"
)

// encode writes the directory from changed entries and, for the others, from its
// last version.
func (s *scanner) encode(items []*item, old *cacheDir, flags uint32, sum totals) (directory, error) {
	fail := func(err error) (directory, error) { return directory{off: -1}, err }
	if old != nil {
		if err := s.fromOld(items, old.id); err != nil {
			return fail(err)
		}
	}
	b := object.NewDirBuilder(s.opt.Sink.Put)
	rec := &cacheDir{flags: flags, sum: sum, entries: make([]cacheEntry, 0, len(items))}
	for _, it := range items {
		if it.entry.Kind == 0 {
			return fail(fmt.Errorf("internal: no record of %q", it.name))
		}
		if err := b.Add(it.entry); err != nil {
			return fail(err)
		}
		ctime := unix.TimespecToNsec(it.st.Ctim)
		rec.entries = append(rec.entries, cacheEntry{name: []byte(it.name), kind: it.entry.Kind,
			trusted: s.times.settled(ctime) && !it.mapped,
			look:    it.look != 0, has: it.entry.HasContent, content: it.entry.Content, inode: it.st.Ino, ctime: ctime,
			size: it.st.Size, child: it.child})
	}
	id, err := b.Finish()
	if err != nil {
		return fail(err)
	}
	rec.id = id
	return directory{id: id, off: s.cache.append(rec), changed: old == nil || old.id != id, flags: flags, sum: sum}, nil
}

// fromOld fills in the entries of what did not change from the directory's last
// version in the store. What it lacks is read like something new.
func (s *scanner) fromOld(items []*item, id object.ID) error {
	at := 0
	err := object.WalkDir(s.opt.Get, id, nil, func(e object.Entry) error {
		for at < len(items) && items[at].name < string(e.Name) {
			at++
		}
		if at == len(items) {
			return object.ErrStop
		}
		if items[at].name == string(e.Name) && items[at].same {
			items[at].entry = e
		}
		return nil
	})
	return err
}

func (s *scanner) noteLink(rel string, inode uint64) *linkedFile {
	s.mu.Lock()
	defer s.mu.Unlock()
	l := s.linked[inode]
	if l == nil {
		l = &linkedFile{}
		s.linked[inode] = l
	}
	l.paths = append(l.paths, []byte(rel))
	return l
}
