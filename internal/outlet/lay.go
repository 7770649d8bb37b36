package outlet

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"strings"
	"sync"
	"sync/atomic"

	"candidharbor/core/object"
	"candidharbor/internal/phrase"

	"github.com/pkg/sftp"
	"golang.org/x/time/rate"
)

const (
	atOnce     = 16  // files and directories side by side
	mostFailed = 100 // paths that could not be laid out, before a run gives up
	tempPrefix = ".candid-part-"
	posix      = "posix-rename@openssh.com"
	fsync      = "fsync@openssh.com"
	stray      = "was put there by others, and stays"
)

func tempName() string {
	var b [8]byte
	_, _ = rand.Read(b[:]) // it does not fail
	return tempPrefix + hex.EncodeToString(b[:])
}

// result counts what was done at an outlet.
type result struct {
	Written, Removed, Dirs, Bytes, Looked atomic.Int64
	Righted                               atomic.Int64 // that were there otherwise than this site left them

	mu      sync.Mutex
	failed  []string // paths that could not be laid out, with the cause
	remarks []string
	further int // remarks, that are only counted
}

// mostRemarks bounds what is kept of what there is to say: there may be a million files of others.
const mostRemarks = 1000

// remark notes what there is to say of a path. Names may be of others' making.
func (r *result) remark(rel, format string, args ...any) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.remarks) == mostRemarks {
		r.further++
		return
	}
	r.remarks = append(r.remarks, phrase.Printable([]byte(rel))+" "+fmt.Sprintf(format, args...))
}

// layer brings one directory at an outlet up to a snapshot.
type layer struct {
	ctx    context.Context
	end    context.CancelCauseFunc
	host   *host
	get    object.Getter
	verify bool // everything is looked at and read back, whatever the marker says
	doubt  bool // everything is looked at: some of what the bases have may lack there
	limit  *rate.Limiter
	res    *result
	places chan struct{}
}

// lay brings a directory up to a snapshot. bases are what may lie there of others; sure says that nothing else does,
// but for what others put there.
func (l *layer) lay(ctx context.Context, dir string, bases []*object.Root, sure bool, will *object.Root) error {
	ctx, end := context.WithCancelCause(ctx)
	defer end(nil)
	l.ctx, l.end, l.places = ctx, end, make(chan struct{}, atOnce)
	tops := make([]*object.Entry, len(bases))
	for i, b := range bases {
		tops[i] = &b.Top
	}
	if err := l.host.Chmod(dir, perm(&will.Top)); err != nil {
		return err
	}
	l.dir(dir, "", tops, sure, &will.Top)
	return context.Cause(ctx)
}

// failed notes that a path could not be laid out. What the other machine refuses is one path's trouble; anything else,
// such as a line that is down, ends the run.
func (l *layer) failed(rel string, err error) {
	var said *sftp.StatusError
	refused := errors.As(err, &said) || errors.Is(err, fs.ErrPermission) || errors.Is(err, fs.ErrNotExist) ||
		errors.Is(err, fs.ErrExist) || errors.Is(err, errReadBack)
	if !refused {
		if l.ctx.Err() == nil {
			l.res.remark(rel, "ended the run: %s", err)
		}
		l.end(err)
		return
	}
	l.res.mu.Lock()
	defer l.res.mu.Unlock()
	l.res.failed = append(l.res.failed, phrase.Printable([]byte(rel))+": "+err.Error())
	if len(l.res.failed) >= mostFailed {
		l.end(errTooMany)
	}
}

// beside does work beside others where there is room, else at once.
func (l *layer) beside(all *sync.WaitGroup, work func()) {
	select {
	case l.places <- struct{}{}:
		all.Go(func() {
			defer func() { <-l.places }()
			work()
		})
	default:
		work()
	}
}

// children are the entries of a directory by name.
func (l *layer) children(e *object.Entry) (map[string]*object.Entry, error) {
	out := map[string]*object.Entry{}
	if e.Kind != object.Dir {
		return out, nil
	}
	err := object.WalkDir(l.get, e.Content, nil, func(x object.Entry) error {
		out[string(x.Name)] = &x
		return nil
	})
	return out, err
}

// dir brings what lies in a directory up to what is to lie there.
func (l *layer) dir(at, rel string, bases []*object.Entry, sure bool, will *object.Entry) {
	if l.ctx.Err() != nil {
		return
	}
	next, err := l.children(will)
	if err != nil {
		l.end(err)
		return
	}
	before := make([]map[string]*object.Entry, len(bases))
	for i, b := range bases {
		if before[i], err = l.children(b); err != nil {
			l.end(err)
			return
		}
	}
	there, err := l.list(at)
	if err != nil {
		l.failed(rel, err)
		return
	}
	var all sync.WaitGroup
	for name, e := range next {
		is, had := there[name], named(before, name)
		delete(there, name)
		l.beside(&all, func() { l.one(path.Join(at, name), path.Join(rel, name), is, had, sure, len(before), e) })
	}
	for name, is := range there {
		switch had := named(before, name); {
		case rel == "" && name == markerName:
		case len(had) > 0 || strings.HasPrefix(name, tempPrefix):
			l.beside(&all, func() { l.remove(path.Join(at, name), path.Join(rel, name), is, had) })
		default:
			l.res.remark(path.Join(rel, name), stray)
		}
	}
	all.Wait()
	if l.ctx.Err() == nil && rel != "" {
		if err := l.host.Chtimes(at, mtime(will), mtime(will)); err != nil { // once all in it is in place
			l.failed(rel, err)
		}
	}
}

func named(all []map[string]*object.Entry, name string) (out []*object.Entry) {
	for _, m := range all {
		if e := m[name]; e != nil {
			out = append(out, e)
		}
	}
	return out
}

func (l *layer) list(at string) (map[string]os.FileInfo, error) {
	l.res.Looked.Add(1)
	infos, err := l.host.ReadDirContext(l.ctx, at)
	out := make(map[string]os.FileInfo, len(infos))
	for _, i := range infos {
		out[i.Name()] = i
	}
	return out, err
}

// one brings one entry up to what it is to be. is is what lies there, had what bases have there.
func (l *layer) one(at, rel string, is os.FileInfo, had []*object.Entry, sure bool, bases int, e *object.Entry) {
	if l.ctx.Err() != nil {
		return
	}
	if rel == markerName {
		l.res.remark(rel, "of the volume is not laid out: the outlet has a file of that name")
		return
	}
	known := sure && !l.doubt && len(had) == bases && bases > 0 // all that may lie there is alike
	for _, b := range had {
		known = known && sameEntry(b, e)
	}
	var err error
	switch e.Kind {
	case object.Dir:
		err = l.subdir(at, rel, is, had, sure, known, e)
	case object.File:
		err = l.file(at, rel, is, had, sure, known, e)
	case object.Symlink:
		err = l.symlink(at, rel, is, had, known, e)
	default:
		l.res.remark(rel, "is no file, directory or symbolic link: it is not laid out")
	}
	if err != nil {
		l.failed(rel, err)
	}
}

func (l *layer) subdir(at, rel string, is os.FileInfo, had []*object.Entry, sure, known bool, e *object.Entry) error {
	if is != nil && !is.IsDir() { // a link must not lead elsewhere
		if err := l.host.Remove(at); err != nil {
			return err
		}
		is = nil
	}
	if is == nil {
		if err := l.host.Mkdir(at); err != nil {
			return err
		}
	}
	if is == nil || is.Mode().Perm() != perm(e) { // before anything is in it that not all may see
		if err := l.host.Chmod(at, perm(e)); err != nil {
			return err
		}
	}
	if is == nil {
		if known {
			l.res.Righted.Add(1)
		}
		l.res.Dirs.Add(1)
		had, sure = nil, true
	} else if known && !l.verify {
		return nil
	}
	l.dir(at, rel, had, sure, e)
	return nil
}

func (l *layer) file(at, rel string, is os.FileInfo, had []*object.Entry, sure, known bool, e *object.Entry) error {
	if is != nil && is.IsDir() {
		l.remove(at, rel, is, had)
	}
	looks := is != nil && is.Mode().IsRegular() && is.Size() == e.Size && is.ModTime().Unix() == seconds(e)
	if looks && (l.verify || !sure) {
		same, err := l.compare(at, e)
		if err != nil {
			return err
		}
		looks = same
	} else if looks && !known {
		for _, b := range had { // what looks alike must not be another one
			looks = looks && (b.Size != e.Size || seconds(b) != seconds(e) || b.HasContent == e.HasContent &&
				b.Content == e.Content)
		}
	}
	if !looks {
		if known {
			l.res.Righted.Add(1)
		}
		return l.write(at, rel, e)
	}
	if is.Mode().Perm() != perm(e) {
		return l.host.Chmod(at, perm(e))
	}
	return nil
}

func (l *layer) symlink(at, rel string, is os.FileInfo, had []*object.Entry, known bool, e *object.Entry) error {
	if is != nil && is.Mode()&os.ModeSymlink != 0 {
		if known && !l.verify {
			return nil
		}
		if to, err := l.host.ReadLink(at); err == nil && to == string(e.Target) {
			return nil
		}
	}
	if is != nil && is.IsDir() {
		l.remove(at, rel, is, had)
	}
	if known {
		l.res.Righted.Add(1)
	}
	temp := path.Join(path.Dir(at), tempName())
	if err := l.host.Symlink(string(e.Target), temp); err != nil {
		return err
	}
	l.res.Written.Add(1)
	return l.host.rename(temp, at)
}

// remove takes away what this site laid out, and leaves what others put beneath it.
func (l *layer) remove(at, rel string, is os.FileInfo, had []*object.Entry) {
	if l.ctx.Err() != nil {
		return
	}
	if !is.IsDir() {
		if err := l.host.Remove(at); err != nil && !errors.Is(err, fs.ErrNotExist) {
			l.failed(rel, err)
			return
		}
		l.res.Removed.Add(1)
		return
	}
	var before []map[string]*object.Entry
	for _, b := range had {
		m, err := l.children(b)
		if err != nil {
			l.end(err)
			return
		}
		before = append(before, m)
	}
	there, err := l.list(at)
	if err != nil {
		l.failed(rel, err)
		return
	}
	left := false
	for name, is := range there {
		had := named(before, name)
		if len(had) == 0 && !strings.HasPrefix(name, tempPrefix) {
			l.res.remark(path.Join(rel, name), stray)
			left = true
			continue
		}
		l.remove(path.Join(at, name), path.Join(rel, name), is, had)
	}
	if left {
		return
	}
	if err := l.host.RemoveDirectory(at); err != nil && !errors.Is(err, fs.ErrNotExist) {
		l.failed(rel, err)
		return
	}
	l.res.Removed.Add(1)
}
