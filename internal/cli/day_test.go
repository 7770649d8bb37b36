package cli

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// An administrator's first days, word for word as the terminal shows them.
func TestFirstDays(t *testing.T) {
	d := newDesk(t)
	d.reads("status", `
larkfield, 2026-03-02 09:00:00 UTC
  Nothing is protected yet.
    Begin: candid begin
Store: 0 B in 0 snapshots, N free
`)
	d.reads("volume list", `
No volumes yet. Add one: candid volume add NAME --path DIR
`)
	d.reads("volume add letters --path DIR/share --label collection=herbarium", `
letters protects DIR/share: 2 files, 2 directories and 0 other entries, N KiB, on FS.
The first snapshot needs at most N KiB; N are free in the store.
! The store and the volume are on the same filesystem: if that disk fails, both are lost. Open a route to another \
site, or move DIR/larkfield to another disk.
! No policy chooses this volume yet: nothing is taken by itself.
Take the first snapshot now: candid snapshot take letters
`)
	d.reads("snapshot list letters", `
No snapshots yet. Take one: candid snapshot take letters
`)
	d.reads("snapshot take letters --note 'before the move'", `
snapshot #1: 2 files, N KiB, of which N B were new in the store
`)
	d.put("policy.yaml", policyText)
	d.reads("policy put DIR/policy.yaml", `
Policy survey is stored as version 1.
takes  daily at 23:30
keeps  larkfield: daily 2, by hand for 30 days
keeps  stonewick: daily 30
for    letters
! stonewick is to keep copies, but no route goes there: nothing reaches it
`)
	d.reads("policy list", `
POLICY	VERSION	CHANGED	TAKES	KEEPS	VOLUMES
survey	1	2026-03-02 09:00:00	daily at 23:30	larkfield: daily 2, by hand for 30 days; stonewick: daily 30	letters
`)
	d.reads("policy show survey", `
policy: survey
volumes: {collection: herbarium}
take: [daily at 23:30]
keep:
  larkfield: {daily: 2, by_hand: 30 days}
  stonewick: {daily: 30}
objectives: {larkfield: 30 hours, stonewick: 2 days}
# version 1, changed 2026-03-02 09:00:00 by the host's administrator; chooses: letters
`)
	d.pass(15 * time.Hour)
	d.put("share/letters/to-kew", "Dear colleague,\nthe sheets are on their way.\n")
	d.step()
	d.reads("snapshot list letters", `
ID	TAKEN	SEEN UNTIL	CAUSE	SIZE	NEW	STATE	WHY
#2	2026-03-03 00:00:00	-	scheduled	N KiB	N B	kept	daily 1 of 2, for 3 Mar 2026; the newest complete snapshot here
#1	2026-03-02 09:00:00	-	by hand	N KiB	N B	kept	made by hand
`)
	d.reads("snapshot show #2", `
snapshot     #2
volume       letters, from larkfield, term 1 sequence 2
taken        2026-03-03 00:00:00 to 2026-03-03 00:00:00 (spread: files may have changed while others were read)
seen until   -
cause        scheduled
holds        2 files, 2 directories, 0 others, N KiB
space        needs N B in the store; N B would come back if only it went
kept as      daily 1 of 2, for 3 Mar 2026
kept as      the newest complete snapshot here
`)
	d.reads("browse letters", `
letters/ as of snapshot #2: the newest snapshot, taken 2026-03-03 00:00:00.
MODE	OWNER	SIZE	MODIFIED	NAME
0644	0:0	N KiB	2026-03-02 09:00:00	index.csv
0755	0:0	1 entry	2026-03-03 00:00:00	letters/
`)
	d.reads("browse letters letters/to-kew --at '2026-03-02 09:30'", `
letters/letters/to-kew as of snapshot #1: nearest before: 2026-03-02 09:00:00, 30 minutes older.
MODE	OWNER	SIZE	MODIFIED	NAME
0644	0:0	16 B	2026-03-02 09:00:00	to-kew
`)
	d.reads("volume list", `
VOLUME	PROTECTION	SNAPSHOTS	NEWEST STATE	NEXT DUE	POLICIES	LABELS	PATH
letters	on target	2	2026-03-03 00:00:00	2026-03-03 23:30:00	survey	collection=herbarium	DIR/share
`)
	d.reads("volume show letters", `
letters is on target. Its newest state is less than a second old.
path         DIR/share (at larkfield)
labels       collection=herbarium
policies     survey
snapshots    2 kept, 0 in grace
last size    2 files, N KiB
next due     2026-03-03 23:30:00
changes      found by looking at everything
at larkfield on target; newest state 2026-03-03 00:00:00; backlog 0
`)

	d.reads("route list", `
No routes yet. Open one: candid route add NAME --to SITE --volumes key=value
`)
	d.at = "stonewick"
	inv, hint, _ := d.run("site invite")
	require.Contains(t, hint, "Use it once at the other site, before 2026-03-03 01:00:00")
	inv = strings.TrimSpace(inv)
	d.at = "larkfield"
	d.ids[inv] = "INVITATION"
	d.reads("site pair INVITATION", `
Paired with stonewick at ADDR.
Here stonewick may: bring snapshots, look at it. There this site may: bring snapshots, look at it.
Carry snapshots there: candid route add NAME --to stonewick --volumes key=value
`)
	d.refuses("site pair INVITATION", 1, "used already")
	d.reads("site list", `
SITE		KEY	ADDRESSES	LAST SEEN	RELEASE	ROOM	IT MAY HERE	THIS SITE MAY THERE
larkfield	this site	#4	ADDR	-	unknown	-		
stonewick	no line	#5	ADDR	2026-03-03 00:00:00	-	-	bring snapshots, look at it	bring snapshots, look at \
it
`)
	d.reads("site check stonewick", `
stonewick answers at ADDR with the paired key, in T. It lets this site bring snapshots, look at it.
`)
	d.reads("route add west --to stonewick --volumes collection=herbarium", `
Route west from larkfield to stonewick is open, for letters. First copies are still to be carried to stonewick, 2 \
snapshots in all. The next run carries them.
`)
	d.reads("route run west", `
2 snapshots carried to stonewick; N B sent, 0 B were there already
`)
	d.reads("route show west", `
west, from larkfield to stonewick, is current. stonewick has everything it wants; its newest state is less than a \
second old.
It carries volumes with collection=herbarium, after every snapshot, of what the rules there keep.
N B came over it in all; 0 B did not have to.
VOLUME	NEWEST THERE	LAG	BACKLOG	CARRIED
letters	2026-03-03 00:00:00	0 s	0	2
LAST RUNS	SENT	RATE	TOOK	LEFT
2026-03-03 00:00:00	N B	N/s	T s	0
`)
	d.reads("status", `
larkfield, 2026-03-03 00:00:00 UTC
  The one volume is on target.

VOLUME	PLACE	STATE	NEWEST STATE	AGE	OBJECTIVE	BACKLOG
letters	larkfield	on target	2026-03-03 00:00:00	0 s	30 h	0
letters	stonewick	on target	2026-03-03 00:00:00	0 s	2 days	0

Next: snapshot of letters at 2026-03-03 23:30:00
Store: N B in 2 snapshots, N free
`)
	d.at = "stonewick"
	d.reads("snapshot list letters@larkfield", `
ID	TAKEN	SEEN UNTIL	CAUSE	SIZE	NEW	STATE	WHY
#2	2026-03-03 00:00:00	-	scheduled	N KiB	N B	kept	daily 1 of 30, for 3 Mar 2026; the newest complete snapshot here
#1	2026-03-02 09:00:00	-	by hand	N KiB	N B	kept	made by hand
`)
	d.at = "larkfield"

	for day := range 4 {
		d.pass(24 * time.Hour)
		d.put("share/letters/daily", string(rune('a'+day)))
		d.step()
	}
	d.reads("prune --dry-run", `
ID	VOLUME	TAKEN	WHAT	WHY
#6	letters	2026-03-05 00:00:00	enters grace	no longer within daily 2
#7	letters	2026-03-04 00:00:00	enters grace	no longer within daily 2
#2	letters	2026-03-03 00:00:00	enters grace	no longer within daily 2
3 would enter grace, 0 would be removed, 0 kept again. A sweep would then give back 0 B; N KiB more when those \
entering grace are removed too.
`)
	d.reads("prune", `
3 entered grace
`)
	d.reads("snapshot list letters", `
ID	TAKEN	SEEN UNTIL	CAUSE	SIZE	NEW	STATE	WHY
#8	2026-03-07 00:00:00	-	scheduled	N KiB	N B	kept	daily 1 of 2, for 7 Mar 2026; the newest complete snapshot here
#9	2026-03-06 00:00:00	-	scheduled	N KiB	N B	kept	daily 2 of 2, for 6 Mar 2026
#6	2026-03-05 00:00:00	-	scheduled	N KiB	N B	in grace until 2026-03-08 00:00:00	no longer within daily 2
#7	2026-03-04 00:00:00	-	scheduled	N KiB	N B	in grace until 2026-03-08 00:00:00	no longer within daily 2
#2	2026-03-03 00:00:00	-	scheduled	N KiB	N B	in grace until 2026-03-08 00:00:00	no longer within daily 2
#1	2026-03-02 09:00:00	-	by hand	N KiB	N B	kept	made by hand
`)
	d.reads("snapshot recall #2", `
#2 of letters is kept: recalled from grace, until about 2026-04-06 00:00:00.
`)
	d.reads("snapshot remove #8", `
#8 of letters is in grace until 2026-03-08 00:00:00. Until then it can be had back: candid snapshot recall #8
`)
	d.refuses("snapshot remove #8", 1, "is in grace already")
	d.reads("store usage", `
larkfield: N KiB stored in 0 packs, 19 objects, 6 snapshots; 0 B wait to be given back by a sweep; N are free.
VOLUME	SNAPSHOTS	NEEDS	BACK IF ALL WENT
letters	6	N KiB	N KiB
`)
	d.reads("store sweep", `
0 objects nobody needs; 0 B given back, 0 B wait in packs that are mostly needed
`)
	d.reads("store verify", `
19 objects, N KiB, 6 snapshots: all as written
`)

	d.reads("restore letters letters --at '2026-03-03 12:00' --to DIR/back --dry-run", `
From snapshot #2 of letters (nearest before: 2026-03-03 00:00:00, 12 hours older) to DIR/back:
  create   letters
  create   letters/to-kew
2 created; 45 B to write, N are free. Nothing was changed: this is what would be done.
`)
	d.reads("restore letters letters --at '2026-03-03 12:00' --to DIR/back", `
2 created; 45 B in T: letters as of 2026-03-03 00:00:00 in DIR/back
`)
	d.reads("restore letters --at latest --to DIR/back --on-conflict skip", `
2 created, 1 the same already; N KiB in T: letters as of 2026-03-07 00:00:00 in DIR/back
`)
	d.put("share/letters/to-kew", "spoilt")
	d.reads("restore letters --at latest --in-place --dry-run", `
From snapshot #8 of letters (the newest snapshot, taken 2026-03-07 00:00:00) to DIR/share:
  replace  letters/to-kew
1 replaced, 3 the same already; 45 B to write, N are free. Nothing was changed: this is what would be done.
`)
	d.reads("restore letters letters/to-kew --at latest --in-place", `
1 replaced; 45 B in T: letters as of 2026-03-07 00:00:00 in DIR/share
To take it back: candid undo 17; what was there before is in the safety snapshot #10
`)
	d.reads("restore letters letters --at latest --tar DIR/letters.tar", `
DIR/letters.tar: N KiB.
`)
	d.reads("run list", `
RUN	QUEUED	KIND	OF	STATE	ASKED BY	OUTCOME
17	2026-03-07 00:00:00	restore	letters	done	the host's administrator	1 replaced; 45 B in T: letters as of \
2026-03-07 00:00:00 in DIR/share
16	2026-03-07 00:00:00	restore	letters	done	the host's administrator	2 created, 1 the same already; N KiB in T: \
letters as of 2026-03-07 00:00:00 in DIR/back
15	2026-03-07 00:00:00	restore	letters	done	the host's administrator	2 created; 45 B in T: letters as of 2026-03-03 \
00:00:00 in DIR/back
14	2026-03-07 00:00:00	verify	larkfield	done	the host's administrator	19 objects, N KiB, 6 snapshots: all as \
written
13	2026-03-07 00:00:00	sweep	larkfield	done	the host's administrator	0 objects nobody needs; 0 B given back, 0 B \
wait in packs that are mostly needed
12	2026-03-07 00:00:00	prune	larkfield	done	the host's administrator	3 entered grace
11	2026-03-07 00:00:00	carry	west	done	the schedule	1 snapshot carried to stonewick; N B sent, 0 B were there \
already
10	2026-03-07 00:00:00	snapshot	letters	done	the schedule	snapshot #8: 3 files, N KiB, of which N B were new in the \
store
9	2026-03-06 00:00:00	carry	west	done	the schedule	1 snapshot carried to stonewick; N B sent, 0 B were there \
already
8	2026-03-06 00:00:00	snapshot	letters	done	the schedule	snapshot #9: 3 files, N KiB, of which N B were new in the \
store
7	2026-03-05 00:00:00	carry	west	done	the schedule	1 snapshot carried to stonewick; N B sent, 0 B were there \
already
6	2026-03-05 00:00:00	snapshot	letters	done	the schedule	snapshot #6: 3 files, N KiB, of which N B were new in the \
store
5	2026-03-04 00:00:00	carry	west	done	the schedule	1 snapshot carried to stonewick; N B sent, 0 B were there \
already
4	2026-03-04 00:00:00	snapshot	letters	done	the schedule	snapshot #7: 3 files, N KiB, of which N B were new in the \
store
3	2026-03-03 00:00:00	carry	west	done	the host's administrator	2 snapshots carried to stonewick; N B sent, 0 B were \
there already
2	2026-03-03 00:00:00	snapshot	letters	done	the schedule	snapshot #2: 2 files, N KiB, of which N B were new in the \
store
1	2026-03-02 09:00:00	snapshot	letters	done	the host's administrator	snapshot #1: 2 files, N KiB, of which N B were \
new in the store
`)
	d.reads("run show 1", `
run 1: snapshot of letters, asked by the host's administrator
state    done
queued   2026-03-02 09:00:00, began 2026-03-02 09:00:00, ended 2026-03-02 09:00:00
outcome  snapshot #1: 2 files, N KiB, of which N B were new in the store
`)
	token, _, _ := d.run("--json token add desk")
	require.Regexp(t, `"text": "cht_[0-9a-f]{48}"`, token)
	d.refuses("token add night --until yesterday-ish", 2, `"yesterday-ish" is not a time`)
	d.refuses("token add desk", 1, `there is a token "desk" already`)
	d.reads("token list", `
TOKEN	PERSON	MADE	ENDS
desk	-	2026-03-07 00:00:00	when removed
first	-	2026-03-02 09:00:00	2026-03-09 09:00:00
`)
	d.reads("volume remove letters", `
letters is no longer protected. What it has here, 7 snapshots, stays until you remove it with: candid snapshot \
remove ID
`)
	d.reads("policy remove survey", `
Policy survey is gone. No policy chooses letters any more: nothing is taken of them, and what they have stays.
`)
	d.reads("status", `
larkfield, 2026-03-07 00:00:00 UTC
  Nothing is protected any more; what was taken of removed volumes stays.
    Add a volume: candid volume add NAME --path DIR

VOLUME	PLACE	STATE	NEWEST STATE	AGE	OBJECTIVE	BACKLOG
letters	larkfield	unprotected	2026-03-07 00:00:00	0 s	-	0
letters	stonewick	unprotected	2026-03-07 00:00:00	0 s	-	0
Store: N KiB in 7 snapshots, N free
`)
}

const policyText = `policy: survey
volumes: {collection: herbarium}
take: [daily at 23:30]
keep:
  larkfield: {daily: 2, by_hand: 30 days}
  stonewick: {daily: 30}
objectives: {larkfield: 30 hours, stonewick: 2 days}
`
