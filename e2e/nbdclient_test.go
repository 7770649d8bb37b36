package e2e

import (
	"encoding/binary"
	"fmt"
	"io"
	"net"
)

// nbdClient is a client that says one thing at a time, so that what it was answered is known.
type nbdClient struct {
	net.Conn
	size int64
	n    uint64
}

func dialNBD(socket, export string) (*nbdClient, error) {
	conn, err := net.Dial("unix", socket)
	if err != nil {
		return nil, err
	}
	c := &nbdClient{Conn: conn}
	head := make([]byte, 18)
	if _, err = io.ReadFull(c, head); err == nil {
		b := binary.BigEndian.AppendUint32(nil, 3)
		b = binary.BigEndian.AppendUint64(b, 0x49484156454f5054)
		b = binary.BigEndian.AppendUint32(b, 1)
		b = binary.BigEndian.AppendUint32(b, uint32(len(export)))
		_, err = c.Write(append(b, export...))
	}
	reply := make([]byte, 10)
	if err == nil {
		_, err = io.ReadFull(c, reply)
	}
	if err != nil {
		conn.Close()
		return nil, err
	}
	c.size = int64(binary.BigEndian.Uint64(reply))
	return c, nil
}

func (c *nbdClient) ask(flags, kind uint16, off, n int64, data []byte) error {
	c.n++
	b := binary.BigEndian.AppendUint32(nil, 0x25609513)
	b = binary.BigEndian.AppendUint16(b, flags)
	b = binary.BigEndian.AppendUint16(b, kind)
	b = binary.BigEndian.AppendUint64(b, c.n)
	b = binary.BigEndian.AppendUint64(b, uint64(off))
	b = binary.BigEndian.AppendUint32(b, uint32(n))
	if _, err := c.Write(append(b, data...)); err != nil {
		return err
	}
	head := make([]byte, 16)
	if _, err := io.ReadFull(c, head); err != nil {
		return err
	}
	if code := binary.BigEndian.Uint32(head[4:]); code != 0 {
		return fmt.Errorf("error %d", code)
	}
	return nil
}

func (c *nbdClient) write(p []byte, off int64) error { return c.ask(0, 1, off, int64(len(p)), p) }

func (c *nbdClient) flush() error { return c.ask(0, 3, 0, 0, nil) }

func (c *nbdClient) read(p []byte, off int64) error {
	if err := c.ask(0, 0, off, int64(len(p)), nil); err != nil {
		return err
	}
	_, err := io.ReadFull(c, p)
	return err
}

// leave says so and goes.
func (c *nbdClient) leave() {
	b := binary.BigEndian.AppendUint32(nil, 0x25609513)
	_, _ = c.Write(append(b, 0, 0, 0, 2, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0))
	_, _ = io.Copy(io.Discard, c)
	c.Close()
}
