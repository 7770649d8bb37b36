package attack

import (
	"crypto/ed25519"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/binary"
	"io"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/hashicorp/yamux"
	"github.com/stretchr/testify/require"
)

// resident is how many bytes a process holds.
func resident(t testing.TB, pid int) int64 {
	raw, err := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/status")
	require.NoError(t, err)
	for line := range strings.Lines(string(raw)) {
		if rest, ok := strings.CutPrefix(line, "VmHWM:"); ok {
			n, err := strconv.ParseInt(strings.Fields(rest)[0], 10, 64)
			require.NoError(t, err)
			return n << 10
		}
	}
	t.Fatal("no VmHWM")
	return 0
}

// someIdentity is a certificate that nobody knows.
func someIdentity(t testing.TB) tls.Certificate {
	public, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	cert := &x509.Certificate{SerialNumber: big.NewInt(1), NotBefore: time.Now().Add(-time.Hour),
		NotAfter: time.Now().Add(time.Hour)}
	der, err := x509.CreateCertificate(rand.Reader, cert, cert, public, key)
	require.NoError(t, err)
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}
}

// Somebody whose key nobody knows opens many lines with many streams and announces frames as
// large as they may be, and sends them all but for the end: the memory stays bounded, and a
// site that wants to pair is still answered.
func TestStrangersOnTheLine(t *testing.T) {
	base := openDir(t)
	s := serve(t, filepath.Join(base, "site"), "larkfield", base)
	other := serve(t, filepath.Join(base, "other"), "stonewick", base)
	idle := resident(t, s.cmd.Process.Pid)
	id := someIdentity(t)
	most := make([]byte, 14<<20-1)
	var all sync.WaitGroup
	for range 24 {
		all.Go(func() {
			plain, err := net.DialTimeout("tcp", s.peer, 5*time.Second)
			if err != nil {
				return
			}
			defer plain.Close()
			plain.SetDeadline(time.Now().Add(4 * time.Second))
			conn := tls.Client(plain, &tls.Config{InsecureSkipVerify: true, Certificates: []tls.Certificate{id},
				MinVersion: tls.VersionTLS13, NextProtos: []string{"candid-harbor/1"}})
			if conn.Handshake() != nil {
				return
			}
			cfg := yamux.DefaultConfig()
			cfg.LogOutput = io.Discard
			cfg.MaxStreamWindowSize = 16 << 20
			mux, err := yamux.Client(conn, cfg)
			if err != nil {
				return
			}
			defer mux.Close()
			var streams sync.WaitGroup
			for range 64 {
				streams.Go(func() {
					st, err := mux.OpenStream()
					if err != nil {
						return
					}
					st.SetDeadline(time.Now().Add(3 * time.Second))
					head := [5]byte{1}
					binary.BigEndian.PutUint32(head[1:], 14<<20)
					st.Write(head[:])
					st.Write(most)
				})
			}
			streams.Wait()
		})
	}
	all.Wait()
	grown := resident(t, s.cmd.Process.Pid) - idle
	require.Less(t, grown, int64(200<<20), "%d MiB more", grown>>20)
	t.Logf("%d MiB more", grown>>20)
	var inv struct{ Text string }
	s.json(&inv, "site", "invite")
	other.run("site", "pair", inv.Text)
}
