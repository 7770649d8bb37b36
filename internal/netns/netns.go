// Package netns makes networks that are apart from the host's: a loopback of their own and nothing else, so that an
// address there leads to nothing outside.
//
// What is done in one happens on a thread of its own, which ends with it.
package netns

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"runtime"
	"sync"

	"golang.org/x/sys/unix"
)

// Network is a network apart. It is there as long as it is open here, or a process is in it.
type Network struct {
	f    *os.File
	once sync.Once
	err  error // of closing
}

// New makes a network. It takes the right to administer the host's.
func New() (*Network, error) {
	n := &Network{}
	err := onThread(func() error {
		if err := unix.Unshare(unix.CLONE_NEWNET); err != nil {
			return fmt.Errorf("the kernel gives no network apart: %w", err)
		}
		f, err := os.Open(fmt.Sprintf("/proc/self/task/%d/ns/net", unix.Gettid()))
		if err != nil {
			return err
		}
		n.f = f
		return raiseLoopback()
	})
	if err != nil {
		return nil, errors.Join(err, n.Close())
	}
	return n, nil
}

func raiseLoopback() error {
	fd, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	lo, err := unix.NewIfreq("lo")
	if err == nil {
		err = unix.IoctlIfreq(fd, unix.SIOCGIFFLAGS, lo)
	}
	if err != nil {
		return err
	}
	lo.SetUint16(lo.Uint16() | unix.IFF_UP)
	return unix.IoctlIfreq(fd, unix.SIOCSIFFLAGS, lo)
}

// onThread calls f on a thread that ends with it, and never on the first one of the process, which cannot end and
// stands for all of it in /proc.
func onThread(f func() error) error {
	done := make(chan error, 1)
	go func() {
		runtime.LockOSThread()
		if unix.Gettid() != unix.Getpid() {
			done <- f()
			return
		}
		defer runtime.UnlockOSThread()
		done <- onThread(f) // this one is held meanwhile
	}()
	return <-done
}

// Do calls f in the network. A process that f starts by fork and exec is in it; a goroutine that it starts is not.
func (n *Network) Do(f func() error) error {
	return onThread(func() error {
		if err := unix.Setns(int(n.f.Fd()), unix.CLONE_NEWNET); err != nil {
			return err
		}
		return f()
	})
}

// Dial connects in the network. The name of a host is one of this host's own.
func (n *Network) Dial(ctx context.Context, network, address string) (c net.Conn, err error) {
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		return nil, err
	}
	all, err := net.DefaultResolver.LookupIPAddr(ctx, host)
	if err != nil {
		return nil, err
	}
	for _, ip := range all {
		derr := n.Do(func() error { // one address: the dialer needs no other goroutine
			c, err = (&net.Dialer{}).DialContext(ctx, network, net.JoinHostPort(ip.String(), port))
			return err
		})
		if derr == nil {
			return c, nil
		}
		err = derr
	}
	return nil, err
}

// Close lets the network go; what is in it keeps it.
func (n *Network) Close() error {
	if n == nil || n.f == nil {
		return nil
	}
	n.once.Do(func() { n.err = n.f.Close() })
	return n.err
}
