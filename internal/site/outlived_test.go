package site

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"candidharbor/api"

	"github.com/stretchr/testify/require"
)

// What no rule keeps and is here nevertheless is told with its cause and since when, becomes an alarm when it lasts,
// and is over when it is over.
func TestOutlived(t *testing.T) {
	w := newWorld(t)
	here, there := w.open("here"), w.open("there")
	dir := w.share(here, "notes")
	w.pair(here, there)
	w.policy(here, "policy: p\nvolumes: {k: v}\ntake: [every 6 hours]\nkeep:\n  here: {newest: 2}\n  there: {newest: "+
		"40}\ngrace: 1 second\n")
	w.route(here, "there")
	address := there.Pairing.PeerAddress()
	days := func(n int) {
		for range n * 4 {
			w.write(dir, "a", fmt.Sprint(w.clock.Now()))
			w.until(here, w.clock.Now().Add(6*time.Hour))
			w.done(here)(here.Rules.Prune("", "test"))
		}
	}
	told := func() (x api.Sentence, is bool) {
		for _, s := range must(here.Overview.Status()).Sentences {
			if strings.Contains(s.Text, "outlived") {
				require.False(t, is, "once")
				x, is = s, true
			}
		}
		return x, is
	}
	days(2)
	_, is := told()
	require.False(t, is, "what a route is about to carry is the ordinary course")
	require.NoError(t, there.Close())
	days(2)
	x, is := told()
	require.True(t, is)
	require.Equal(t, "look", x.Weight)
	require.Contains(t, x.Text, "of notes outlived their rules because there is to have them and has not yet, since")
	days(3)
	x, _ = told()
	require.Equal(t, "act", x.Weight)
	require.Equal(t, "outlived owed there", x.About)
	_, err := here.Step(w.ctx, true)
	require.NoError(t, err)
	alarms := must(here.Overview.Alarms(false, 0))
	require.Contains(t, fmt.Sprint(alarms), "outlived their rules")
	w.openAt("there", address)
	w.until(here, w.clock.Now().Add(2*time.Hour))
	w.done(here)(here.Rules.Prune("", "test"))
	_, is = told()
	require.False(t, is, "it is over since there has them")

	// While removal is held, all that would go is counted.
	require.NoError(t, here.Catalog.Set("removal held", "a test holds it"))
	days(2)
	days(2)
	require.Contains(t, must(here.Overview.Status()).Sentences[1].Text, "Nothing is removed at present")
	found := false
	for _, s := range must(here.Overview.Status()).Sentences {
		found = found || strings.Contains(s.Text, "outlived their rules because nothing is removed at present, since")
	}
	require.True(t, found)
}
