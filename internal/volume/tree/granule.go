package tree

import (
	"time"

	"golang.org/x/sys/unix"
)

// settling says from which change times on an entry's content may still change without
// its change time showing it. An entry is relied on only when its change time lay further
// back than that when it was read.
type settling struct {
	now    int64 // of the clock from which the kernel takes change times, nanoseconds
	margin int64
	never  bool // the filesystem makes change times up
}

const (
	tickMargin   = 20 * time.Millisecond // two ticks of the slowest kernel clock
	secondMargin = 2 * time.Second       // the coarsest change times there are
	skewMargin   = time.Hour             // of a server's clock
)

// The filesystems whose change times come from this host's clock, and those whose come
// from a server's. Of others, FUSE among them, nothing is known.
var (
	ownClock = map[int64]bool{0xef53: true, 0x58465342: true, 0x9123683e: true, 0x01021994: true, 0x858458f6: true,
		0x794c7630: true,
		0x2fc12fc1: true, 0x2011bab0: true, 0x4d44: true, 0xf2f52010: true, 0xca451a4e: true, 0x3153464a: true,
		0x52654973: true,
		0x3434:     true, 0x24051905: true, 0x7366746e: true, 0x5346544e: true, 0x73717368: true, 0x9660: true,
		0xe0f5e1e2: true}
	serverClock = map[int64]bool{0x6969: true, 0xff534d42: true, 0xfe534d42: true, 0x517b: true, 0x00c36400: true,
		0x01021997: true, 0x0bd00bd0: true}
)

// settlingOf finds out how long change times of a filesystem take to settle.
func settlingOf(fd int) (s settling, err error) {
	var now unix.Timespec
	if err := unix.ClockGettime(unix.CLOCK_REALTIME_COARSE, &now); err != nil {
		return s, err
	}
	var fs unix.Statfs_t
	if err := unix.Fstatfs(fd, &fs); err != nil {
		return s, err
	}
	s = settling{now: unix.TimespecToNsec(now), margin: int64(tickMargin)}
	switch kind := int64(uint32(fs.Type)); {
	case serverClock[kind]:
		s.margin = int64(skewMargin)
	case !ownClock[kind]:
		s.never = true
	}
	return s, nil
}

// settled reports whether any later change shows in an entry's change time. One without a
// fraction of a second is taken to come from a filesystem that keeps none.
func (s settling) settled(ctime int64) bool {
	if s.never || ctime <= 0 {
		return false
	}
	margin := s.margin
	if ctime%int64(time.Second) == 0 {
		margin += int64(secondMargin)
	} else if ctime%int64(10*time.Millisecond) == 0 {
		margin += int64(10 * time.Millisecond)
	}
	return ctime < s.now-margin
}
