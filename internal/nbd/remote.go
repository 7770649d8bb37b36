package nbd

import (
	"bufio"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"
	"net"
	"strings"
	"time"
)

// Remote is an export of another server that was opened to be read, by one at a time.
type Remote struct {
	conn       net.Conn
	r          *bufio.Reader
	size       int64
	readOnly   bool
	structured bool
	context    bool // base:allocation is told
	contextID  uint32
	most       int64 // bytes of one read
	cookie     uint64
	stop       func() bool
}

// patience bounds how long a server is waited for.
const patience = time.Minute

// ErrServer is wrapped when a server does not speak the protocol, or not as it is needed here.
var ErrServer = errors.New("the server does not speak NBD as it should")

func strange(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrServer, fmt.Sprintf(format, args...))
}

// RefusedError is a server's refusal of an export.
type RefusedError struct {
	Code uint32 // of the reply, without the bit that says that it is an error
	Text string // of the server; may be empty
}

func (e *RefusedError) Error() string {
	why := map[uint32]string{1: "it does not know the request", 2: "its rules do not allow it",
		3: "it calls the request wrong", 5: "it wants TLS, which is not spoken here", 6: "it has no export of that name",
		7: "it is about to end"}[e.Code]
	if why == "" {
		why = fmt.Sprintf("with code %d", e.Code)
	}
	if e.Text != "" {
		why += fmt.Sprintf(" (it says: %q)", e.Text)
	}
	return "the server refuses: " + why
}

// OpenRemote opens an export over a connection, which it closes when that fails or the context ends.
func OpenRemote(ctx context.Context, conn net.Conn, export string) (r *Remote, err error) {
	r = &Remote{conn: conn, r: bufio.NewReaderSize(conn, 256<<10), most: 1 << 20}
	r.stop = context.AfterFunc(ctx, func() { conn.Close() })
	defer func() {
		if err != nil {
			err = errors.Join(ctx.Err(), err)
			r.close()
		}
	}()
	if err := conn.SetDeadline(time.Now().Add(handshakeTime)); err != nil {
		return nil, err
	}
	return r, r.negotiate(export)
}

// Size is that of the export in bytes.
func (r *Remote) Size() int64 { return r.size }

// ReadOnly reports whether the server takes no writes.
func (r *Remote) ReadOnly() bool { return r.readOnly }

// Close leaves the server.
func (r *Remote) Close() error {
	r.cookie++
	err := r.request(cmdDisconnect, 0, 0)
	return errors.Join(err, r.close())
}

func (r *Remote) close() error {
	r.stop()
	return r.conn.Close()
}

func (r *Remote) negotiate(export string) error {
	var head [18]byte
	if _, err := io.ReadFull(r.r, head[:]); err != nil {
		return early(err)
	}
	if binary.BigEndian.Uint64(head[:]) != magicServer {
		return strange("it begins with %q", head[:8])
	}
	if binary.BigEndian.Uint64(head[8:]) != magicOption {
		return strange("it knows the old form of the protocol alone")
	}
	flags := binary.BigEndian.Uint16(head[16:])
	if flags&flagFixedNewstyle == 0 {
		return strange("it knows an old form of the protocol alone")
	}
	flags &= flagFixedNewstyle | flagNoZeroes
	if _, err := r.conn.Write(binary.BigEndian.AppendUint32(nil, uint32(flags))); err != nil {
		return err
	}
	var refused *RefusedError
	_, err := r.option(optStructuredReply, nil, nil)
	switch {
	case errors.As(err, &refused) && refused.Code == errTLSRequired&^repError:
		return err
	case err != nil && refused == nil:
		return err
	}
	r.structured = err == nil
	name := append(binary.BigEndian.AppendUint32(nil, uint32(len(export))), export...)
	if r.structured {
		ask := binary.BigEndian.AppendUint32(name[:len(name):len(name)], 1)
		ask = binary.BigEndian.AppendUint32(ask, uint32(len(allocation)))
		_, err := r.option(optSetMeta, append(ask, allocation...), func(kind uint32, data []byte) error {
			if kind == repMetaContext && len(data) >= 4 && string(data[4:]) == allocation {
				r.context, r.contextID = true, binary.BigEndian.Uint32(data)
			}
			return nil
		})
		if err != nil && !errors.As(err, &refused) {
			return err
		}
	}
	told := false
	ask := append(binary.BigEndian.AppendUint16(name[:len(name):len(name)], 1), 0, infoBlockSize)
	_, err = r.option(optGo, ask, func(kind uint32, data []byte) error {
		if kind != repInfo || len(data) < 2 {
			return nil
		}
		switch binary.BigEndian.Uint16(data) {
		case infoExport:
			if len(data) != 12 || binary.BigEndian.Uint64(data[2:]) > math.MaxInt64 {
				return strange("it describes the export wrongly")
			}
			told, r.size = true, int64(binary.BigEndian.Uint64(data[2:]))
			r.readOnly = binary.BigEndian.Uint16(data[10:])&sendsReadOnly != 0
		case infoBlockSize:
			if len(data) != 14 {
				return strange("it describes the sizes of requests wrongly")
			}
			least, most := int64(binary.BigEndian.Uint32(data[2:])), int64(binary.BigEndian.Uint32(data[10:]))
			if least > r.most || most < max(least, 1) {
				return strange("it wants requests of %d to %d bytes", least, most)
			}
			least = max(least, 1)
			r.most = min(r.most, most) / least * least
		}
		return nil
	})
	if err == nil && !told {
		err = strange("it does not say how large the export is")
	}
	return err
}

// option sends an option and reads its replies until the last of them.
func (r *Remote) option(opt uint32, data []byte, each func(kind uint32, data []byte) error) (acked bool, err error) {
	b := binary.BigEndian.AppendUint64(nil, magicOption)
	b = binary.BigEndian.AppendUint32(b, opt)
	b = binary.BigEndian.AppendUint32(b, uint32(len(data)))
	if _, err := r.conn.Write(append(b, data...)); err != nil {
		return false, err
	}
	for range maxOptions {
		var head [20]byte
		if _, err := io.ReadFull(r.r, head[:]); err != nil {
			return false, early(err)
		}
		kind, size := binary.BigEndian.Uint32(head[12:]), binary.BigEndian.Uint32(head[16:])
		if binary.BigEndian.Uint64(head[:]) != magicReply || binary.BigEndian.Uint32(head[8:]) != opt || size > maxOption {
			return false, strange("its reply to option %d is none", opt)
		}
		data := make([]byte, size)
		if _, err := io.ReadFull(r.r, data); err != nil {
			return false, early(err)
		}
		switch {
		case kind == repAck:
			return true, nil
		case kind&repError != 0:
			text := strings.ToValidUTF8(string(data[:min(len(data), 200)]), "?")
			return false, &RefusedError{kind &^ repError, text}
		case each != nil:
			if err := each(kind, data); err != nil {
				return false, err
			}
		}
	}
	return false, strange("it replies to one option more than %d times", maxOptions)
}

// early says that what was read ended where it should not.
func early(err error) error {
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return fmt.Errorf("the server ended the connection: %w", io.ErrUnexpectedEOF)
	}
	return err
}
