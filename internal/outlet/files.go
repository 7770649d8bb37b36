package outlet

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math"
	"os"
	"path"
	"time"

	"github.com/pkg/sftp"

	"candidharbor/core/object"
	"candidharbor/internal/volume/tree"
)

// write puts a file in place: under another name, read back, then renamed.
func (l *layer) write(at, rel string, e *object.Entry) (err error) {
	temp := path.Join(path.Dir(at), tempName())
	f, err := l.host.OpenFile(temp, os.O_WRONLY|os.O_CREATE|os.O_EXCL)
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			_ = l.host.Remove(temp)
		}
	}()
	c := tree.NewContent(l.get, e)
	defer c.Close()
	if err = f.Chmod(perm(e)); err == nil { // before anything is in it that not all may read
		_, err = f.ReadFrom(&reading{l: l, r: io.NewSectionReader(c, 0, e.Size), size: e.Size})
	}
	if err == nil {
		err = l.host.sync(f)
	}
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	same, err := l.compare(temp, e)
	if err != nil {
		return err
	}
	if !same {
		return errReadBack
	}
	if err := l.host.Chtimes(temp, mtime(e), mtime(e)); err != nil {
		return err
	}
	if err := l.host.rename(temp, at); err != nil {
		return err
	}
	l.res.Written.Add(1)
	l.res.Bytes.Add(e.Size)
	return nil
}

// reading reads what is to be written within the outlet's limit, until the run ends.
type reading struct {
	l    *layer
	r    io.Reader
	size int64
}

// Size lets several packets be on their way at once.
func (r *reading) Size() int64 { return r.size }

func (r *reading) Read(p []byte) (int, error) {
	if err := r.l.ctx.Err(); err != nil {
		return 0, err
	}
	n, err := r.r.Read(p)
	if r.l.limit != nil && n > 0 {
		for rest := n; rest > 0; {
			some := min(rest, r.l.limit.Burst())
			if werr := r.l.limit.WaitN(r.l.ctx, some); werr != nil {
				return 0, werr
			}
			rest -= some
		}
	}
	return n, err
}

// compare reads a file back and tells whether it is what it is to be.
func (l *layer) compare(at string, e *object.Entry) (bool, error) {
	f, err := l.host.Open(at)
	if err != nil {
		return false, err
	}
	defer f.Close()
	c := &comparing{l: l, want: tree.NewContent(l.get, e)}
	defer c.want.Close()
	_, err = f.WriteTo(c)
	if errors.Is(err, errDiffers) {
		return false, nil
	}
	return c.off == e.Size, err
}

var errTooMany = fmt.Errorf("%d paths could not be laid out, and the rest was not tried: the log of the run names them",
	mostFailed)

var errReadBack = errors.New("what was read back is not what was written")

var errDiffers = errors.New("it differs")

// comparing is written what a file has, and holds it against what it is to have.
type comparing struct {
	l    *layer
	want *tree.Content
	off  int64
	buf  []byte
}

func (c *comparing) Write(p []byte) (int, error) {
	if err := c.l.ctx.Err(); err != nil {
		return 0, err
	}
	if c.off+int64(len(p)) > c.want.Size() {
		return 0, errDiffers
	}
	if cap(c.buf) < len(p) {
		c.buf = make([]byte, len(p))
	}
	b := c.buf[:len(p)]
	if _, err := c.want.ReadAt(b, c.off); err != nil && !errors.Is(err, io.EOF) {
		return 0, err
	}
	if !bytes.Equal(b, p) {
		return 0, errDiffers
	}
	c.off += int64(len(p))
	return len(p), nil
}

// perm are the rights of an entry there: this site must be able to go on, and nothing runs as somebody else.
func perm(e *object.Entry) os.FileMode {
	p := os.FileMode(e.Mode) & 0o777
	if e.Kind == object.Dir {
		return p | 0o700
	}
	return p | 0o400
}

func seconds(e *object.Entry) int64 { return mtime(e).Unix() }

// mtime is a time of an entry as the protocol has it: seconds since 1970, in 32 bits.
func mtime(e *object.Entry) time.Time {
	return time.Unix(min(max(time.Unix(0, e.MTime).Unix(), 0), math.MaxUint32), 0)
}

func sameEntry(a, b *object.Entry) bool {
	return a.Kind == b.Kind && a.Mode == b.Mode && a.MTime == b.MTime && a.Size == b.Size &&
		a.HasContent == b.HasContent && a.Content == b.Content && bytes.Equal(a.Target, b.Target)
}

// rename puts what is under one name under another, in place of what was there.
func (h *host) rename(from, to string) error {
	if _, ok := h.HasExtension(posix); ok {
		return h.PosixRename(from, to)
	}
	if err := h.Remove(to); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return h.Rename(from, to)
}

// sync makes a file durable there, where the machine can.
func (h *host) sync(f *sftp.File) error {
	if _, ok := h.HasExtension(fsync); ok {
		return f.Sync()
	}
	return nil
}
