package views

import (
	"errors"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

type noMoments struct{}

func (noMoments) Volumes() ([]string, error)                  { return nil, nil }
func (noMoments) Moments(string, time.Time) ([]Moment, error) { return nil, nil }
func (noMoments) Newest(string) (Moment, bool, error)         { return Moment{}, false, nil }
func (noMoments) Hold(volume, id string) (*Held, error)       { return nil, fs.ErrNotExist }

// What was mounted at a directory that got another name meanwhile is found under it and taken
// away; what is in use stays.
func TestMountUnderAnotherName(t *testing.T) {
	base, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	for _, d := range []string{"here", "there with a space", "own"} {
		require.NoError(t, os.Mkdir(filepath.Join(base, d), 0o755))
	}
	at, err := OpenSpot(base, filepath.Join(base, "there with a space"))
	require.NoError(t, err)
	m, err := Mount(noMoments{}, "v", at, filepath.Join(base, "own", "mounting"), slog.New(slog.DiscardHandler))
	if errors.Is(err, unix.EPERM) || errors.Is(err, unix.ENOENT) || errors.Is(err, unix.EACCES) {
		at.Close()
		t.Skip("this host does not let a filesystem be mounted")
	}
	require.NoError(t, err)
	at.name = "here" // as if it had been, and the other name came by a rename that went on meanwhile
	in, err := os.Open(filepath.Join(base, "there with a space"))
	require.NoError(t, err)
	require.ErrorIs(t, m.End(false), unix.EBUSY)
	in.Close()
	require.NoError(t, m.End(false))
	mounts, err := os.ReadFile("/proc/self/mountinfo")
	require.NoError(t, err)
	require.NotContains(t, string(mounts), base)
}
