package nbd

import (
	"bufio"
	"context"
	"crypto/tls"
	"errors"
	"io"
	"net"
	"time"
)

// Info describes an export.
type Info struct {
	Size        int64
	ReadOnly    bool
	Description string
	// MultiConn says that a flush on one connection covers what was written on all.
	MultiConn bool
}

// Extent is a stretch of an export of one kind.
type Extent struct {
	Length int64
	Hole   bool // takes no room
	Zero   bool // reads as zeros
}

// Export is what a client opened, on one connection. Its methods may be called by many at once.
type Export interface {
	Info() Info
	ReadAt(p []byte, off int64) error
	// ReadNoWait reads what is in memory, and reports whether it did.
	ReadNoWait(p []byte, off int64) bool
	WriteAt(ctx context.Context, p []byte, off int64, fua bool) error
	// WriteNoWait writes where that takes no wait, and reports whether it did.
	WriteNoWait(p []byte, off int64) bool
	Trim(ctx context.Context, off, n int64, fua bool) error
	Zero(ctx context.Context, off, n int64, allocate, fua bool) error
	Flush(ctx context.Context) error
	// Extents tells of a stretch, or of its beginning.
	Extents(off, n int64) ([]Extent, error)
	// Close ends what was opened, when the connection is over. left: the client said that it leaves.
	Close(left bool)
}

// ErrUnknown is wrapped by Exports when there is no export of a name, or not for this client.
var ErrUnknown = errors.New("no such export")

// Exports are what a server has for one client.
type Exports interface {
	// List names those that the client may know of.
	List() []string
	// Describe tells of an export without opening it.
	Describe(name string) (Info, error)
	// Open opens one. An error of ErrUnknown says nothing of whether it is there; others are told as they are.
	Open(name string) (Export, error)
	// Errno numbers an error of a request.
	Errno(err error) uint32
}

// Options of Serve.
type Options struct {
	// Exports are for who is at the other end; state is nil without TLS.
	Exports func(state *tls.ConnectionState) (Exports, error)
	TLS     *tls.Config // nil: STARTTLS is not offered
	// OnlyTLS refuses everything before TLS.
	OnlyTLS bool
}

// handshakeTime bounds how long a client negotiates.
const handshakeTime = 30 * time.Second

// Serve speaks with one client until it leaves, the context ends or it breaks the protocol. It closes the
// connection.
func Serve(ctx context.Context, conn net.Conn, opt Options) error {
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	if err := conn.SetDeadline(time.Now().Add(handshakeTime)); err != nil {
		return err
	}
	n := &negotiation{conn: conn, r: bufio.NewReaderSize(conn, 16<<10), opt: opt}
	export, err := n.run()
	if err != nil || export == nil {
		if errors.Is(err, io.EOF) {
			return nil
		}
		return err
	}
	left := false
	defer func() { export.Close(left) }()
	if err := n.conn.SetDeadline(time.Time{}); err != nil {
		return err
	}
	left, err = newTransmission(n, export).run(ctx)
	return err
}
