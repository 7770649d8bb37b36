package site

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"candidharbor/api"
	"candidharbor/internal/refusal"

	"github.com/stretchr/testify/require"
)

// A disk holds deep history by rules of its own, is taken away and comes back, at the same
// site or at another, with all that it held; what it lacks meanwhile is owed to it.
func TestDiskThatComesAndGoes(t *testing.T) {
	w := newWorld(t)
	here := w.open("here")
	dir := w.share(here, "notes")
	disk := filepath.Join(w.dir, "disk")
	require.NoError(t, os.Mkdir(disk, 0o755))
	said, err := here.Pairing.Attach("shelf-disk", disk)
	require.NoError(t, err)
	require.Contains(t, said, "here/shelf-disk is attached")
	w.policy(here, "policy: p\nvolumes: {k: v}\ntake: [every 6 hours]\nzone: Europe/Lisbon\nkeep:\n  here: {newest: "+
		"1}\n  shelf-disk: {newest: 4, daily: 30}\ngrace: 1 second\n")
	_, err = here.Routes.AddRoute(api.RouteAdd{Name: "to-disk", To: "shelf-disk", Labels: map[string]string{"k": "v"}})
	require.NoError(t, err)
	days := func(n int) {
		for range 4 * n {
			w.write(dir, "a", w.clock.Now().String())
			w.until(here, w.clock.Now().Add(6*time.Hour))
		}
		for range 2 {
			w.done(here)(here.Rules.Prune("", "test"))
			w.clock.Set(w.clock.Now().Add(2 * time.Second))
		}
	}
	days(5)
	place := anyPlace(here)
	rows := w.rows(place, "notes@here")
	require.Len(t, rows, 20)
	require.Len(t, w.rows(here, "notes"), 1, "here only the newest stays")
	for range 2 {
		w.done(place)(place.Rules.Prune("", "test"))
		w.clock.Set(w.clock.Now().Add(25 * time.Hour))
	}
	require.InDelta(t, 9, len(w.rows(place, "notes@here")), 2, "on the disk its own rules decide")

	said, err = here.Pairing.Detach("shelf-disk")
	require.NoError(t, err)
	require.Contains(t, said, "can be taken away")
	_, err = here.Pairing.Detach("shelf-disk")
	require.Equal(t, refusal.Conflict, refusal.ClassOf(err))
	away := disk + "-away"
	require.NoError(t, os.Rename(disk, away))
	days(2)
	r := must(here.Routes.Route("to-disk"))
	require.Equal(t, "waiting", r.State)
	require.Contains(t, r.Sentence, "waits for the disk of shelf-disk")
	require.GreaterOrEqual(t, len(w.rows(here, "notes")), 4, "owed to the disk")
	for _, a := range must(here.Overview.Alarms(false, 0)).Items {
		require.NotEqual(t, "route to-disk", a.About, "a disk on the shelf is no alarm")
	}
	require.NoError(t, here.Close())
	here = w.open("here") // without the disk
	require.False(t, must(here.Pairing.Places())[0].Attached)

	// Elsewhere it is read without its own site.
	require.NoError(t, os.Rename(away, disk))
	other := w.open("other")
	_, err = other.Pairing.Attach("shelf-disk", disk)
	require.NoError(t, err)
	out := filepath.Join(w.dir, "out")
	there := anyPlace(other)
	w.done(there)(there.Recovery.Restore(context.Background(), api.RestoreAsk{Volume: "notes@here", At: "latest", To: out},
		"test"))
	require.FileExists(t, filepath.Join(out, "a"))
	_, err = here.Pairing.Attach("shelf-disk", disk)
	require.Error(t, err, "it is in use")
	_, err = other.Pairing.Detach("shelf-disk")
	require.NoError(t, err)

	said, err = here.Pairing.Attach("shelf-disk", disk)
	require.NoError(t, err)
	require.Contains(t, said, "1 route that waited for it goes on")
	days(1)
	require.Equal(t, "current", must(here.Routes.Route("to-disk")).State)
	newest := w.rows(anyPlace(here), "notes@here")[0]
	require.Equal(t, newest.ID, w.rows(here, "notes")[0].ID)

	for say, path := range map[string]string{"holds something else": filepath.Join(w.dir, "shares"),
		"outside the roots": "/etc", "no such file": filepath.Join(w.dir, "nothing")} {
		_, err := here.Pairing.Attach("second", path)
		require.ErrorContains(t, err, say)
	}
	_, err = here.Pairing.Attach("here", disk)
	require.Equal(t, refusal.Conflict, refusal.ClassOf(err))
}

// anyPlace is a further place of a site that has one.
func anyPlace(s *Site) *Site {
	for _, p := range s.further {
		return p
	}
	return nil
}
