package attack

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// A page of another origin, on the same host too, makes a signed-in administrator's browser
// send what would let a stranger in; and a name that an attacker lets lead to the site shows
// nothing.
func TestOtherOrigins(t *testing.T) {
	base := openDir(t)
	s := serve(t, filepath.Join(base, "site"), "larkfield", base)
	port := s.url[strings.LastIndex(s.url, ":"):]
	res, err := http.Post(s.url+"/api/v1/session", "application/json", strings.NewReader(`{"token":"`+s.token+`"}`))
	require.NoError(t, err)
	res.Body.Close()
	require.Len(t, res.Cookies(), 1)
	session := res.Cookies()[0].Value
	ask := func(method, path, body string, headers map[string]string) int {
		req, err := http.NewRequest(method, s.url+path, strings.NewReader(body))
		require.NoError(t, err)
		req.AddCookie(&http.Cookie{Name: "candid_session", Value: session})
		for k, v := range headers {
			if k == "Host" {
				req.Host = v
			} else {
				req.Header.Set(k, v)
			}
		}
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer res.Body.Close()
		return res.StatusCode
	}
	person := `{"name":"mallory","role":"administrator","password":"orchids in march"}`
	const asJSON = "application/json"
	for _, h := range []map[string]string{
		{"Content-Type": asJSON, "Origin": "http://elsewhere.test"},
		{"Content-Type": asJSON, "Origin": "http://127.0.0.1:1"},
		{"Content-Type": asJSON, "Origin": "null"},
		{"Content-Type": asJSON, "Sec-Fetch-Site": "cross-site"},
		{"Content-Type": asJSON, "Sec-Fetch-Site": "same-site"},
		{"Content-Type": "text/plain"},
		{"Content-Type": "application/x-www-form-urlencoded"},
		{},
		{"Content-Type": asJSON, "Host": "rebound.test" + port, "Origin": "http://rebound.test" + port},
	} {
		require.GreaterOrEqual(t, ask("POST", "/api/v1/people", person, h), 400, h)
	}
	require.Equal(t, http.StatusMisdirectedRequest, ask("GET", "/api/v1/volumes", "",
		map[string]string{"Host": "rebound.test" + port}))
	require.Equal(t, http.StatusMisdirectedRequest, ask("GET", "/", "", map[string]string{"Host": "rebound.test"}))
	require.NotContains(t, s.run("person", "list"), "mallory")

	// The console's own requests, and those of programs, go through.
	require.Equal(t, 200, ask("GET", "/api/v1/volumes", "", map[string]string{"Host": "localhost" + port}))
	require.Equal(t, 201, ask("POST", "/api/v1/people", strings.Replace(person, "mallory", "ines", 1),
		map[string]string{"Content-Type": asJSON, "Origin": s.url, "Sec-Fetch-Site": "same-origin"}))
	require.Equal(t, 201, ask("POST", "/api/v1/people", strings.Replace(person, "mallory", "tomas", 1),
		map[string]string{"Content-Type": asJSON}))
}

// Guessing is held back however it is done: many at once, with passwords that are too long,
// under many names; and none of it keeps the right one out or makes it wait.
func TestGuessing(t *testing.T) {
	base := openDir(t)
	s := serve(t, filepath.Join(base, "site"), "larkfield", base)
	for _, name := range []string{"adam", "ines", "marta"} {
		status, answer := s.call(s.token, "POST", "/api/v1/people", map[string]string{"name": name, "role": "operator",
			"password": name + " in march"})
		require.Equal(t, 201, status, answer)
	}
	signIn := func(name, password string) int {
		raw, _ := json.Marshal(map[string]string{"name": name, "password": password})
		res, err := http.Post(s.url+"/api/v1/session", "application/json", bytes.NewReader(raw))
		if err != nil {
			return 0
		}
		res.Body.Close()
		return res.StatusCode
	}
	burst := func(n int, name func(i int) string, password string) (judged int64) {
		var all sync.WaitGroup
		var count atomic.Int64
		for i := range n {
			all.Go(func() {
				if signIn(name(i), password) == http.StatusUnauthorized {
					count.Add(1)
				}
			})
		}
		all.Wait()
		return count.Load()
	}
	require.LessOrEqual(t, burst(200, func(int) string { return "adam" }, "a guess"), int64(5), "of 200 at once")
	for range 3 { // what would make the service forget who guessed
		burst(400, func(i int) string { return fmt.Sprint("nobody ", i) }, strings.Repeat("x", 250))
		require.LessOrEqual(t, burst(5, func(int) string { return "adam" }, "another guess"), int64(1))
	}

	// A hundred strangers guess at everybody else meanwhile.
	stop := make(chan struct{})
	var strangers sync.WaitGroup
	for i := range 100 {
		strangers.Go(func() {
			for k := 0; ; k++ {
				select {
				case <-stop:
					return
				default:
					signIn([]string{"adam", "marta", fmt.Sprintf("x%d-%d", i, k)}[k%3], "p")
				}
			}
		})
	}
	begin := time.Now()
	status := 0
	for status != 200 && time.Since(begin) < 20*time.Second {
		status = signIn("ines", "ines in march")
		require.Contains(t, []int{200, 429}, status)
	}
	took := time.Since(begin)
	close(stop)
	strangers.Wait()
	require.Equal(t, 200, status)
	t.Logf("signed in within %s", took)
}

// Who sends a body byte by byte holds its connection for half a minute and no longer.
func TestSlowBodies(t *testing.T) {
	if os.Getenv("CANDID_ATTACK_ROUNDS") == "" {
		t.Skip("takes half a minute: make test-attack")
	}
	base := openDir(t)
	s := serve(t, filepath.Join(base, "site"), "larkfield", base)
	host := strings.TrimPrefix(s.url, "http://")
	var all sync.WaitGroup
	for range 50 {
		all.Go(func() {
			conn, err := net.Dial("tcp", host)
			if err != nil {
				return
			}
			defer conn.Close()
			conn.SetDeadline(time.Now().Add(50 * time.Second))
			fmt.Fprintf(conn, "POST /api/v1/session HTTP/1.1\r\nHost: %s\r\nContent-Type: "+
				"application/json\r\nContent-Length: 1000\r\n\r\n{", host)
			_, err = io.ReadAll(conn) // until the service closes it
			require.NoError(t, err)
		})
	}
	all.Wait()
}
