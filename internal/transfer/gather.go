package transfer

import (
	"crypto/tls"
	"net"
	"sync"
)

const (
	tlsRecord  = 16 << 10  // the largest that TLS makes
	gatherMost = 256 << 10 // is held back at most
)

// gathering is a TLS connection that brings what is written at once to the line at once: TLS alone makes a system call
// of every 16 KiB of it.
type gathering struct {
	*tls.Conn
	line *gatherer
}

func (g *gathering) Write(p []byte) (int, error) {
	if len(p) <= tlsRecord {
		return g.Conn.Write(p)
	}
	g.line.hold()
	n, err := g.Conn.Write(p)
	if cerr := g.line.letGo(); err == nil && cerr != nil {
		n, err = 0, cerr
	}
	return n, err
}

// gatherer is the line below a TLS connection.
type gatherer struct {
	net.Conn
	mu   sync.Mutex
	held bool
	buf  []byte
}

func (g *gatherer) Write(p []byte) (int, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if !g.held {
		return g.Conn.Write(p)
	}
	g.buf = append(g.buf, p...)
	if len(g.buf) < gatherMost {
		return len(p), nil
	}
	return len(p), g.flush()
}

func (g *gatherer) hold() {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.held = true
}

// letGo sends what was held back.
func (g *gatherer) letGo() error {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.held = false
	return g.flush()
}

// flush sends what was gathered. The caller holds mu.
func (g *gatherer) flush() error {
	if len(g.buf) == 0 {
		return nil
	}
	_, err := g.Conn.Write(g.buf)
	g.buf = g.buf[:0]
	return err
}
