package clock

import (
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"
)

func ready(ch <-chan time.Time) bool {
	select {
	case <-ch:
		return true
	default:
		return false
	}
}

// A moved clock wakes exactly those whose time has come, each once.
func TestMoved(t *testing.T) {
	begin := time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC)
	m := NewMoved(begin)
	past, soon, later := m.Until(begin), m.Until(begin.Add(time.Minute)), m.Until(begin.Add(time.Hour))
	require.True(t, ready(past), "a time that has come does not wait")
	require.False(t, ready(soon))
	m.Set(begin.Add(59 * time.Second))
	require.False(t, ready(soon))
	m.Set(begin.Add(2 * time.Minute))
	require.True(t, ready(soon))
	require.False(t, ready(soon))
	require.False(t, ready(later))
	require.Equal(t, begin.Add(2*time.Minute), m.Now())
	m.Set(begin) // a clock may be set back; who was woken stays awake, who waits goes on waiting
	require.False(t, ready(later))
	m.Set(begin.Add(48 * time.Hour))
	require.True(t, ready(later))
}

// From Follow on it goes with the host's clock, and who waited is woken to look again.
func TestFollow(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		m := NewMoved(time.Now().Add(-time.Hour))
		old := m.Until(time.Now().Add(time.Hour))
		m.Follow()
		require.True(t, ready(old))
		ch := m.Until(time.Now().Add(time.Minute))
		began := time.Now()
		require.Equal(t, began, m.Now())
		<-ch
		require.Equal(t, time.Minute, time.Since(began))
		require.Equal(t, time.Now(), m.Now())
	})
}

// The host's clock.
func TestSystem(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		began := System{}.Now()
		<-System{}.Until(began.Add(90 * time.Second))
		require.Equal(t, 90*time.Second, System{}.Now().Sub(began))
		<-System{}.Until(began) // passed already
		require.Equal(t, 90*time.Second, System{}.Now().Sub(began))
	})
}
