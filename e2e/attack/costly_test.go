package attack

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// mostMore is how much memory one client may make the service take above what it takes idle.
const mostMore = 200 << 20

// What computes most is asked by one caller thirty times at once, who then leaves: the service
// takes little memory for it, does not go on, and answers others.
func TestCostlyCalls(t *testing.T) {
	base := openDir(t)
	share := filepath.Join(base, "share")
	require.NoError(t, os.Mkdir(share, 0o755))
	for i := range 500 {
		require.NoError(t, os.WriteFile(filepath.Join(share, fmt.Sprint("file", i)), []byte(fmt.Sprint(i)), 0o644))
	}
	s := serve(t, filepath.Join(base, "site"), "larkfield", share)
	s.run("volume", "add", "notes", "--path", share)
	s.run("snapshot", "take", "notes")
	idle := resident(t, s.cmd.Process.Pid)

	places := ""
	for i := range 15 {
		places += fmt.Sprintf("  place%d: {newest: 1000000}\n", i)
	}
	worst := "policy: worst\nvolumes: {names: [notes]}\ntake: [every 1 minute]\nkeep:\n" + places
	ask := func(ctx context.Context, path string, body any) (int, error) {
		raw, err := json.Marshal(body)
		require.NoError(t, err)
		req, err := http.NewRequestWithContext(ctx, "POST", s.url+"/api/v1"+path, bytes.NewReader(raw))
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+s.token)
		req.Header.Set("Content-Type", "application/json")
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			return 0, err
		}
		defer res.Body.Close()
		_, err = io.Copy(io.Discard, res.Body)
		return res.StatusCode, err
	}
	// It is one that can be previewed, if for less long.
	status, err := ask(t.Context(), "/policies/preview", map[string]any{"body": worst, "days": 3})
	require.NoError(t, err)
	require.Equal(t, http.StatusOK, status)
	var wg sync.WaitGroup
	// They leave when the first was answered, or after so long.
	ctx, leave := context.WithTimeout(t.Context(), 8*time.Second)
	defer leave()
	for i := range 30 {
		wg.Go(func() {
			if i%2 == 0 {
				_, _ = ask(ctx, "/policies/preview", map[string]any{"body": worst, "days": 3660})
				leave()
			} else {
				_, _ = ask(ctx, "/policies/check", map[string]any{"body": "policy: x\nkeep: " + strings.Repeat("[", 60<<10)})
			}
		})
	}
	s.run("status") // others are answered meanwhile
	wg.Wait()
	// One who left is not worked for: once the service has seen that they left, the next call of
	// the same caller gets its turn.
	soon, end := context.WithTimeout(t.Context(), 20*time.Second)
	defer end()
	small := map[string]any{"body": "policy: small\nvolumes: {names: [notes]}\ntake: [daily at 06:00]\nkeep:\n  " +
		"larkfield: {daily: 7}\n", "days": 30}
	require.Eventually(t, func() bool {
		status, err := ask(soon, "/policies/preview", small)
		return err == nil && status == http.StatusOK
	}, 20*time.Second, 50*time.Millisecond, "the calls of who left still run")
	more := resident(t, s.cmd.Process.Pid) - idle
	t.Logf("%d MiB above idle", more>>20)
	require.Less(t, more, int64(mostMore))
}
