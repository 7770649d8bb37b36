package capture

import (
	"context"
	"errors"
	"io"
	"net"
	"os"
	"path/filepath"
	"time"

	"candidharbor/core/object"
	"candidharbor/internal/beneath"
	"candidharbor/internal/datadir"
	"candidharbor/internal/disks"
	"candidharbor/internal/nbd"
	"candidharbor/internal/refusal"

	"golang.org/x/sys/unix"
)

// diskSource is what a new disk begins with.
type diskSource struct {
	size  int64
	copy  func(ctx context.Context, image *os.File) error // leaves holes where zeros are
	close func() error
}

// openSource opens a file below a root, or an export of an NBD server.
func (s *Service) openSource(ctx context.Context, from string) (*diskSource, error) {
	if nbd.IsAddress(from) {
		return s.openRemote(ctx, from)
	}
	resolved, root, err := s.UnderRoot(from, true)
	if err != nil {
		return nil, err
	}
	f, err := beneath.File(root, resolved)
	if err != nil {
		return nil, refusal.Badf("import %s: %s", from, datadir.Plain(err))
	}
	st, err := f.Stat()
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return &diskSource{size: st.Size(), close: f.Close, copy: func(ctx context.Context, image *os.File) error {
		return copySparse(ctx, image, f, st.Size())
	}}, nil
}

// dialTime bounds how long a server is called.
const dialTime = 10 * time.Second

func (s *Service) openRemote(ctx context.Context, from string) (*diskSource, error) {
	fault := func(err error) error { return refusal.Badf("import %s: %s", from, datadir.Plain(err)) }
	at, err := nbd.ParseAddress(from)
	if err != nil {
		return nil, fault(err)
	}
	dialing, cancel := context.WithTimeout(ctx, dialTime)
	defer cancel()
	var conn net.Conn
	if at.Network == "unix" {
		conn, err = s.dialSocket(dialing, at.At)
	} else {
		conn, err = new(net.Dialer).DialContext(dialing, at.Network, at.At)
	}
	if err != nil {
		return nil, fault(err)
	}
	r, err := nbd.OpenRemote(ctx, conn, at.Export)
	if err != nil {
		return nil, fault(err)
	}
	return &diskSource{size: r.Size(), close: r.Close, copy: func(ctx context.Context, image *os.File) error {
		var failed error // of the image, which is another's fault
		err := r.Copy(ctx, func(p []byte, off int64) error {
			if !object.AllZero(p) {
				_, failed = image.WriteAt(p, off)
			}
			return failed
		})
		if err != nil && failed == nil {
			err = refusal.Badf("import %s: %s. No disk was made", from, datadir.Plain(err))
		}
		return err
	}}, nil
}

// dialSocket connects to a socket below a root, through no link. This site's own is refused: who may make a disk
// is not who may read each.
func (s *Service) dialSocket(ctx context.Context, path string) (net.Conn, error) {
	resolved, root, err := s.UnderRoot(path, true)
	if err != nil {
		return nil, err
	}
	dir, err := beneath.Open(root, filepath.Dir(resolved))
	if err != nil {
		return nil, err
	}
	defer unix.Close(dir)
	fd, err := beneath.At(dir, filepath.Base(resolved), unix.O_PATH|unix.O_NOFOLLOW, 0)
	if err != nil {
		return nil, err
	}
	defer unix.Close(fd)
	conn, err := new(net.Dialer).DialContext(ctx, "unix", beneath.Name(fd))
	if err != nil {
		return nil, err
	}
	cred, err := disks.Credentials(conn)
	if err == nil && cred.Pid == int32(os.Getpid()) {
		err = errors.New("the socket is this site's own: to begin with what another disk has, make a clone of it and " +
			"settle that")
	}
	if err != nil {
		return nil, errors.Join(err, conn.Close())
	}
	return conn, nil
}

// copySparse copies a file and leaves holes where it has zeros.
func copySparse(ctx context.Context, to, from *os.File, size int64) error {
	buf := make([]byte, 1<<20)
	for off := int64(0); off < size; {
		if err := ctx.Err(); err != nil {
			return err
		}
		n, err := from.ReadAt(buf[:min(int64(len(buf)), size-off)], off)
		if n == 0 {
			if err == nil || errors.Is(err, io.EOF) {
				err = refusal.Badf("import %s: it ended at %d of %d bytes. No disk was made", from.Name(), off, size)
			}
			return err
		}
		if !object.AllZero(buf[:n]) {
			if _, err := to.WriteAt(buf[:n], off); err != nil {
				return err
			}
		}
		off += int64(n)
	}
	return nil
}

// either ends when one of two contexts does.
func either(ctx, other context.Context) (context.Context, context.CancelFunc) {
	both, cancel := context.WithCancel(ctx)
	stop := context.AfterFunc(other, cancel)
	return both, func() {
		stop()
		cancel()
	}
}
