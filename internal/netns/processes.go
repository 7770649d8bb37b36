package netns

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"strconv"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// leaveWithin is how long processes have to end by themselves.
const leaveWithin = 5 * time.Second

// End ends all processes that are in a network or were started with a variable of the environment, such as ID=7: it
// asks them to, then has the kernel do so. n may be nil.
func End(ctx context.Context, n *Network, variable string) error {
	asked, cancel := context.WithTimeout(ctx, leaveWithin)
	defer cancel()
	if err := signalAll(asked, n, variable, unix.SIGTERM); err == nil || ctx.Err() != nil {
		return err
	}
	killed, cancel := context.WithTimeout(ctx, leaveWithin)
	defer cancel()
	return signalAll(killed, n, variable, unix.SIGKILL)
}

// signalAll sends a signal to all of them, and to those that they start meanwhile, until none is left.
func signalAll(ctx context.Context, n *Network, variable string, sig unix.Signal) error {
	for {
		all, err := find(n, variable)
		if err != nil || len(all) == 0 {
			return err
		}
		for _, fd := range all {
			if serr := unix.PidfdSendSignal(fd, sig, nil, 0); !errors.Is(serr, unix.ESRCH) {
				err = errors.Join(err, serr)
			}
		}
		for _, fd := range all {
			err = errors.Join(err, wait(ctx, fd))
			unix.Close(fd)
		}
		if err != nil {
			return err
		}
	}
}

// wait waits until a process has ended.
func wait(ctx context.Context, fd int) error {
	for {
		left := time.Second
		if end, ok := ctx.Deadline(); ok {
			left = min(left, time.Until(end))
		}
		if left <= 0 || ctx.Err() != nil {
			return fmt.Errorf("a process does not end: %w", context.DeadlineExceeded)
		}
		ended := []unix.PollFd{{Fd: int32(fd), Events: unix.POLLIN}}
		if k, err := unix.Poll(ended, int(left.Milliseconds())+1); err != nil && !errors.Is(err, unix.EINTR) {
			return err
		} else if k > 0 {
			return nil
		}
	}
}

// find opens the processes, this one left out.
func find(n *Network, variable string) (all []int, err error) {
	var own syscall.Stat_t
	if n != nil {
		if err := syscall.Fstat(int(n.f.Fd()), &own); err != nil {
			return nil, err
		}
	}
	entries, err := os.ReadDir("/proc")
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		pid, err := strconv.Atoi(e.Name())
		if err != nil || pid == os.Getpid() {
			continue
		}
		fd, err := unix.PidfdOpen(pid, 0) // before it is looked at: from here on it is the one that was looked at
		if err != nil {
			continue
		}
		if n != nil && isIn(pid, &own) || startedWith(pid, variable) {
			all = append(all, fd)
			continue
		}
		unix.Close(fd)
	}
	return all, nil
}

func isIn(pid int, own *syscall.Stat_t) bool {
	var st syscall.Stat_t
	return syscall.Stat(fmt.Sprintf("/proc/%d/ns/net", pid), &st) == nil && st.Dev == own.Dev && st.Ino == own.Ino
}

func startedWith(pid int, variable string) bool {
	env, err := os.ReadFile(fmt.Sprintf("/proc/%d/environ", pid))
	if err != nil || variable == "" {
		return false
	}
	for v := range bytes.SplitSeq(env, []byte{0}) {
		if string(v) == variable {
			return true
		}
	}
	return false
}
