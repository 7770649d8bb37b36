package site

import (
	"encoding/json"
	"fmt"
	"slices"
	"testing"
	"time"

	"candidharbor/api"
	"candidharbor/internal/datadir"
	"candidharbor/internal/inbox"
	"candidharbor/internal/overview"

	"github.com/stretchr/testify/require"
)

// What many volumes lack is told once, with what is to be done for all; who joins them is told of although the rest is
// known or muted, and none is left out.
func TestAlarmsTellEachCauseOnce(t *testing.T) {
	w := newWorld(t)
	in, err := inbox.Open()
	require.NoError(t, err)
	t.Cleanup(func() { in.Close() })
	w.setup = func(c *datadir.Config) { c.Alarms = &datadir.Alarms{Webhook: &datadir.Webhook{URL: in.Hook}} }
	s := w.open("here")
	look := func() (out []overview.Message) {
		before := len(in.Came())
		w.until(s, w.clock.Now().Add(time.Minute))
		for _, m := range in.Came()[before:] {
			var x overview.Message
			require.NoError(t, json.Unmarshal([]byte(m.Body), &x))
			out = append(out, x)
		}
		return out
	}
	add := func(from, to int) (names []string) {
		for i := from; i <= to; i++ {
			names = append(names, fmt.Sprintf("unit-%03d", i))
			w.share(s, names[len(names)-1])
		}
		return names
	}
	lacks := func() (of []api.Sentence) {
		for _, x := range must(s.Overview.Status()).Sentences {
			if x.About == api.CauseNoPolicy {
				of = append(of, x)
			}
		}
		return of
	}
	require.Empty(t, lacks())
	all := add(1, 1)
	require.Equal(t, "unit-001 is unprotected. No policy chooses it: nothing is taken by itself.", lacks()[0].Text)
	all = append(all, add(2, 2)...)
	require.Equal(t, "No policy chooses 2 volumes, so nothing of them is taken by itself: unit-001 and unit-002.",
		lacks()[0].Text)
	all = append(all, add(3, 60)...)
	require.Len(t, lacks(), 1)
	require.Equal(t, "No policy chooses 60 volumes, so nothing of them is taken by itself: unit-001, unit-002, unit-003 "+
		"and 57 more.", lacks()[0].Text)
	require.Equal(t, all, lacks()[0].Volumes)

	told := look()
	require.Len(t, told, 1)
	require.Equal(t, "begins", told[0].Event)
	require.Equal(t, all, told[0].Volumes)
	require.Empty(t, look(), "it is known")
	a := must(s.Overview.Alarms(false, 0)).Items[0]
	_, err = s.Overview.MuteAlarm(a.ID, w.clock.Now().Add(time.Hour))
	require.NoError(t, err)
	joined := add(61, 62)
	told = look()
	require.Len(t, told, 1, "who joins was not muted")
	require.Equal(t, "grows", told[0].Event)
	require.Equal(t, joined, told[0].Joined)

	w.policy(s, "policy: p\nvolumes: {names: [unit-005]}\ntake: [every 1 hour]\n")
	require.Empty(t, look(), "one less is no news")
	require.False(t, slices.Contains(lacks()[0].Volumes, "unit-005"))
	_, err = s.Rules.RemovePolicy("p", "test", true)
	require.NoError(t, err)
	require.Empty(t, look(), "it was muted when it was of them before")
	w.policy(s, "policy: q\nvolumes: {k: v}\ntake: [every 1 hour]\n")
	require.Empty(t, look(), "the end of what is muted is not sent")
	require.Empty(t, must(s.Overview.Alarms(false, 0)).Items)
}
