package e2e

import (
	"crypto/tls"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Hosts open the disks that they were let open, over TLS with certificates at both ends, by clients that nobody
// here wrote. Everybody else learns nothing.
func TestDiskHosts(t *testing.T) {
	base := t.TempDir()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	addr := l.Addr().String()
	require.NoError(t, l.Close())
	a := serve(t, filepath.Join(base, "a"), "larkfield", base)
	for _, name := range []string{"db", "papers"} {
		a.run("volume", "add", name, "--size", "16MiB")
	}
	_, err = a.try("disk", "access", "register-host", "--disk", "db", "--to", filepath.Join(base, "early"))
	require.ErrorContains(t, err, "disk_listen")
	require.NoDirExists(t, filepath.Join(base, "early"), "nothing is made for nothing")
	a.kill()
	a.args = append(a.args, "--disk-listen", addr)
	a.start()

	_, err = a.try("disk", "access", "register-host", "--disk", "nothing", "--to", filepath.Join(base, "early"))
	require.ErrorContains(t, err, `volume "nothing": not found`)

	certs := func(host string, disks ...string) string {
		dir := filepath.Join(base, host)
		args := []string{"disk", "access", host, "--to", dir}
		for _, d := range disks {
			args = append(args, "--disk", d)
		}
		require.Contains(t, a.run(args...), "nbds://"+addr+"/"+disks[0])
		return dir
	}
	uri := func(export, dir string) string {
		return "nbds://" + addr + "/" + export + "?tls-certificates=" + dir
	}
	refused := func(name string, args ...string) string {
		t.Helper()
		cmd := exec.Command(name, args...)
		out, err := cmd.CombinedOutput()
		require.Error(t, err, "%s", out)
		return string(out)
	}
	one, two := certs("register-host", "db"), certs("paper-host", "papers", "db")
	shell(t, base, "head -c 16777216 /dev/urandom > raw")
	tool(t, base, "nbdcopy", "raw", uri("db", one))
	tool(t, base, "nbdcopy", uri("db", one), "back")
	tool(t, base, "cmp", "raw", "back")
	a.run("snapshot", "take", "db")
	id := a.snapshots("db")[0].ID[:12]
	host, port, err := net.SplitHostPort(addr)
	require.NoError(t, err)
	qemu := "driver=nbd,server.type=inet,server.host=" + host + ",server.port=" + port + ",tls-creds=harbor,export="
	creds := "tls-creds-x509,id=harbor,endpoint=client,dir="
	tool(t, base, "qemu-io", "--object", creds+two, "-c", "write -P 7 1M 3M", "-c", "flush", "-c", "read -P 7 1M 3M",
		"--image-opts", qemu+"papers")
	tool(t, base, "qemu-img", "compare", "--object", creds+one, "--image-opts", qemu+"db:"+id, "driver=file,filename=raw")

	// What a host was not let open is not there, and is told apart from nothing.
	require.Contains(t, tool(t, base, "nbdinfo", "--list", uri("", two)), `export="papers"`)
	require.NotContains(t, tool(t, base, "nbdinfo", "--list", uri("", one)), "papers")
	said := refused("nbdinfo", uri("papers", one))
	require.Equal(t, said, strings.ReplaceAll(refused("nbdinfo", uri("nobody", one)), "nobody", "papers"))

	// Strangers get no word in plain, none with another authority's certificate, and none with one of
	// this authority that names no host.
	require.Contains(t, refused("nbdinfo", "nbd://"+addr+"/db"), "TLS")
	b := serve(t, filepath.Join(base, "b"), "stonewick", base)
	b.kill()
	b.args = append(b.args, "--disk-listen", "127.0.0.1:0")
	b.start()
	b.run("volume", "add", "db", "--size", "1MiB")
	other := filepath.Join(base, "other")
	b.run("disk", "access", "register-host", "--disk", "db", "--to", other)
	shell(t, base, "cp "+one+"/ca-cert.pem other/ca-cert.pem")
	refused("nbdinfo", uri("db", other))
	nobody, err := tls.Dial("tcp", addr, &tls.Config{InsecureSkipVerify: true})
	if err == nil { // TLS at once is not the protocol
		nobody.Close()
		t.Error("the listener speaks TLS before it was asked to")
	}

	// One client writes: a host that wrote and went without a word holds the disk, until it may open it no more.
	open := func(dir string) (*exec.Cmd, io.WriteCloser) {
		cmd := exec.Command("/usr/bin/python3", "-m", "nbd", "-c", `import sys; h.set_uri_allow_local_file(True)
h.connect_uri("`+uri("db", dir)+`"); h.pwrite(b"held", 0); print("open", flush=True)
if sys.stdin.readline(): h.pwrite(b"more", 512); h.flush(); h.shutdown()`)
		in, err := cmd.StdinPipe()
		require.NoError(t, err)
		out, err := cmd.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, cmd.Start())
		t.Cleanup(func() { cmd.Process.Kill(); cmd.Wait() })
		word := make([]byte, 4)
		_, err = io.ReadFull(out, word)
		require.NoError(t, err)
		return cmd, in
	}
	cmd, _ := open(one)
	byTwo := []string{"info", "--object", creds + two, "--image-opts", qemu + "db"}
	require.Contains(t, refused("qemu-img", byTwo...), "open already, by the host register-host (127.0.0.1)")
	require.Contains(t, a.run("disk", "show", "db"), "register-host (127.0.0.1)")
	require.NoError(t, cmd.Process.Kill())
	cmd.Wait()
	require.Contains(t, refused("qemu-img", byTwo...), "open already")
	tool(t, base, "nbdinfo", uri("db", one)) // it comes back, and leaves
	tool(t, base, "nbdinfo", uri("db", two))
	cmd, in := open(one)
	a.run("disk", "access", "register-host", "--disk", "papers", "--disk", "db") // more than before: nothing is cut
	_, err = io.WriteString(in, "\n")
	require.NoError(t, err)
	require.NoError(t, cmd.Wait(), "it wrote once more")
	require.Contains(t, a.run("disk", "show", "db"), "is ready")
	cmd, _ = open(one)
	require.Contains(t, a.run("disk", "access", "register-host", "--disk", "papers"), "may open papers")
	gone := make(chan error, 1)
	go func() { gone <- cmd.Wait() }()
	require.Eventually(t, func() bool { return strings.Contains(a.run("disk", "show", "db"), "is ready") }, 20*time.Second,
		10*time.Millisecond, "it is cut, and holds nothing")
	require.NotContains(t, a.run("disk", "show", "db"), "register-host")
	refused("nbdinfo", uri("db", one))
	tool(t, base, "nbdinfo", uri("papers", one))
	tool(t, base, "nbdcopy", "raw", uri("db", two))
	cmd.Process.Kill()
	<-gone

	// Several write when a person says so, and it stays said.
	_, err = a.try("disk", "open", "db", "--shared")
	require.ErrorContains(t, err, "--yes")
	a.run("disk", "open", "db", "--shared", "--yes")
	a.run("disk", "access", "register-host", "--disk", "db")
	a.kill()
	a.start()
	first, _ := open(one)
	second, _ := open(two)
	require.Contains(t, a.run("disk", "show", "db"), "2 connections")
	_, err = a.try("disk", "open", "db", "--shared=false")
	require.ErrorContains(t, err, "2 clients are connected")
	for _, c := range []*exec.Cmd{first, second} {
		require.NoError(t, c.Process.Kill())
		c.Wait()
	}
	require.Eventually(t, func() bool { return !strings.Contains(a.run("disk", "list"), "in use") }, 20*time.Second,
		10*time.Millisecond)
	a.run("disk", "open", "db", "--shared=false")

	// A disk that a person closed stays closed; another certificate ends the one before; a host that was
	// turned away is out.
	a.run("disk", "close", "db")
	a.kill()
	a.start()
	require.Contains(t, refused("qemu-img", byTwo...), "is closed")
	a.run("disk", "open", "db")
	again := filepath.Join(base, "again")
	a.run("disk", "access", "paper-host", "--renew", "--to", again)
	refused("nbdinfo", uri("papers", two))
	tool(t, base, "nbdinfo", uri("papers", again))
	_, err = a.try("disk", "access", "paper-host", "--renew", "--to", again)
	require.ErrorContains(t, err, "cannot be made")
	tool(t, base, "nbdinfo", uri("papers", again))
	a.run("disk", "access", "paper-host", "--end")
	refused("nbdinfo", uri("papers", again))
	ledger := a.run("ledger", "list")
	require.Contains(t, ledger, "the host register-host (127.0.0.1)")
	key, err := os.ReadFile(filepath.Join(one, "client-key.pem"))
	require.NoError(t, err)
	require.NotContains(t, ledger, string(key[30:80]))
	req, err := http.Get(a.url + "/api/v1/disk-hosts")
	require.NoError(t, err)
	req.Body.Close()
	require.Equal(t, http.StatusUnauthorized, req.StatusCode)
}
