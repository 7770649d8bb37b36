package route

import (
	"strings"
	"testing"
	"time"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/moment"

	"github.com/stretchr/testify/require"
)

// What a route says reads well of none, one and many, whether it runs or not.
func TestRouteSentences(t *testing.T) {
	at := time.Date(2026, 3, 2, 9, 0, 0, 0, time.Local)
	say := func(volumes, backlog int, copied, running, paused, asked bool) string {
		v := &api.Route{To: "b", NextDue: &at}
		r := &catalog.Route{Name: "r", Peer: "b"}
		if asked {
			r.Terms.V.When = onDemand
		}
		if paused {
			v.PausedSince = &at
		}
		for i := range volumes {
			rv := api.RouteVolume{LagSeconds: int64(60 * (i + 1))}
			if copied {
				rv.Newest = &at
			}
			if i == 0 {
				rv.Backlog = backlog
			}
			v.Volumes = append(v.Volumes, rv)
		}
		(&Service{}).routeSentence(v, r, running)
		return v.State + ": " + moment.Here().Text(v.Sentence)
	}
	var got []string
	for _, n := range []int{0, 1, 5} {
		got = append(got, say(1, n, true, false, true, false), say(1, n, true, true, false, false),
			say(2, n, true, false, false, true))
		if n > 0 {
			got = append(got, say(1, n, false, false, false, true), say(2, n, false, true, false, false))
		}
	}
	require.Equal(t, `
paused: It is paused since 2026-03-02 09:00:00; nothing waits.
current: b has everything it wants; its newest state is 1 minute old. It looks for more now.
current: b has everything it wants; its newest states are at most 2 minutes old. It runs when asked: candid route run r.
paused: It is paused since 2026-03-02 09:00:00; 1 snapshot waits.
behind: b lacks 1 snapshot; its newest state is 1 minute old. It is being carried now.
behind: b lacks 1 snapshot; its newest states are at most 2 minutes old. It runs when asked: candid route run r.
seeding: First copies are still to be carried to b, 1 snapshot in all. It runs when asked: candid route run r.
seeding: First copies are still to be carried to b, 1 snapshot in all. It is being carried now.
paused: It is paused since 2026-03-02 09:00:00; 5 snapshots wait.
behind: b lacks 5 snapshots; its newest state is 1 minute old. They are being carried now.
behind: b lacks 5 snapshots; its newest states are at most 2 minutes old. It runs when asked: candid route run r.
seeding: First copies are still to be carried to b, 5 snapshots in all. It runs when asked: candid route run r.
seeding: First copies are still to be carried to b, 5 snapshots in all. They are being carried now.`,
		"\n"+strings.Join(got, "\n"))
}
