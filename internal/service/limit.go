package service

import (
	"net"
	"syscall"

	"candidharbor/internal/limit"
)

// limited is a listener that keeps only so many connections, in all and from one address;
// others are closed at once. What it leaves of the descriptors is for the site's own work, and
// for its socket.
type limited struct {
	net.Listener
	places limit.Places
}

// mostOpen and mostFrom bound connections in all and from one address, through which many
// people may come by a proxy.
const (
	mostOpen = 4096
	mostFrom = 256
)

// bounded bounds a listener by the descriptors that this process may have.
func bounded(l net.Listener) *limited {
	all := mostOpen
	var most syscall.Rlimit
	if syscall.Getrlimit(syscall.RLIMIT_NOFILE, &most) == nil {
		all = min(all, int(min(most.Cur, 1<<20))/4)
	}
	return &limited{Listener: l, places: limit.Places{All: all, Each: min(mostFrom, max(1, all/2))}}
}

// Accept is part of net.Listener.
func (l *limited) Accept() (net.Conn, error) {
	for {
		c, err := l.Listener.Accept()
		if err != nil {
			return nil, err
		}
		tcp, ok := c.(*net.TCPConn)
		if !ok {
			return c, nil
		}
		host, _, err := net.SplitHostPort(c.RemoteAddr().String())
		if err != nil {
			host = c.RemoteAddr().String()
		}
		leave, ok := l.places.Enter(host)
		if !ok {
			c.Close()
			continue
		}
		return &counted{tcp, leave}, nil
	}
}

type counted struct {
	*net.TCPConn
	leave func()
}

// Close is part of net.Conn.
func (c *counted) Close() error {
	defer c.leave()
	return c.TCPConn.Close()
}
