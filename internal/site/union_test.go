package site

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// A policy without rules for a place keeps everything there, whatever other policies say:
// adding one never lets more go, here and far.
func TestUnionOfPolicies(t *testing.T) {
	w := newWorld(t)
	here, there := w.open("here"), w.open("there")
	dir := w.share(here, "notes")
	w.pair(here, there)
	w.policy(here, "policy: archive\nvolumes: {names: [notes]}\ntake: [daily at 03:00]\ngrace: 1 seconds\n")
	for n := range 4 {
		w.write(dir, "a", fmt.Sprint("state ", n))
		w.take(here, "notes")
		w.clock.Set(w.clock.Now().Add(time.Hour))
	}
	body := "policy: extra\nvolumes: {k: v}\ntake: [daily at 04:00]\nkeep: {here: {newest: 1, by_hand: 1 seconds}, " +
		"there: {newest: 1, by_hand: 1 seconds}}\ngrace: 1 seconds\n"
	w.policy(here, body)
	w.route(here, "there")
	w.done(here)(here.Routes.RunRoute("to-there", "test"))
	prune := func() {
		for range 3 {
			w.clock.Set(w.clock.Now().Add(time.Minute))
			w.done(here)(here.Rules.Prune("", "test"))
			w.done(there)(there.Rules.Prune("", "test"))
		}
	}
	prune()
	require.Len(t, w.rows(here, "notes"), 4)
	require.Len(t, w.rows(there, "notes@here"), 4)
	require.Contains(t, fmt.Sprint(must(here.Overview.Explain("notes", "")).Sentences),
		"At here everything stays: archive has no rules for it")
	_, err := here.Rules.RemovePolicy("archive", "test", true)
	require.NoError(t, err)
	w.take(here, "notes")
	prune()
	require.Less(t, len(w.rows(here, "notes")), 4, "the rules of the other apply once it is alone")
}
