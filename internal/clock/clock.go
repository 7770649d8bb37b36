// Package clock gives a site its time, so that a demo or test can move it.
package clock

import (
	"os"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"
)

// Clock tells the time and wakes up at a time.
type Clock interface {
	Now() time.Time
	// Until returns a channel that gets a value once the clock has reached t.
	Until(t time.Time) <-chan time.Time
}

// Steady is what a clock can tell that nobody can set: how long the host has been up,
// sleep included, and which start of it that counts from.
type Steady interface {
	SinceBoot() (up time.Duration, boot string)
}

// System is the host's clock.
type System struct{}

// SinceBoot implements Steady.
func (System) SinceBoot() (time.Duration, string) {
	var ts unix.Timespec
	if unix.ClockGettime(unix.CLOCK_BOOTTIME, &ts) != nil {
		return 0, ""
	}
	id, _ := os.ReadFile("/proc/sys/kernel/random/boot_id")
	return time.Duration(ts.Nano()), strings.TrimSpace(string(id))
}

// Now returns the host's time.
func (System) Now() time.Time { return time.Now() }

// Until waits by the host's clock.
func (System) Until(t time.Time) <-chan time.Time { return time.After(time.Until(t)) }

// Moved is a clock that stands still until it is set.
type Moved struct {
	mu      sync.Mutex
	now     time.Time
	waiting map[chan time.Time]time.Time

	following bool
}

// NewMoved returns a clock that shows t.
func NewMoved(t time.Time) *Moved { return &Moved{now: t, waiting: map[chan time.Time]time.Time{}} }

// Now returns the time that was set last.
func (m *Moved) Now() time.Time {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.following {
		return time.Now()
	}
	return m.now
}

// Set moves the clock and wakes whoever waits for a time that has come.
func (m *Moved) Set(t time.Time) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.now = t
	for ch, at := range m.waiting {
		if !at.After(t) {
			ch <- t
			delete(m.waiting, ch)
		}
	}
}

// Until returns a channel that gets a value when the clock is set to t or later.
func (m *Moved) Until(t time.Time) <-chan time.Time {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.following {
		return time.After(time.Until(t))
	}
	ch := make(chan time.Time, 1)
	if !t.After(m.now) {
		ch <- m.now
	} else {
		m.waiting[ch] = t
	}
	return ch
}

// Follow makes the clock go with the host's from now on.
func (m *Moved) Follow() {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.following = true
	for ch := range m.waiting {
		ch <- time.Now()
		delete(m.waiting, ch)
	}
}
