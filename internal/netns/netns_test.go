package netns

import (
	"context"
	"errors"
	"net"
	"os"
	"os/exec"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// What listens at an address of the host is not there in a network apart, what listens there is not at the host, and
// all that was started there ends with it, also what was parted from who started it.
func TestNetworkApart(t *testing.T) {
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	host, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer host.Close()
	n, err := New()
	if errors.Is(err, unix.EPERM) {
		t.Skip("this host gives no network apart: ", err)
	}
	require.NoError(t, err)
	defer n.Close()
	_, err = n.Dial(ctx, "tcp", host.Addr().String())
	require.ErrorIs(t, err, unix.ECONNREFUSED)

	var inside net.Listener
	require.NoError(t, n.Do(func() error {
		inside, err = net.Listen("tcp", "127.0.0.1:0")
		return err
	}))
	defer inside.Close()
	c, err := n.Dial(ctx, "tcp", inside.Addr().String())
	require.NoError(t, err)
	require.NoError(t, c.Close())
	_, err = net.Dial("tcp", inside.Addr().String())
	require.ErrorIs(t, err, unix.ECONNREFUSED)

	outside := exec.Command("sleep", "1000")
	require.NoError(t, outside.Start())
	defer outside.Wait()
	defer outside.Process.Kill()
	for _, how := range [][]string{
		{"sh", "-c", "sleep 1000 & exec sleep 1000"},
		{"setsid", "sh", "-c", "trap '' TERM; sleep 1000 & setsid sleep 1000 & wait; sleep 1000"},
	} {
		cmd := exec.Command(how[0], how[1:]...)
		cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "NOTHING=1"}
		require.NoError(t, n.Do(cmd.Start))
		go cmd.Wait()
	}
	marked := exec.Command("sh", "-c", "env -i sleep 0; sleep 1000 & wait")
	marked.Env = append(os.Environ(), "OF=this")
	require.NoError(t, marked.Start())
	go marked.Wait()
	require.NoError(t, End(ctx, n, "OF=this"))
	all, err := find(n, "OF=this")
	require.NoError(t, err)
	require.Empty(t, all)
	require.NoError(t, outside.Process.Signal(unix.Signal(0)), "what is elsewhere goes on")
}
