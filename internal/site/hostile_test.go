package site

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/capture"
	"candidharbor/internal/datadir"
	"candidharbor/internal/pairing"

	"github.com/stretchr/testify/require"
)

// A disk that somebody prepared is attached: nothing that its files say runs, is read from the
// host, is written there or calls anybody; and another disk of a known name is refused.
func TestHostilePlace(t *testing.T) {
	w := newWorld(t)
	here := w.open("here")
	secret, ran := filepath.Join(w.dir, "secret"), filepath.Join(w.dir, "ran")
	require.NoError(t, os.Mkdir(secret, 0o700))
	w.write(secret, "shadow", "root's")

	// Whoever prepared it had it as a site of their own, with a volume, a policy, a hook, a copy
	// laid out and a restore to be gone on with.
	disk := filepath.Join(w.dir, "disk")
	w.setup = func(c *datadir.Config) {
		c.Hooks = map[string]datadir.Hook{"thing": {Run: []string{"/bin/sh", "-c", "id > " + ran}}}
		c.Alarms = nil
		c.Standby = w.dir
	}
	bait := w.open("disk")
	_, err := bait.Capture.AddVolume(w.ctx, api.VolumeAdd{Name: "bait", Path: secret, Labels: map[string]string{"k": "v"}})
	require.NoError(t, err)
	w.policy(bait, "policy: go\nvolumes: {k: v}\ntake: [every 6 hours]\nquiesce: {freeze: thing}\n")
	w.done(bait)(bait.Capture.TakeSnapshot("bait", api.SnapshotTake{}, "test"))
	require.FileExists(t, ran, "at the preparer's own site it runs")
	require.NoError(t, os.Remove(ran))
	require.NoError(t, bait.Close())
	w.setup = nil

	_, err = here.Pairing.Attach("disk", disk)
	require.NoError(t, err)
	place := here.further["disk"]
	require.Empty(t, place.Conf.Hooks)
	require.Empty(t, place.Conf.Standby)
	_, err = place.Capture.TakeSnapshot("bait", api.SnapshotTake{}, "test")
	require.ErrorIs(t, err, pairing.ErrPlaceHolds)
	for range 3 {
		w.clock.Set(w.clock.Now().Add(6 * 3600e9))
		_, err = place.Step(w.ctx, true)
		require.NoError(t, err)
	}
	require.Len(t, w.rows(place, "bait"), 1, "the one that was there")
	_, err = place.Recovery.Restore(w.ctx, api.RestoreAsk{Volume: "bait", At: "latest", InPlace: true}, "test")
	require.ErrorIs(t, err, pairing.ErrPlaceHolds)
	require.NoFileExists(t, ran)
	_, err = place.Capture.StartSnapshot("bait", capture.Taking{Cause: object.CauseByHand}, "test")
	require.ErrorIs(t, err, pairing.ErrPlaceHolds)
	_, err = here.Pairing.Detach("disk")
	require.NoError(t, err)

	// Another one of its name has another key.
	other := filepath.Join(w.dir, "other", "disk")
	require.NoError(t, os.MkdirAll(filepath.Dir(other), 0o755))
	require.NoError(t, exec.Command("cp", "-a", disk, other).Run())
	require.NoError(t, os.Remove(datadir.KeyPath(other)))
	_, err = here.Pairing.Attach("disk", other)
	require.ErrorContains(t, err, "has another key")

	// What leads elsewhere, or what others may change, is refused before it is opened.
	for name, hurt := range map[string]func(dir string) error{
		"no file and no directory": func(dir string) error {
			return os.Symlink(filepath.Join(secret, "shadow"), filepath.Join(dir, "store", "census", "x.new"))
		},
		"no file and no directory: ": func(dir string) error {
			return errors.Join(os.Remove(filepath.Join(dir, "lock")), os.Symlink(filepath.Join(secret, "shadow"),
				filepath.Join(dir, "lock")))
		},
		"others may write": func(dir string) error { return os.Chmod(filepath.Join(dir, "store"), 0o777) },
	} {
		copied := filepath.Join(w.dir, "copy", "disk")
		require.NoError(t, os.RemoveAll(filepath.Dir(copied)))
		require.NoError(t, os.MkdirAll(filepath.Dir(copied), 0o755))
		require.NoError(t, exec.Command("cp", "-a", disk, copied).Run())
		require.NoError(t, hurt(copied))
		_, err = here.Pairing.Attach("disk", copied)
		require.ErrorContains(t, err, strings.TrimSpace(name))
	}
	text, err := os.ReadFile(filepath.Join(secret, "shadow"))
	require.NoError(t, err)
	require.Equal(t, "root's", string(text))
	if os.Geteuid() == 0 {
		require.NoError(t, os.Chown(filepath.Join(disk, "store"), 4321, 4321))
		_, err = here.Pairing.Attach("disk", disk)
		require.ErrorContains(t, err, "belongs to the user 4321")
		require.NoError(t, os.Chown(filepath.Join(disk, "store"), 0, 0))
		require.NoError(t, os.Chown(filepath.Dir(disk), 4321, 4321))
		_, err = here.Pairing.Attach("disk", disk)
		require.ErrorContains(t, err, "who can put something else in the place of")
	}
}
