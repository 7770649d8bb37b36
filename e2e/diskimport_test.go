package e2e

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// A disk begins with what servers that nobody here wrote have: over a socket and over TCP, with holes and
// without knowing of them. What cannot be had leaves no disk.
func TestDiskImports(t *testing.T) {
	for _, name := range []string{"qemu-nbd", "nbdkit"} {
		if _, err := exec.LookPath(name); err != nil {
			t.Skipf("%s is not installed", name)
		}
	}
	base := t.TempDir()
	root := filepath.Join(base, "root")
	shell(t, base, "mkdir root; head -c 5000000 /dev/urandom > raw; truncate -s 900M raw; "+
		"head -c 3000000 /dev/urandom >> raw; truncate -s 1000000k raw; qemu-img convert -f raw -O qcow2 raw qcow")
	a := serve(t, filepath.Join(base, "a"), "larkfield", root)
	size := fmt.Sprint(1000000 << 10)
	serving := func(name string, args ...string) {
		cmd := exec.Command(name, args...)
		cmd.Dir = base
		require.NoError(t, cmd.Start())
		t.Cleanup(func() {
			_ = cmd.Process.Kill()
			_ = cmd.Wait()
		})
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	port := fmt.Sprint(l.Addr().(*net.TCPAddr).Port)
	require.NoError(t, l.Close())
	serving("qemu-nbd", "-f", "qcow2", "-r", "-t", "-x", "vm one", "-k", filepath.Join(root, "s"), "qcow")
	serving("nbdkit", "-f", "-r", "-i", "127.0.0.1", "-p", port, "file", "raw")
	serving("nbdkit", "-f", "-r", "-U", filepath.Join(base, "outside"), "memory", "1M")
	serving("nbdkit", "-f", "-U", filepath.Join(root, "broken"), "--filter=error", "file", "raw", "error-pread=EIO",
		"error-pread-rate=100%")
	for _, socket := range []string{"root/s", "outside", "root/broken"} {
		require.Eventually(t, func() bool { _, err := os.Stat(filepath.Join(base, socket)); return err == nil },
			10*time.Second, 10*time.Millisecond)
	}
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", "127.0.0.1:"+port)
		if err == nil {
			c.Close()
		}
		return err == nil
	}, 10*time.Second, 10*time.Millisecond)

	a.run("volume", "add", "one", "--import", "nbd+unix:///vm%20one?socket="+filepath.Join(root, "s"))
	a.run("volume", "add", "two", "--import", "nbd://127.0.0.1:"+port, "--size", "1GiB", "--image",
		filepath.Join(root, "two.img"))
	for name, size := range map[string]string{"one": size, "two": fmt.Sprint(1 << 30)} {
		uri := "nbd+unix:///" + name + "?socket=" + filepath.Join(a.dir, "nbd.sock")
		require.Equal(t, size+"\n", tool(t, base, "nbdinfo", "--size", uri))
		tool(t, base, "qemu-img", "compare", "-f", "raw", "-F", "raw", "raw", uri)
		a.run("snapshot", "take", name)
	}
	st, err := os.Stat(filepath.Join(root, "two.img"))
	require.NoError(t, err)
	require.EqualValues(t, 1<<30, st.Size())
	require.Equal(t, "", tool(t, base, "sh", "-c", "test $(du -k root/two.img | cut -f1) -lt 20000"), "it has holes")

	shell(t, base, "ln -s ../outside root/link; ln a/nbd.sock root/own")
	for say, from := range map[string]string{
		"it has no export of that name": "nbd+unix:///other?socket=" + filepath.Join(root, "s"),
		"the server cannot read it":     "nbd+unix:///?socket=" + filepath.Join(root, "broken"),
		"outside the roots":             "nbd+unix:///?socket=" + filepath.Join(base, "outside"),
		"by a link out of":              "nbd+unix:///?socket=" + filepath.Join(root, "link"),
		"connection refused":            "nbd://127.0.0.1:1/x",
		"is not spoken here":            "nbds://127.0.0.1:" + port,
		"no such file":                  "nbd+unix:///?socket=" + filepath.Join(root, "none"),
		"is this site's own":            "nbd+unix:///one?socket=" + filepath.Join(root, "own"),
	} {
		_, err := a.try("volume", "add", "three", "--import", from)
		require.ErrorContains(t, err, say, from)
	}
	require.NotContains(t, a.run("volume", "list"), "three")
	left, err := os.ReadDir(filepath.Join(a.dir, "disks"))
	require.NoError(t, err)
	require.Len(t, left, 2)
}
