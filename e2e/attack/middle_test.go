package attack

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/binary"
	"encoding/pem"
	"io"
	"maps"
	"math/big"
	mrand "math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/fxamacker/cbor/v2"
	"github.com/hashicorp/yamux"
	"github.com/stretchr/testify/require"
)

// middle is between two sites and has the keys of both: to each it is the other, which is known
// and paired, and says whatever it likes instead of what the other says.
type middle struct {
	t     testing.TB
	certs map[*site]tls.Certificate
	ends  []net.Listener
	ctx   context.Context
	all   sync.WaitGroup

	mu    sync.Mutex
	rng   *mrand.Rand
	often float64 // of frames that are changed; 0: an honest line
	heard [][]byte
	did   map[string]int // by request, and how a frame was changed
}

// mostHeard are the frames that the middle remembers to say again.
const mostHeard = 512

func keyOf(t testing.TB, s *site) tls.Certificate {
	raw, err := os.ReadFile(filepath.Join(s.dir, "keys", "site.pem"))
	require.NoError(t, err)
	block, _ := pem.Decode(raw)
	key := ed25519.NewKeyFromSeed(block.Bytes)
	cert := &x509.Certificate{SerialNumber: big.NewInt(1), NotBefore: time.Now().Add(-time.Hour),
		NotAfter: time.Now().Add(24 * time.Hour)}
	der, err := x509.CreateCertificate(rand.Reader, cert, cert, key.Public(), key)
	require.NoError(t, err)
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}
}

// between puts a middle on the line of two sites.
func between(t testing.TB, seed uint64, sites ...*site) *middle {
	ctx, cancel := context.WithCancel(context.Background())
	m := &middle{t: t, certs: map[*site]tls.Certificate{}, rng: mrand.New(mrand.NewPCG(seed, 5)), did: map[string]int{},
		ctx: ctx}
	for _, s := range sites {
		m.certs[s] = keyOf(t, s)
	}
	for i, s := range sites {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		m.ends = append(m.ends, l)
		s.reconfigure("peer_addresses", `["`+l.Addr().String()+`"]`)
		m.all.Go(func() { m.listen(l, s, sites[1-i]) })
	}
	t.Cleanup(func() {
		cancel()
		for _, l := range m.ends {
			l.Close()
		}
		m.all.Wait()
	})
	return m
}

// tune sets how often a frame is changed, and tells what was changed so far.
func (m *middle) tune(often float64) map[string]int {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.often = often
	return maps.Clone(m.did)
}

// listen takes calls to a site, which come from the other.
func (m *middle) listen(l net.Listener, to, from *site) {
	for {
		c, err := l.Accept()
		if err != nil {
			return
		}
		m.all.Go(func() {
			defer context.AfterFunc(m.ctx, func() { c.Close() })()
			defer c.Close()
			cfg := func(as *site) *tls.Config {
				return &tls.Config{MinVersion: tls.VersionTLS13, Certificates: []tls.Certificate{m.certs[as]},
					InsecureSkipVerify: true, ClientAuth: tls.RequireAnyClientCert, NextProtos: []string{"candid-harbor/1"}}
			}
			near := tls.Server(c, cfg(to))
			if near.Handshake() != nil {
				return
			}
			plain, err := net.DialTimeout("tcp", to.peer, 5*time.Second)
			if err != nil {
				return
			}
			far := tls.Client(plain, cfg(from))
			defer far.Close()
			if far.Handshake() != nil {
				return
			}
			mux := yamux.DefaultConfig()
			mux.LogOutput, mux.MaxStreamWindowSize = io.Discard, 16<<20
			a, err := yamux.Server(near, mux)
			if err != nil {
				return
			}
			b, err := yamux.Client(far, mux)
			if err != nil {
				return
			}
			var both sync.WaitGroup
			both.Go(func() { m.streams(a, b); b.Close() })
			both.Go(func() { m.streams(b, a); a.Close() })
			defer context.AfterFunc(m.ctx, func() { a.Close(); b.Close() })()
			both.Wait()
		})
	}
}

func (m *middle) streams(from, to *yamux.Session) {
	var all sync.WaitGroup
	defer all.Wait()
	for {
		asks, err := from.AcceptStream()
		if err != nil {
			return
		}
		all.Go(func() {
			defer asks.Close()
			answers, err := to.OpenStream()
			if err != nil {
				return
			}
			defer answers.Close()
			s := &spoken{middle: m, end: func() { asks.Close(); answers.Close() }}
			var both sync.WaitGroup
			both.Go(func() { s.pass(asks, answers, true); answers.Close() })
			both.Go(func() { s.pass(answers, asks, false); asks.Close() })
			both.Wait()
		})
	}
}

// spoken is one stream.
type spoken struct {
	*middle
	end func()
	mu  sync.Mutex
	op  string
	due *time.Timer // when it ends, after something was changed: nobody waits as long as sites do
}

const frameRequest, frameReply = 1, 2

// pass hands frames on, or something else.
func (s *spoken) pass(from io.Reader, to io.Writer, asks bool) {
	for first := true; ; first = false {
		var head [5]byte
		if _, err := io.ReadFull(from, head[:]); err != nil {
			return
		}
		n := binary.BigEndian.Uint32(head[1:])
		if n > 32<<20 {
			return
		}
		body := make([]byte, n)
		if _, err := io.ReadFull(from, body); err != nil {
			return
		}
		if first && asks && head[0] == frameRequest {
			var q struct {
				Op string `cbor:"2,keyasint"`
			}
			_ = cbor.Unmarshal(body, &q)
			s.mu.Lock()
			s.op = q.Op
			s.mu.Unlock()
		}
		if !s.say(to, head[0], body) {
			return
		}
		s.mu.Lock()
		desk := s.op == "desk"
		s.mu.Unlock()
		if desk { // what follows is HTTP
			_, _ = io.Copy(to, from)
			return
		}
	}
}

func frame(kind byte, body []byte) []byte {
	head := [5]byte{kind}
	binary.BigEndian.PutUint32(head[1:], uint32(len(body)))
	return append(head[:], body...)
}

// say reports whether the stream goes on.
func (s *spoken) say(to io.Writer, kind byte, body []byte) bool {
	out, how, goes := s.change(kind, body)
	if how != "" {
		s.mu.Lock()
		op := s.op
		if s.due == nil {
			s.due = time.AfterFunc(2*time.Second, s.end)
		}
		s.mu.Unlock()
		s.middle.mu.Lock()
		s.did[op]++
		s.did[how]++
		s.middle.mu.Unlock()
	}
	_, err := to.Write(out)
	return err == nil && goes
}

func (m *middle) change(kind byte, body []byte) (out []byte, how string, goes bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	true1 := frame(kind, body)
	other := true1
	if len(m.heard) > 0 {
		other = m.heard[m.rng.IntN(len(m.heard))]
	}
	if len(body) < 1<<20 {
		if len(m.heard) < mostHeard {
			m.heard = append(m.heard, true1)
		} else {
			m.heard[m.rng.IntN(mostHeard)] = true1
		}
	}
	if m.rng.Float64() >= m.often {
		return true1, "", true
	}
	switch m.rng.IntN(12) {
	case 0:
		forged := append([]byte(nil), body...)
		for range 1 + m.rng.IntN(4) {
			if len(forged) > 0 {
				forged[m.rng.IntN(len(forged))] ^= 1 << m.rng.IntN(8)
			}
		}
		return frame(kind, forged), "bits", true
	case 1:
		return frame(kind, body[:m.rng.IntN(len(body)+1)]), "cut", true
	case 2:
		return nil, "left out", true
	case 3:
		return append(true1, true1...), "twice", true
	case 4:
		return append(frame(other[0], other[5:]), true1...), "early", true
	case 5:
		return append(true1, other...), "late", true
	case 6:
		return append([]byte(nil), other...), "replayed", true
	case 7:
		return frame(byte(m.rng.IntN(12)), body), "of another kind", true
	case 8:
		head := [5]byte{kind}
		binary.BigEndian.PutUint32(head[1:], []uint32{1<<32 - 1, 16<<20 + 1, 16 << 20, uint32(len(body)) + 1}[m.rng.IntN(4)])
		return append(head[:], body...), "oversized", m.rng.IntN(2) == 0
	case 9:
		return true1[:m.rng.IntN(len(true1))], "broken off", false
	case 10:
		return frame(kind, make([]byte, []int{0, 31, 33, 2048 * 32, 2049 * 32, 4 << 20}[m.rng.IntN(6)])), "empty", true
	default:
		var v any
		if cbor.Unmarshal(body, &v) != nil {
			return frame(kind, append(body, body...)), "doubled", true
		}
		raw, err := cbor.Marshal(m.forge(v, 0))
		if err != nil {
			return true1, "", true
		}
		return frame(kind, raw), "forged", true
	}
}

// forge changes some values of a message.
func (m *middle) forge(v any, depth int) any {
	if m.rng.IntN(4) == 0 {
		deep := any(uint64(7))
		for range 64 {
			deep = []any{deep}
		}
		odd := []any{nil, uint64(0), ^uint64(0), int64(-1), int64(-1 << 63), "", "../../x", "\x1b[2J", make([]byte, 32),
			make([]byte, 1<<20), make([]any, 5000), deep, true, 1e308, "larkfield", "stonewick", "notes"}
		return odd[m.rng.IntN(len(odd))]
	}
	switch v := v.(type) {
	case map[any]any:
		out := map[any]any{}
		for k, one := range v {
			if out[k] = one; m.rng.IntN(3) == 0 && depth < 8 {
				out[k] = m.forge(one, depth+1)
			}
		}
		return out
	case []any:
		out := append([]any{}, v...)
		if len(out) > 0 && depth < 8 {
			i := m.rng.IntN(len(out))
			out[i] = m.forge(out[i], depth+1)
		}
		if m.rng.IntN(3) == 0 {
			out = append(out, out...)
		}
		return out
	case []byte: // a message within a message, or an identity, a key, a signature
		var in any
		if len(v) > 32 && cbor.Unmarshal(v, &in) == nil {
			if raw, err := cbor.Marshal(m.forge(in, depth+1)); err == nil {
				return raw
			}
		}
		out := append([]byte{}, v...)
		if len(out) > 0 {
			out[m.rng.IntN(len(out))] ^= 0x40
		}
		return out
	case uint64:
		return v ^ 1<<m.rng.IntN(63)
	case int64:
		return v ^ 1<<m.rng.IntN(62)
	case string:
		return v + "x"
	case bool:
		return !v
	}
	return v
}
