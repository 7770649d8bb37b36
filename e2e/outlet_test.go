package e2e

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// sshd is the SSH service that the machine's distribution has, on loopback, with keys and settings of the test alone.
func sshd(t *testing.T, base, authorized string) (address, fingerprint string) {
	_, err := os.Stat("/usr/sbin/sshd")
	require.NoError(t, err, "make tools installs it")
	require.NoError(t, os.MkdirAll("/run/sshd", 0o755))
	dir := filepath.Join(base, "ssh")
	require.NoError(t, os.Mkdir(dir, 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "authorized_keys"), []byte(authorized), 0o600))
	shell(t, dir, "ssh-keygen -q -t ed25519 -N '' -f host")
	out, err := exec.Command("ssh-keygen", "-lf", filepath.Join(dir, "host.pub")).Output()
	require.NoError(t, err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address = l.Addr().String()
	require.NoError(t, l.Close())
	_, port, _ := net.SplitHostPort(address)
	conf := fmt.Sprintf("Port %s\nListenAddress 127.0.0.1\nHostKey %s/host\nAuthorizedKeysFile %s/authorized_keys\n"+
		"StrictModes no\nUsePAM no\nPasswordAuthentication no\nPermitRootLogin prohibit-password\nPidFile none\n"+
		"Subsystem sftp internal-sftp\n", port, dir, dir)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "conf"), []byte(conf), 0o600))
	cmd := exec.Command("/usr/sbin/sshd", "-D", "-e", "-f", filepath.Join(dir, "conf"))
	pipe, err := cmd.StderrPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		require.NoError(t, cmd.Process.Kill())
		_ = cmd.Wait()
	})
	said := ""
	for buf := make([]byte, 512); !strings.Contains(said, "Server listening"); {
		n, err := pipe.Read(buf)
		require.NoError(t, err, said)
		said += string(buf[:n])
	}
	go func() { // it must not wait for room to write; ends with it
		buf := make([]byte, 4096)
		for {
			if _, err := pipe.Read(buf); err != nil {
				return
			}
		}
	}()
	return address, strings.Fields(string(out))[1]
}

// An outlet at a machine with an SSH service that nobody here wrote: from the key that lets the site in to files that
// lie there, kept current by the schedule, through a kill of the service while it lays out.
func TestOutletAtAnSSHService(t *testing.T) {
	base := t.TempDir()
	shell(t, base, `mkdir -p share/letters/sub; cd share/letters; for i in $(seq 300); do
			head -c $((i * 97)) /dev/urandom > sub/f$i
		done; ln -s sub/f1 link; head -c 9000000 /dev/urandom > big; chmod 640 big`)
	a := serve(t, filepath.Join(base, "a"), "larkfield", base)
	a.run("volume", "add", "letters", "--path", filepath.Join(base, "share", "letters"), "--label", "k=v")
	a.run("snapshot", "take", "letters")
	address, fingerprint := sshd(t, base, a.run("outlet", "key"))
	me, err := user.Current()
	require.NoError(t, err)
	nas := filepath.Join(base, "nas")
	to := fmt.Sprintf("sftp://%s@%s%s", me.Username, address, nas)
	_, err = a.try("outlet", "add", "nas", to, "--volumes", "k=v")
	require.ErrorContains(t, err, fingerprint)
	a.run("outlet", "add", "nas", to, "--volumes", "k=v", "--host-key", fingerprint)
	same := func() {
		t.Helper()
		shell(t, base, "diff -r --no-dereference -x .candid-outlet.json share/letters nas/letters")
		require.Equal(t, listed(t, filepath.Join(base, "share", "letters")), listed(t, filepath.Join(nas, "letters")))
	}
	current := func() { // the schedule sees to it
		for late := time.Now().Add(2 * time.Minute); !strings.Contains(a.run("outlet", "show", "nas"), "nas is current."); {
			require.True(t, time.Now().Before(late), "it does not become current")
			time.Sleep(20 * time.Millisecond)
		}
	}
	current()
	same()

	// Killed while it lays out, it goes on.
	shell(t, base, `cd share/letters; rm -r sub; mkdir sub; for i in $(seq 400); do
			head -c $((i * 91)) /dev/urandom > sub/f$i
		done; head -c 9000000 /dev/urandom > big`)
	a.run("snapshot", "take", "letters")
	shell(t, base, "until grep -q changing nas/letters/.candid-outlet.json; do :; done")
	a.kill()
	a.start()
	a.run("outlet", "run", "nas")
	current()
	same()
	require.Contains(t, a.run("outlet", "verify", "nas"), "is as it should be")
	require.Contains(t, a.run("outlet", "show", "nas"), "nas is current.")

	// With its key taken out there it is told what to do.
	require.NoError(t, os.Remove(filepath.Join(base, "ssh", "authorized_keys")))
	_, err = a.try("outlet", "run", "nas")
	require.ErrorContains(t, err, "does not let this site in")
	require.Contains(t, a.run("status"), "Outlet nas: It is not brought up to date")
}

// listed are the names, rights and times of all below a directory.
func listed(t *testing.T, dir string) string {
	cmd := exec.Command("sh", "-c", `find . -mindepth 1 ! -name .candid-outlet.json ! -type l `+
		`-printf '%P %m %Ts\n' | sort`)
	cmd.Dir = dir
	out, err := cmd.Output()
	require.NoError(t, err)
	return string(out)
}
