package views

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"mime"
	"net/http"
	"os"
	"path"
	"strings"
	"time"

	"candidharbor/core/object"
	"candidharbor/internal/volume/tree"

	"golang.org/x/net/webdav"
)

// DAV serves a source by WebDAV (RFC 4918), class 1, read-only, below a prefix. Symbolic
// links show what they lead to within their snapshot; other kinds of entries than files
// and directories are not shown.
func DAV(src Source, prefix string, log *slog.Logger) http.Handler {
	failed := func(r *http.Request, err error) {
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			log.Warn("a WebDAV request failed", "method", r.Method, "path", r.URL.Path, "error", err)
		}
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.Method {
		case http.MethodOptions:
			w.Header().Set("Allow", "OPTIONS, GET, HEAD, PROPFIND")
			w.Header().Set("DAV", "1")
			w.Header().Set("MS-Author-Via", "DAV")
			return
		case http.MethodGet, http.MethodHead:
			w.Header().Set("Content-Security-Policy", "default-src 'none'; sandbox")
			w.Header().Set("X-Content-Type-Options", "nosniff")
		case "PROPFIND":
			if d := r.Header.Get("Depth"); d != "0" && d != "1" { // a whole tree may be millions (RFC 4918 §9.1)
				w.Header().Set("Content-Type", "application/xml; charset=utf-8")
				w.WriteHeader(http.StatusForbidden)
				io.WriteString(w,
					`<?xml version="1.0" encoding="utf-8"?><D:error xmlns:D="DAV:"><D:propfind-finite-depth/></D:error>`)
				return
			}
		default:
			w.Header().Set("Allow", "OPTIONS, GET, HEAD, PROPFIND")
			http.Error(w, "snapshots cannot be changed: only OPTIONS, GET, HEAD and PROPFIND are answered",
				http.StatusMethodNotAllowed)
			return
		}
		r.Body = http.MaxBytesReader(w, r.Body, 64<<10) // a list of properties has no more
		d := &davFS{src: src, found: map[string]Moment{}, held: map[string]*Held{}, listed: map[string]davInfo{}}
		defer d.release()
		(&webdav.Handler{Prefix: prefix, FileSystem: d, LockSystem: noLocks{}, Logger: failed}).ServeHTTP(w, r)
	})
}

// noLocks grants none: nothing can be written.
type noLocks struct{}

func (noLocks) Confirm(time.Time, string, string, ...webdav.Condition) (func(), error) {
	return nil, webdav.ErrConfirmationFailed
}
func (noLocks) Create(time.Time, webdav.LockDetails) (string, error) { return "", webdav.ErrLocked }
func (noLocks) Refresh(time.Time, string, time.Duration) (webdav.LockDetails, error) {
	return webdav.LockDetails{}, webdav.ErrNoSuchLock
}
func (noLocks) Unlock(time.Time, string) error { return webdav.ErrNoSuchLock }

// davFS is a source as one request sees it: what it looked up once it does not look up
// again, for a listing asks for everything in it.
type davFS struct {
	src    Source
	found  map[string]Moment // by volume and name
	held   map[string]*Held
	listed map[string]davInfo // by path
}

func (d *davFS) release() {
	for _, h := range d.held {
		h.Release()
	}
}

func (*davFS) Mkdir(context.Context, string, os.FileMode) error { return fs.ErrPermission }
func (*davFS) RemoveAll(context.Context, string) error          { return fs.ErrPermission }
func (*davFS) Rename(context.Context, string, string) error     { return fs.ErrPermission }

func (d *davFS) Stat(_ context.Context, name string) (os.FileInfo, error) {
	if i, ok := d.listed[path.Clean("/"+name)]; ok {
		return i, nil
	}
	f, err := d.open(name)
	if err != nil {
		return nil, err
	}
	return f.Stat()
}

func (d *davFS) hold(volume, id string) (*Held, error) {
	if h := d.held[id]; h != nil {
		return h, nil
	}
	h, err := d.src.Hold(volume, id)
	if err == nil {
		d.held[id] = h
	}
	return h, err
}

func (d *davFS) OpenFile(_ context.Context, name string, flag int, _ os.FileMode) (webdav.File, error) {
	if flag&(os.O_WRONLY|os.O_RDWR|os.O_CREATE|os.O_TRUNC) != 0 {
		return nil, fs.ErrPermission
	}
	return d.open(name)
}

func (d *davFS) open(name string) (f *davFile, err error) {
	at := path.Clean("/" + name)
	defer func() {
		if f != nil {
			f.fs, f.name = d, at
		}
	}()
	volume, rest, _ := strings.Cut(strings.Trim(at, "/"), "/")
	moment, rel, _ := strings.Cut(rest, "/")
	if volume == "" {
		all, err := d.src.Volumes()
		return listing("/", all, time.Time{}), err
	}
	if moment == "" {
		all, err := d.src.Moments(volume, time.Time{})
		if err != nil {
			return nil, err
		}
		var list []string
		newest := time.Time{}
		if len(all) > 0 {
			list, newest = append(list, latest), all[0].Taken
		}
		for _, n := range names(all, plainForm) {
			list = append(list, n.name)
		}
		return listing(volume, list, newest), nil
	}
	m, err := d.moment(volume, moment)
	if err != nil {
		return nil, err
	}
	h, err := d.hold(volume, m.ID)
	if err != nil {
		return nil, err
	}
	e, err := follow(h, rel)
	if err != nil {
		return nil, err
	}
	base := path.Base(rel)
	if rel == "" {
		base = moment
	}
	return &davFile{info: davInfo{base, e}, held: h, at: rel, content: tree.NewContent(h.Get, e)}, nil
}

func (d *davFS) moment(volume, name string) (Moment, error) {
	key := volume + "/" + name
	if m, ok := d.found[key]; ok {
		return m, nil
	}
	m, ok, err := lookUp(d.src, volume, name, plainForm)
	if name == latest {
		m, ok, err = d.src.Newest(volume)
	}
	if err == nil && !ok {
		err = fs.ErrNotExist
	}
	if err == nil {
		d.found[key] = m
	}
	return m, err
}

// follow finds an entry, going after symbolic links within the snapshot.
func follow(h *Held, rel string) (*object.Entry, error) {
	for range 32 {
		at, rest := "", rel
		again := false
		for rest != "" || at == "" {
			var name string
			name, rest, _ = strings.Cut(rest, "/")
			at = path.Join(at, name)
			e, err := tree.Lookup(h.Get, h.Root, at)
			if errors.Is(err, tree.ErrNoPath) {
				return nil, fs.ErrNotExist
			}
			if err != nil {
				return nil, err
			}
			if e.Kind == object.Symlink {
				to := string(e.Target)
				if path.IsAbs(to) || strings.HasPrefix(path.Join(path.Dir(at), to), "..") {
					return nil, fs.ErrNotExist // it leads out of the snapshot
				}
				rel = strings.Trim(path.Join(path.Dir(at), to, rest), "/")
				if rel == "." {
					rel = ""
				}
				again = true
				break
			}
			if rest == "" {
				if e.Kind != object.Dir && e.Kind != object.File {
					return nil, fs.ErrNotExist
				}
				return &e, nil
			}
		}
		if !again {
			return nil, fs.ErrNotExist
		}
	}
	return nil, fs.ErrNotExist
}

// listing is a directory that is in no snapshot.
func listing(name string, names []string, at time.Time) *davFile {
	f := &davFile{info: davInfo{name, &object.Entry{Kind: object.Dir, Mode: 0o555, MTime: at.UnixNano()}}}
	for _, n := range names {
		f.list = append(f.list, davInfo{n, &object.Entry{Kind: object.Dir, Mode: 0o555, MTime: at.UnixNano()}})
	}
	return f
}

type davInfo struct {
	name string
	e    *object.Entry
}

func (i davInfo) Name() string       { return i.name }
func (i davInfo) Size() int64        { return i.e.Size }
func (i davInfo) Mode() fs.FileMode  { return tree.FileMode(i.e) }
func (i davInfo) ModTime() time.Time { return time.Unix(0, i.e.MTime) }
func (i davInfo) IsDir() bool        { return i.e.Kind == object.Dir }
func (i davInfo) Sys() any           { return nil }

// ETag is the same for the same content.
func (i davInfo) ETag(context.Context) (string, error) {
	if !i.e.HasContent || i.IsDir() {
		return fmt.Sprintf("%q", fmt.Sprint(i.e.MTime, "-", i.e.Size)), nil
	}
	return fmt.Sprintf("%q", i.e.Content.String()[:32]), nil
}

// ContentType goes by the name alone: nothing is read for a listing.
func (i davInfo) ContentType(context.Context) (string, error) {
	if t := mime.TypeByExtension(path.Ext(i.name)); t != "" {
		return t, nil
	}
	return "application/octet-stream", nil
}

// davFile is an open file or directory.
type davFile struct {
	fs      *davFS
	name    string // its path
	info    davInfo
	list    []davInfo // of a directory that is in no snapshot
	held    *Held
	at      string
	content *tree.Content
	off     int64
}

func (f *davFile) Close() error {
	if f.content != nil {
		f.content.Close()
	}
	return nil
}

func (f *davFile) Stat() (fs.FileInfo, error) { return f.info, nil }

func (f *davFile) Write([]byte) (int, error) { return 0, fs.ErrPermission }

func (f *davFile) Read(p []byte) (int, error) {
	if f.content == nil || f.info.IsDir() {
		return 0, fs.ErrInvalid
	}
	n, err := f.content.ReadAt(p, f.off)
	f.off += int64(n)
	if n > 0 && err == io.EOF {
		err = nil
	}
	return n, err
}

func (f *davFile) Seek(off int64, whence int) (int64, error) {
	switch whence {
	case io.SeekCurrent:
		off += f.off
	case io.SeekEnd:
		off += f.info.Size()
	}
	if off < 0 {
		return 0, fs.ErrInvalid
	}
	f.off = off
	return off, nil
}

// Readdir returns everything at once.
func (f *davFile) Readdir(int) (out []fs.FileInfo, err error) {
	defer func() {
		for _, i := range out {
			f.fs.listed[path.Join(f.name, i.Name())] = i.(davInfo)
		}
	}()
	for _, i := range f.list {
		out = append(out, i)
	}
	if f.held == nil || !f.info.IsDir() {
		return out, nil
	}
	err = object.WalkDir(f.held.Get, f.info.e.Content, nil, func(e object.Entry) error {
		name := string(e.Name)
		switch e.Kind {
		case object.Symlink:
			to, err := follow(f.held, path.Join(f.at, name))
			if errors.Is(err, fs.ErrNotExist) {
				return nil
			}
			if err != nil {
				return err
			}
			out = append(out, davInfo{name, to})
		case object.Dir, object.File:
			out = append(out, davInfo{name, &e})
		}
		return nil
	})
	return out, err
}
