package site

import (
	"testing"
	"time"

	"candidharbor/api"

	"github.com/stretchr/testify/require"
)

// A route with a pace of its own waits when that lets nothing through, while another one to the same site goes; it
// goes by itself when it opens, and at once when it is changed.
func TestRouteOwnPace(t *testing.T) {
	w := newWorld(t)
	here, there := w.open("here"), w.open("there")
	dir := w.share(here, "notes")
	w.policy(here, "policy: p\nvolumes: {k: v}\ntake: [every 6 hours]\n")
	w.pair(here, there)
	now := w.clock.Now().UTC()
	shut := "nothing between 00:00 and " + now.Add(2*time.Hour).Format("15:04")
	terms := api.RouteTerms{Pace: []string{shut, "1 MiB/s"}}
	add := func(name string, t api.RouteTerms) error {
		_, err := here.Routes.AddRoute(api.RouteAdd{Name: name, To: "there", Labels: map[string]string{"k": "v"}, Terms: t})
		return err
	}
	for says, t1 := range map[string]api.RouteTerms{
		"a cap, which always holds": {Pace: terms.Pace, Cap: "5 MiB/s"}, "carries nothing": {Pace: []string{"nothing"}},
		"begin with a rate": {Pace: []string{"fast"}}, "put it last": {Pace: []string{"1 MiB/s", shut}},
	} {
		require.ErrorContains(t, add("bad", t1), says)
	}
	_, err := there.Routes.AddRoute(api.RouteAdd{Name: "in", From: "here", Labels: map[string]string{"k": "v"},
		Terms: terms})
	require.ErrorContains(t, err, "limited where it is sent from")
	require.NoError(t, add("slow", terms))
	require.Equal(t, terms.Pace, must(here.Routes.Route("slow")).Terms.Pace)

	w.write(dir, "a", "1")
	w.take(here, "notes")
	run := w.done(here)(here.Routes.RunRoute("slow", "test"))
	require.Contains(t, run.Outcome, "the pace lets nothing through")
	r := must(here.Routes.Route("slow"))
	require.Equal(t, "waiting", r.State)
	require.Empty(t, w.rows(there, "notes@here"))
	w.until(here, now.Add(time.Hour))
	require.Empty(t, w.rows(there, "notes@here"))
	w.until(here, now.Add(3*time.Hour))
	require.NotEmpty(t, w.rows(there, "notes@here"), "it went when its pace opened")

	all := len(w.rows(there, "notes@here"))
	later := w.clock.Now().UTC()
	shut = "nothing between " + later.Add(-time.Hour).Format("15:04") + " and " + later.Add(5*time.Hour).Format("15:04")
	_, err = here.Routes.EditRoute("slow", api.RouteEdit{Terms: &api.RouteTerms{Pace: []string{shut}}})
	require.NoError(t, err)
	w.write(dir, "a", "2")
	w.take(here, "notes")
	w.done(here)(here.Routes.RunRoute("slow", "test"))
	require.Len(t, w.rows(there, "notes@here"), all)
	_, err = here.Routes.EditRoute("slow", api.RouteEdit{Terms: &api.RouteTerms{}})
	require.NoError(t, err)
	w.until(here, later.Add(2*time.Minute))
	require.Greater(t, len(w.rows(there, "notes@here")), all, "a change holds at once")
}
