package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// What goes where, at which pace, by drive, and who is told, word for word as the terminal
// shows it.
func TestSitesRoutesAndAlarms(t *testing.T) {
	d := newDesk(t)
	d.run("volume add letters --path DIR/share --label k=v")
	d.run("snapshot take letters")
	d.refuses("route add west --to stonewick --volumes k=v", 1, `site "stonewick" is not paired`)
	d.refuses("route add west --volumes k=v", 2, "give --to or --from")
	d.at = "stonewick"
	d.refuses("site invite --grant everything", 2, "grants")
	inv, _, _ := d.run("site invite --grant offer --grant see")
	inv = strings.TrimSpace(inv)
	d.at = "larkfield"
	d.ids[inv] = "INVITATION"
	d.reads("site pair INVITATION --grant nothing", `
Paired with stonewick at ADDR.
Here stonewick may: do nothing. There this site may: bring snapshots, look at it.
Carry snapshots there: candid route add NAME --to stonewick --volumes key=value
`)
	d.reads("site grant stonewick see", `
Here stonewick may: look at it. There this site may: bring snapshots, look at it.
`)
	d.refuses("site grant stonewick admire", 2, "grants")
	d.refuses("site grant stonewick see --volumes k=v", 2, "volumes are chosen for read only")
	d.refuses("site grant mereside see", 1, `site "mereside"`)
	d.reads("site revoke stonewick see", `
stonewick may now do nothing here.
`)
	d.reads("--desk stonewick volume list", `
No volumes yet. Add one: candid volume add NAME --path DIR
`)
	d.refuses("--desk stonewick token add sly", 1, "this is for people of this site alone")
	d.refuses("--desk stonewick prune", 1, "may look at stonewick, and not change anything there")
	d.refuses("--desk stonewick site invite", 1, "this is for people of this site alone")

	d.reads("route add west --to stonewick --volumes k=v --dry-run", `
It carries 1 snapshot of 1 volume to stonewick: at most N B, as fast as the line is.
Volumes: letters.
`)
	d.refuses("route add west --to stonewick --volumes k=v --when sometimes", 2, `at "sometimes"`)
	d.refuses("route add west --to stonewick --volumes k=v --cap fast", 2, "begin with a rate")
	d.refuses("route add west --to stonewick --volumes k=v --tell counts", 2, "said of a route that pulls")
	d.refuses("route add west --to stonewick --volumes k=v --standby roughly", 2, "standby")
	d.reads("route add west --to stonewick --volumes k=v --when 'on demand' --carry all --priority 7", `
Route west from larkfield to stonewick is open, for letters. First copies are still to be carried to stonewick, 1 \
snapshot in all. It runs when asked: candid route run west.
`)
	d.refuses("site addresses stonewick --add far", 2, "write host:port")
	d.refuses("site addresses stonewick --remove 10.2.0.2:7311", 2, "was not added here")
	d.refuses("site addresses mereside", 1, "mereside")
	d.refuses("site addresses mereside --add 10.2.0.2:7311", 2, "mereside is not paired")
	d.refuses("route edit west --by 10.2.0.2:7311", 2, "candid site addresses stonewick --add 10.2.0.2:7311")
	d.reads("site addresses stonewick --add localhost:1", `
stonewick is reached by localhost:1 first, when there is no line, and then where it says itself.
`)
	d.reads("site addresses stonewick", `
ADDRESS	FROM	USED BY	
localhost:1	added here		does not answer: dial tcp ADDR: connect: connection refused
ADDR	said by stonewick	the line	answers in T
`)
	d.reads("route edit west --by localhost:1", `
west, from larkfield to stonewick, is seeding. First copies are still to be carried to stonewick, 1 snapshot in \
all. It runs when asked: candid route run west.
It carries volumes with k=v, on demand, all snapshots, priority 7, by localhost:1 alone.
`)
	d.refuses("site addresses stonewick --remove localhost:1", 1, "candid route edit west --by any")
	out, _, _ := d.run("route show west")
	require.Contains(t, out, "by localhost:1 alone")
	d.run("route edit west --by any")
	d.reads("site addresses stonewick --remove localhost:1", `
stonewick is reached where it says itself: ADDR.
`)
	d.reads("route edit west --cap '5 Mbit/s' --finish-within 2h", `
west, from larkfield to stonewick, is seeding. First copies are still to be carried to stonewick, 1 snapshot in all. \
It runs when asked: candid route run west.
It carries volumes with k=v, on demand, all snapshots, priority 7, at most 5 Mbit/s, to finish within 2 h.
`)
	// A cap and a pace stand in place of each other, and an empty pace takes nothing else away.
	d.reads("route edit west --pace 'nothing on sat,sun' --pace '1 MiB/s'", `
west, from larkfield to stonewick, is seeding. First copies are still to be carried to stonewick, 1 snapshot in all. \
It runs when asked: candid route run west.
It carries volumes with k=v, on demand, all snapshots, priority 7, at its own pace (nothing on sat,sun; 1 MiB/s), to \
finish within 2 h.
`)
	d.reads("route edit west --cap '5 Mbit/s'", `
west, from larkfield to stonewick, is seeding. First copies are still to be carried to stonewick, 1 snapshot in all. \
It runs when asked: candid route run west.
It carries volumes with k=v, on demand, all snapshots, priority 7, at most 5 Mbit/s, to finish within 2 h.
`)
	d.reads("route edit west --pace ''", `
west, from larkfield to stonewick, is seeding. First copies are still to be carried to stonewick, 1 snapshot in all. \
It runs when asked: candid route run west.
It carries volumes with k=v, on demand, all snapshots, priority 7, at most 5 Mbit/s, to finish within 2 h.
`)
	d.reads("route list", `
ROUTE	FROM	TO	STATE	SENT	SAVED	
west	larkfield	stonewick	seeding	0 B	0 B	First copies are still to be carried to stonewick, 1 snapshot in all. It \
runs when asked: candid route run west.
`)
	d.reads("pace show stonewick", `
Nothing limits what is sent to stonewick at present. 0 B sent since the service started.
`)
	d.reads("pace set stonewick 'nothing between 09:00 and 10:00' '20 Mbit/s on mon-fri' --zone Europe/Lisbon", `
Towards stonewick at present: nothing, until 2026-03-02 10:00:00. 0 B sent since the service started.
  nothing between 09:00 and 10:00 (Europe/Lisbon)
  20 Mbit/s on mon-fri (Europe/Lisbon)
`)
	d.refuses("pace set stonewick '20 Mbit/s' 'nothing on sun'", 2, "put it last")
	d.refuses("pace set stonewick '20 Mbit/s at noon'", 2, `at "at"`)
	d.reads("route run west", `
0 snapshots carried; the pace lets nothing through until 2026-03-02 10:00:00, then it goes on
`)
	d.reads("route show west", `
west, from larkfield to stonewick, is waiting. It waits until 2026-03-02 10:00:00, because the pace lets nothing \
through; 1 snapshot left.
It carries volumes with k=v, on demand, all snapshots, priority 7, at most 5 Mbit/s, to finish within 2 h.
0 B came over it in all; 0 B did not have to.
VOLUME	NEWEST THERE	LAG	BACKLOG	CARRIED
letters	-	-	1	0
`)

	d.reads("crate write DIR/share/letters.crate --route west --seal", `
1 snapshot written to DIR/share/letters.crate, N B; only stonewick can open it
`)
	d.refuses("crate list DIR/share/letters.crate", 1, "sealed for another site")
	d.refuses("crate write DIR/share/letters.crate --route west", 1, "is there already")
	d.at = "stonewick"
	d.reads("crate list DIR/share/letters.crate", `
Part 1 of crate #2, written at larkfield for stonewick, 2026-03-02 09:00:00.
SNAPSHOT	VOLUME	TAKEN	HOLDS	
#3	letters@larkfield	2026-03-02 09:00:00	N KiB	
`)
	d.reads("crate load DIR/share/letters.crate", `
1 snapshot loaded
`)
	d.refuses("crate load DIR/share/gate", 2, "no such file")
	d.refuses("crate load DIR/share/index.csv", 1, "no whole crate")
	d.at = "larkfield"
	d.reads("pace set stonewick", `
Nothing limits what is sent to stonewick at present. 0 B sent since the service started.
`)
	d.reads("route run west", `
1 snapshot carried to stonewick; all of its data was there already
`)
	d.reads("route pause west", `
Route west is paused. What stonewick lacks stays owed to it, until candid route resume west.
`)
	d.refuses("route run west", 1, "is paused since")
	d.reads("route resume west", `
Route west goes on; it was paused for less than a second.
`)
	d.refuses("route resume west", 1, "is not paused")

	d.pass(2 * time.Minute)
	d.step()
	d.reads("alarm list", `
ID	SINCE	ENDED	ABOUT	
1	2026-03-02 09:02:00	still open	no policy	letters is unprotected. No policy chooses it: nothing is taken by \
itself.
Alarms go to: log, console.
`)
	d.refuses("alarm test", 1, "name a webhook or mail")
	d.reads("alarm mute 1 --for 3h", `
Alarms about no policy are not sent out before 2026-03-02 12:02:00.
`)
	d.reads("alarm mute 1 --for 0s", `
Alarms about no policy are sent out again.
`)
	d.refuses("alarm mute 77", 1, "alarm")
	d.put("share/policy", "policy: p\nvolumes: {k: v}\ntake: [every 6 hours]\n")
	d.run("policy put DIR/share/policy")
	d.pass(6 * time.Hour)
	d.step()
	d.reads("alarm list --all", `
ID	SINCE	ENDED	ABOUT	
1	2026-03-02 09:02:00	2026-03-02 15:02:00	no policy	letters is unprotected. No policy chooses it: nothing is \
taken by itself.
Alarms go to: log, console.
`)
	d.reads("place list", `
This site has one place, its own. Attach a disk: candid place attach NAME --path DIR
`)
	d.put("disk/x", "")
	d.refuses("place attach shelf --path DIR/disk", 1, "holds something else")
	require.NoError(t, os.Remove(filepath.Join(d.dir, "disk", "x")))
	d.reads("place attach shelf --path DIR/disk", `
larkfield/shelf is attached at DIR/disk, empty. Carry snapshots there: candid route add NAME --to shelf --volumes \
key=value
`)
	d.reads("route add to-shelf --to shelf --volumes k=v", `
Route to-shelf from larkfield to shelf is open, for letters. First copies are still to be carried to shelf, 2 \
snapshots in all. The next run carries them.
`)
	d.reads("route run to-shelf", `
2 snapshots carried to shelf; N KiB sent, 0 B were there already
`)
	d.reads("place list", `
PLACE		SNAPSHOTS	STORED	FREE	PATH
shelf	attached	2	N KiB	N GiB	DIR/disk
`)
	d.reads("--desk shelf snapshot list letters@larkfield", `
ID	TAKEN	SEEN UNTIL	CAUSE	SIZE	NEW	STATE	WHY
#4	2026-03-02 15:02:00	-	scheduled	N KiB	N KiB	kept	no rules for this place, everything stays; the newest complete \
snapshot here
#3	2026-03-02 09:00:00	-	by hand	N KiB	N B	kept	no rules for this place, everything stays; made by hand
`)
	d.reads("place detach shelf", `
larkfield/shelf is detached: its disk can be taken away. Routes to it wait, and what they carry stays owed.
`)
	d.run("snapshot take letters")
	d.step()
	d.reads("route list", `
ROUTE	FROM	TO	STATE	SENT	SAVED	
to-shelf	larkfield	shelf	waiting	N KiB	0 B	It waits for the disk of shelf since 2026-03-02 15:02:00: candid place \
attach shelf --path DIR. What it would carry stays owed.
west	larkfield	stonewick	behind	0 B	0 B	stonewick lacks 2 snapshots; its newest state is 6 hours 2 minutes old. It \
runs when asked: candid route run west.
`)
	d.run("route remove to-shelf")
	out, _, code := d.run("site rotate")
	require.Zero(t, code)
	require.Contains(t, out, "stonewick know it.")
	d.reads("site revoke stonewick", `
The pairing with stonewick has ended: its key lets it do nothing here any more. Snapshots that it brought stay. With \
it went 1 route.
`)
	d.reads("route list", `
No routes yet. Open one: candid route add NAME --to SITE --volumes key=value`)
}
