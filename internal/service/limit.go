package service

import (
	"net"
	"sync"
	"syscall"
)

// limited is a listener that keeps only so many connections, in all and from one address;
// others are closed at once. What it leaves of the descriptors is for the site's own work, and
// for its socket.
type limited struct {
	net.Listener
	all, each int

	mu   sync.Mutex
	n    int
	from map[string]int
}

const mostFrom = 256 // connections from one address; many people may come through one proxy

// limit bounds a listener by the descriptors that this process may have.
func limit(l net.Listener) *limited {
	all := 4096
	var most syscall.Rlimit
	if syscall.Getrlimit(syscall.RLIMIT_NOFILE, &most) == nil {
		all = min(all, int(min(most.Cur, 1<<20))/4)
	}
	return &limited{Listener: l, all: all, each: min(mostFrom, max(1, all/2)), from: map[string]int{}}
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
		l.mu.Lock()
		full := l.n >= l.all || l.from[host] >= l.each
		if !full {
			l.n++
			l.from[host]++
		}
		l.mu.Unlock()
		if full {
			c.Close()
			continue
		}
		return &counted{TCPConn: tcp, gone: sync.OnceFunc(func() { l.leave(host) })}, nil
	}
}

func (l *limited) leave(host string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.n--
	if l.from[host]--; l.from[host] == 0 {
		delete(l.from, host)
	}
}

type counted struct {
	*net.TCPConn
	gone func()
}

// Close is part of net.Conn.
func (c *counted) Close() error {
	defer c.gone()
	return c.TCPConn.Close()
}
