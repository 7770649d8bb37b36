// Package attack does to the real service what an attacker would: each fault that was found
// once is a test that fails without its mend.
package attack

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

var build = sync.OnceValues(func() (string, error) {
	dir, err := os.MkdirTemp("", "candid-attack-")
	if err != nil {
		return "", err
	}
	bin := filepath.Join(dir, "candid")
	cmd := exec.Command("go", "build", "-o", bin, "candidharbor/cmd/candid")
	cmd.Env = append(os.Environ(), "CGO_ENABLED=0")
	out, err := cmd.CombinedOutput()
	if err != nil {
		err = fmt.Errorf("%w: %s", err, out)
	}
	return bin, err
})

// attackers are what a test starts as somebody else, by name; TestMain calls them.
var attackers = map[string]func(args []string){}

func TestMain(m *testing.M) {
	if len(os.Args) > 2 && os.Args[1] == "attack" {
		attackers[os.Args[2]](os.Args[3:])
		return
	}
	for _, name := range []string{"CANDID_SITE", "CANDID_TOKEN", "CANDID_PIN", "CANDID_DESK"} {
		os.Unsetenv(name) // of whoever runs the tests: the commands are to meet the test's sites
	}
	code := m.Run()
	if bin, err := build(); err == nil {
		os.RemoveAll(filepath.Dir(bin))
	}
	os.Exit(code)
}

// rounds is how often something is tried: so often in make test, more in make test-attack.
func rounds(few int) int {
	if n, err := strconv.Atoi(os.Getenv("CANDID_ATTACK_ROUNDS")); err == nil {
		return n
	}
	return few
}

// stranger is an ordinary user of the host.
const stranger = 4321

// as starts one of the attackers as a user of the host, who may not read what tests leave.
func as(t testing.TB, uid uint32, name string, args ...string) *exec.Cmd {
	self, err := os.Executable()
	require.NoError(t, err)
	open := filepath.Join(openDir(t), "attacker")
	raw, err := os.ReadFile(self)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(open, raw, 0o755))
	cmd := exec.Command(open, append([]string{"attack", name}, args...)...)
	cmd.Dir = filepath.Dir(open)
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uid, Gid: uid}, Pdeathsig: syscall.SIGKILL}
	return cmd
}

// begin starts an attacker and waits until it is ready; end waits for its end and tells what it
// said then.
func begin(t testing.TB, cmd *exec.Cmd) (end func() string) {
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	said := make([]byte, 64)
	_, err = out.Read(said)
	require.NoError(t, err)
	return func() string {
		n, _ := out.Read(said)
		require.NoError(t, cmd.Wait())
		return strings.TrimSpace(string(said[:n]))
	}
}

// openDir is a directory that everybody may enter.
func openDir(t testing.TB) string {
	dir, err := os.MkdirTemp("", "attack-")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755))
	return dir
}

// kept is what a program says while others read it.
type kept struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (k *kept) Write(b []byte) (int, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.text.Write(b)
}

func (k *kept) String() string {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.text.String()
}

// site is the real service.
type site struct {
	t          testing.TB
	bin, dir   string
	url, token string
	peer       string // where other sites call
	cmd        *exec.Cmd
	log        kept
}

var (
	greeting = regexp.MustCompile(`(?s)console and API +(\S+).*for other sites +(\S+)\s`)
	signIn   = regexp.MustCompile(`sign in with +(\S+)\s`)
)

func serve(t testing.TB, dir, name, root string) *site { return serveWith(t, 0, dir, name, root) }

// serveWith gives the service only so many descriptors; 0: as many as there are.
func serveWith(t testing.TB, descriptors int, dir, name, root string) *site {
	if os.Geteuid() != 0 {
		t.Skip("needs root")
	}
	bin, err := build()
	require.NoError(t, err)
	s := &site{t: t, bin: bin, dir: dir}
	args := []string{bin, "serve", "--data", dir, "--name", name, "--listen", "127.0.0.1:0", "--root", root}
	if descriptors > 0 {
		args = append([]string{"sh", "-c", fmt.Sprintf(`ulimit -n %d; exec "$0" "$@"`, descriptors)}, args...)
	}
	s.start(args)
	t.Cleanup(s.stop)
	return s
}

// start runs the service and reads where it answers.
func (s *site) start(args []string) {
	s.cmd = exec.Command(args[0], args[1:]...)
	s.cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	out, err := s.cmd.StdoutPipe()
	require.NoError(s.t, err)
	s.cmd.Stderr = &s.log
	require.NoError(s.t, s.cmd.Start())
	var said strings.Builder
	buf := make([]byte, 4096)
	for {
		n, err := out.Read(buf)
		said.Write(buf[:n])
		at, token := greeting.FindStringSubmatch(said.String()), signIn.FindStringSubmatch(said.String())
		if at != nil && (token != nil || s.token != "") {
			s.url, s.peer = at[1], at[2]
			if token != nil {
				s.token = token[1]
			}
			break
		}
		require.NoError(s.t, err, "the service did not start: %s%s", said.String(), s.log.String())
	}
	go io.Copy(io.Discard, out)
}

func (s *site) stop() {
	s.cmd.Process.Signal(syscall.SIGTERM)
	s.cmd.Wait()
}

// reconfigure sets a key of site.yaml and starts the service again.
func (s *site) reconfigure(key, value string) {
	s.stop()
	path := filepath.Join(s.dir, "site.yaml")
	raw, err := os.ReadFile(path)
	require.NoError(s.t, err)
	raw = regexp.MustCompile(`(?m)^`+key+`:.*\n`).ReplaceAll(raw, nil)
	require.NoError(s.t, os.WriteFile(path, append(raw, key+": "+value+"\n"...), 0o600))
	s.start([]string{s.bin, "serve", "--data", s.dir})
}

// try runs a command as the host's administrator.
func (s *site) try(args ...string) (string, error) {
	cmd := exec.Command(s.bin, append([]string{"--site", "unix:" + filepath.Join(s.dir, "candid.sock")}, args...)...)
	out, err := cmd.CombinedOutput()
	return string(out), err
}

func (s *site) run(args ...string) string {
	s.t.Helper()
	out, err := s.try(args...)
	require.NoError(s.t, err, out)
	return out
}

// soon is run for what must not have to wait for attackers.
func (s *site) soon(args ...string) {
	s.t.Helper()
	ctx, end := context.WithTimeout(s.t.Context(), 10*time.Second)
	defer end()
	out, err := exec.CommandContext(ctx, s.bin, append([]string{"--site", "unix:" + filepath.Join(s.dir, "candid.sock")},
		args...)...).CombinedOutput()
	require.NoError(s.t, err, "%s", out)
}

func (s *site) json(into any, args ...string) {
	s.t.Helper()
	require.NoError(s.t, json.Unmarshal([]byte(s.run(append([]string{"--json"}, args...)...)), into))
}

// call asks the API with a token.
func (s *site) call(token, method, path string, body any) (status int, answer string) {
	s.t.Helper()
	status, answer, err := s.ask(token, method, path, body)
	require.NoError(s.t, err)
	return status, answer
}

// ask is call where the service may close the connection.
func (s *site) ask(token, method, path string, body any) (status int, answer string, err error) {
	raw, err := json.Marshal(body)
	if err != nil {
		return 0, "", err
	}
	req, err := http.NewRequest(method, s.url+path, bytes.NewReader(raw))
	if err != nil {
		return 0, "", err
	}
	req.Header.Set("Authorization", "Bearer "+token)
	req.Header.Set("Content-Type", "application/json")
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return 0, "", err
	}
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	return res.StatusCode, string(text), err
}
