package attack

import (
	"bufio"
	"context"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Somebody opens more connections, to people's and to sites' address, than the service has
// descriptors, and keeps them: the host's administrator is answered on the socket, work goes on,
// and so does everything when that one has gone.
func TestMoreConnectionsThanDescriptors(t *testing.T) {
	base := openDir(t)
	share := filepath.Join(base, "share")
	require.NoError(t, os.Mkdir(share, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(share, "page"), []byte("a page"), 0o644))
	s := serveWith(t, 160, filepath.Join(base, "site"), "larkfield", share)
	s.run("volume", "add", "notes", "--path", share)
	stop, began := make(chan struct{}), make(chan struct{}, 400)
	var all sync.WaitGroup
	for i := range cap(began) {
		addr := []string{strings.TrimPrefix(s.url, "http://"), s.peer}[i%2]
		all.Go(func() {
			for first := true; ; first = false {
				conn, err := net.Dial("tcp", addr)
				if first {
					began <- struct{}{}
				}
				if err != nil {
					return
				}
				_, _ = conn.Write([]byte("GET / HTTP/1.1\r\n")) // and no more
				ended := make(chan struct{})
				go func() { _, _ = io.Copy(io.Discard, conn); close(ended) }()
				select {
				case <-ended: // the service closed it: another
				case <-stop:
				}
				conn.Close()
				select {
				case <-stop:
					return
				default:
				}
			}
		})
	}
	for range cap(began) {
		<-began
	}
	s.soon("status")
	s.soon("snapshot", "take", "notes")
	s.soon("store", "verify")
	close(stop)
	all.Wait()
	// The service lets go of a connection when it sees that the other end has.
	require.Eventually(t, func() bool {
		status, _, err := s.ask(s.token, "GET", "/api/v1/status", nil)
		return err == nil && status == http.StatusOK
	}, 20*time.Second, 20*time.Millisecond)
}

// One person opens hundreds of streams of events: most are refused, others get theirs, and
// what is closed can be opened anew.
func TestManyEventStreams(t *testing.T) {
	base := openDir(t)
	s := serve(t, filepath.Join(base, "site"), "larkfield", base)
	open := func(ctx context.Context, token string) (int, func()) {
		req, err := http.NewRequestWithContext(ctx, "GET", s.url+"/api/v1/events", nil)
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+token)
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		if res.StatusCode == http.StatusOK {
			line, err := bufio.NewReader(res.Body).ReadString('\n')
			require.NoError(t, err)
			require.Contains(t, line, "connected")
		}
		return res.StatusCode, func() { res.Body.Close() }
	}
	ctx, leave := context.WithCancel(t.Context())
	defer leave()
	var mu sync.Mutex
	var all sync.WaitGroup
	got := map[int]int{}
	for range 100 {
		all.Go(func() {
			status, _ := open(ctx, s.token)
			mu.Lock()
			got[status]++
			mu.Unlock()
		})
	}
	all.Wait()
	require.Less(t, got[http.StatusOK], 50)
	require.Positive(t, got[http.StatusOK])
	require.Equal(t, 100, got[http.StatusOK]+got[http.StatusTooManyRequests])
	var other struct{ Text string }
	s.json(&other, "token", "add", "desk")
	status, done := open(t.Context(), other.Text)
	require.Equal(t, http.StatusOK, status)
	done()
	leave()
	require.Eventually(t, func() bool {
		status, done := open(t.Context(), s.token)
		done()
		return status == http.StatusOK
	}, 10*time.Second, 50*time.Millisecond)
}
