package transfer

import (
	"context"
	"crypto/tls"
	"errors"
	"io"
	"math/rand/v2"
	"net"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"
)

// counted counts the writes to a line, and fails them when it is to.
type counted struct {
	net.Conn
	writes atomic.Int64
	fails  atomic.Bool
}

var errCut = errors.New("cut")

func (c *counted) Write(p []byte) (int, error) {
	c.writes.Add(1)
	if c.fails.Load() {
		return 0, errCut
	}
	return c.Conn.Write(p)
}

// Whatever is written arrives as it was written, at once and with few writes to the line; who writes learns that a line
// was cut.
func TestWritesAreGathered(t *testing.T) {
	a, err := NewIdentity(key(1))
	require.NoError(t, err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	came := make(chan net.Conn, 1)
	go func() {
		c, err := l.Accept()
		if err == nil {
			s := tls.Server(c, a.config(nil))
			_ = s.HandshakeContext(context.Background())
			came <- s
		}
	}()
	plain, err := net.Dial("tcp", l.Addr().String())
	require.NoError(t, err)
	line := &counted{Conn: plain}
	below := &gatherer{Conn: line}
	g := &gathering{tls.Client(below, a.config(nil)), below}
	require.NoError(t, g.HandshakeContext(context.Background()))
	far := <-came
	defer far.Close()
	rng := rand.New(rand.NewPCG(1, 1))
	for _, n := range []int{1, 12, tlsRecord, tlsRecord + 1, 300_000, 3 << 20, 0, 5} {
		sent, got := make([]byte, n), make([]byte, n)
		for i := range sent {
			sent[i] = byte(rng.Uint32())
		}
		before := line.writes.Load()
		arrived := make(chan error, 1)
		go func() {
			_, err := io.ReadFull(far, got)
			arrived <- err
		}()
		wrote, err := g.Write(sent)
		require.NoError(t, err)
		require.Equal(t, n, wrote)
		require.NoError(t, <-arrived) // although nothing is written behind it
		require.Equal(t, sent, got)
		require.LessOrEqual(t, line.writes.Load()-before, int64(n/gatherMost+1), "writes of %d bytes", n)
	}
	line.fails.Store(true)
	_, err = g.Write(make([]byte, 100_000))
	require.ErrorIs(t, err, errCut)
}
