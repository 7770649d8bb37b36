package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

const auditPolicy = `policy: survey
volumes: {collection: herbarium}
take: [every 6 hours]
zone: Europe/Lisbon
keep:
  larkfield: {newest: 3, daily: 5}
  stonewick: {daily: 3, weekly: first 4}
milestones:
  - {name: month-end, on: monthly on last day, for: 1 year, at: [stonewick]}
objectives: {larkfield: 8 hours, stonewick: 12 hours}
grace: 1 day
`

// What a policy does is said before and after, word for word as the terminal shows it.
func TestPoliciesExplainThemselves(t *testing.T) {
	d := newDesk(t)
	d.run("volume add letters --path DIR/share --label collection=herbarium")
	d.at = "stonewick"
	inv, _, _ := d.run("site invite")
	d.at = "larkfield"
	d.run("site pair " + strings.TrimSpace(inv))
	d.run("route add west --to stonewick --volumes collection=herbarium")
	d.put("policy.yaml", auditPolicy)
	d.put("bad.yaml", "policy: survey\nvolumes: {collection: herbarium}\ntake: [daily at 23:30]\nkeep: {larkfield: "+
		"{hourly: 4, daily: often}}\n")
	d.put("few.yaml", "policy: survey\nvolumes: {collection: herbarium}\ntake: [every 6 hours]\nzone: "+
		"Europe/Lisbon\nkeep:\n  larkfield: {newest: 3}\n  stonewick: {daily: 2}\n  mereside: {daily: 60, weekly: "+
		"2}\nobjectives: {larkfield: 2 hours}\n")
	out, _, code := d.run("policy check DIR/bad.yaml")
	require.Equal(t, 2, code)
	require.Contains(t, out, `line 4, column 38: daily: "often": write how many, such as 14, or for how long`)
	require.Contains(t, out, "line 4, column 28: hourly: snapshots come only every 1 day, so it keeps the same "+
		"ones as daily")
	d.reads("policy check DIR/policy.yaml", `
survey can be stored. It chooses letters.
`)
	d.reads("policy preview DIR/policy.yaml --days 40 --from-nothing", `
On 2026-04-11 09:00:00 one could go back to:
AT	MOMENT	REACH	STEPS	SNAPSHOTS	SPACE, ABOUT	KEPT BY
larkfield	2026-04-07 17:00:00	3 days 16 hours	6	10	0 B	newest 3, daily 5
stonewick	2026-03-16 00:00:00	26 days	8	12	0 B	daily 3, weekly first 4, milestone month-end (monthly on last day) \
for 1 year
In 40 days 160 snapshots would be taken of each volume, if it changed every time.

Each moment with what keeps it, and how space grows until then: --steps
`)
	d.reads("policy preview DIR/policy.yaml --days 40 --from-nothing --steps", `
On 2026-04-11 09:00:00 one could go back to:
AT	MOMENT	REACH	STEPS	SNAPSHOTS	SPACE, ABOUT	KEPT BY
larkfield	2026-04-07 17:00:00	3 days 16 hours	6	10	0 B	newest 3, daily 5
stonewick	2026-03-16 00:00:00	26 days	8	12	0 B	daily 3, weekly first 4, milestone month-end (monthly on last day) \
for 1 year
In 40 days 160 snapshots would be taken of each volume, if it changed every time.

At larkfield, on 2026-04-11 09:00:00:
MOMENT	KEPT AS
2026-04-11 05:00:00	number 1 of the newest 3; daily 1 of 5, for 11 Apr 2026; the newest complete snapshot here
2026-04-10 23:00:00	number 2 of the newest 3
2026-04-10 17:00:00	number 3 of the newest 3; daily 2 of 5, for 10 Apr 2026
2026-04-09 17:00:00	daily 3 of 5, for 9 Apr 2026
2026-04-08 17:00:00	daily 4 of 5, for 8 Apr 2026
2026-04-07 17:00:00	daily 5 of 5, for 7 Apr 2026

BY	SNAPSHOTS	SPACE, ABOUT
2026-03-02 09:00:00	0	0 B
2026-03-12 09:00:00	10	0 B
2026-03-22 09:00:00	10	0 B
2026-04-01 09:00:00	10	0 B
2026-04-11 09:00:00	10	0 B

At stonewick, on 2026-04-11 09:00:00:
MOMENT	KEPT AS
2026-04-11 05:00:00	daily 1 of 3, for 11 Apr 2026; the newest complete snapshot here
2026-04-10 17:00:00	daily 2 of 3, for 10 Apr 2026
2026-04-09 17:00:00	daily 3 of 3, for 9 Apr 2026
2026-04-05 23:00:00	weekly (the first) 1 of 4, for week 15 of 2026
2026-03-31 17:00:00	milestone month-end, for 31 Mar 2026
2026-03-29 23:00:00	weekly (the first) 2 of 4, for week 14 of 2026
2026-03-23 00:00:00	weekly (the first) 3 of 4, for week 13 of 2026
2026-03-16 00:00:00	weekly (the first) 4 of 4, for week 12 of 2026

BY	SNAPSHOTS	SPACE, ABOUT
2026-03-02 09:00:00	0	0 B
2026-03-12 09:00:00	9	0 B
2026-03-22 09:00:00	10	0 B
2026-04-01 09:00:00	11	0 B
2026-04-11 09:00:00	12	0 B
`)
	d.reads("policy diff DIR/policy.yaml", `
survey is not stored yet.
No snapshot would expire by it.
`)
	d.reads("policy put DIR/policy.yaml", `
Policy survey is stored as version 1.
takes  every 6 hours
keeps  larkfield: newest 3, daily 5
keeps  stonewick: daily 3, weekly first 4, milestone month-end (monthly on last day) for 1 year
for    letters
`)
	d.pass(3 * time.Hour) // the next is due now
	d.step()
	for day := range 9 {
		for range 4 {
			d.pass(6 * time.Hour)
			if day == 4 {
				continue // nothing runs for a day
			}
			d.put("share/letters/daily", d.clock.Now().String())
			d.step()
		}
	}
	d.run("prune")
	d.reads("explain letters", `
Policy survey chooses it, because it has collection=herbarium.
It takes every 6 hours; next 2026-03-11 18:00:00.
At larkfield it keeps newest 3, daily 5.
At stonewick it keeps daily 3, weekly first 4, milestone month-end (monthly on last day) for 1 year.
Its newest state at larkfield may get 8 hours old.
Its newest state at stonewick may get 12 hours old.
Of its 33 snapshots here are kept: 3 as newest, 5 as daily. One may be kept for several reasons.
`)
	d.reads("explain letters --at '2026-03-11 07:00'", `
#1 answers for it: nearest before: 2026-03-11 06:00:00, 1 hour older.
It is kept here as number 2 of the newest 3.
The rules let it go about 2026-03-12 00:00:00.
stonewick has it since 2026-03-11 06:00:00; by the rules proposed to it, no rule there wants it: no longer within \
daily 3, weekly first 4.
`)
	d.reads("explain letters --at '2026-03-07 05:00'", `
#2 answers for it: nearest before: 2026-03-06 12:00:00, 17 hours older.
It is in grace until 2026-03-12 12:00:00, because: no longer within daily 5, newest 3. To keep it: candid snapshot \
recall #2
stonewick has it since 2026-03-06 12:00:00; by the rules proposed to it, no rule there wants it: no longer within \
daily 3, weekly first 4.
Between it and the moment 2 due times were missed, the last one of 2026-03-07 00:00:00: the service did not get to it \
in time: the snapshot before went on, or the host slept.
  due 2026-03-06 18:00:00: the service did not get to it in time: the snapshot before went on, or the host slept
  due 2026-03-07 00:00:00: the service did not get to it in time: the snapshot before went on, or the host slept
`)
	d.reads("explain letters --at '2026-01-01'", `
Nothing is known of letters at 2026-01-01 00:00:00: its first snapshot here is of 2026-03-02 12:00:00; ask for that \
moment or a later one.
`)
	d.reads("policy diff DIR/few.yaml", `
survey compared with version 1:
  policy: survey
  volumes: {collection: herbarium}
  take: [every 6 hours]
  zone: Europe/Lisbon
  keep:
-   larkfield: {newest: 3, daily: 5}
-   stonewick: {daily: 3, weekly: first 4}
- milestones:
-   - {name: month-end, on: monthly on last day, for: 1 year, at: [stonewick]}
- objectives: {larkfield: 8 hours, stonewick: 12 hours}
- grace: 1 day
+   larkfield: {newest: 3}
+   stonewick: {daily: 2}
+   mereside: {daily: 60, weekly: 2}
+ objectives: {larkfield: 2 hours}
! mereside is to keep copies, but no route goes there: nothing reaches it
! line 8: weekly 2 reaches no further back than daily 60, which keeps the same and more: it adds nothing
! line 9: the objective for larkfield is 2 hours, but snapshots come only every 6 hours: it will be missed between \
them
! stonewick goes on keeping what it has of letters until a person there accepts that less is kept (daily 3 becomes \
2; weekly first 4 becomes nothing; milestone month-end for 1 year goes or gets shorter): there, candid volume \
accept-rules letters@larkfield
At larkfield 4 snapshots would expire, and N KiB come back here after grace and a sweep:
  #3 of letters, taken 2026-03-10 18:00:00: no longer within newest 3
  #4 of letters, taken 2026-03-09 18:00:00: no longer within newest 3
  #5 of letters, taken 2026-03-08 18:00:00: no longer within newest 3
  #6 of letters, taken 2026-03-07 18:00:00: no longer within newest 3
At stonewick 3 snapshots would expire:
  #4 of letters, taken 2026-03-09 18:00:00: no longer within daily 2
  #7 of letters, taken 2026-03-09 00:00:00: no longer within daily 2
  #8 of letters, taken 2026-03-02 12:00:00: no longer within daily 2
`)
	d.refuses("policy put DIR/few.yaml", 1, "say --yes to accept that")
	d.reads("policy check DIR/few.yaml", `
survey can be stored. It chooses letters.
! mereside is to keep copies, but no route goes there: nothing reaches it
! line 8: weekly 2 reaches no further back than daily 60, which keeps the same and more: it adds nothing
! line 9: the objective for larkfield is 2 hours, but snapshots come only every 6 hours: it will be missed between \
them
! stonewick goes on keeping what it has of letters until a person there accepts that less is kept (daily 3 becomes \
2; weekly first 4 becomes nothing; milestone month-end for 1 year goes or gets shorter): there, candid volume \
accept-rules letters@larkfield
At larkfield 4 snapshots would expire, and N KiB come back here after grace and a sweep:
  #3 of letters, taken 2026-03-10 18:00:00: no longer within newest 3
  #4 of letters, taken 2026-03-09 18:00:00: no longer within newest 3
  #5 of letters, taken 2026-03-08 18:00:00: no longer within newest 3
  #6 of letters, taken 2026-03-07 18:00:00: no longer within newest 3
At stonewick 3 snapshots would expire:
  #4 of letters, taken 2026-03-09 18:00:00: no longer within daily 2
  #7 of letters, taken 2026-03-09 00:00:00: no longer within daily 2
  #8 of letters, taken 2026-03-02 12:00:00: no longer within daily 2
`)
	d.reads("snapshot list letters --limit 8", `
ID	TAKEN	SEEN UNTIL	CAUSE	SIZE	NEW	STATE	WHY
#9	2026-03-11 12:00:00	-	scheduled	N KiB	N B	kept	number 1 of the newest 3; daily 1 of 5, for 11 Mar 2026; the newest \
complete snapshot here
#1	2026-03-11 06:00:00	-	scheduled	N KiB	N B	kept	number 2 of the newest 3
#10	2026-03-11 00:00:00	-	scheduled	N KiB	N B	kept	number 3 of the newest 3
#3	2026-03-10 18:00:00	-	scheduled	N KiB	N B	kept	daily 2 of 5, for 10 Mar 2026
#11	2026-03-10 12:00:00	-	scheduled	N KiB	N B	in grace until 2026-03-12 12:00:00	no longer within daily 5, newest 3
#12	2026-03-10 06:00:00	-	scheduled	N KiB	N B	in grace until 2026-03-12 12:00:00	no longer within daily 5, newest 3
#13	2026-03-10 00:00:00	-	scheduled	N KiB	N B	in grace until 2026-03-12 12:00:00	no longer within daily 5, newest 3
#4	2026-03-09 18:00:00	-	scheduled	N KiB	N B	kept	daily 3 of 5, for 9 Mar 2026
`)
	d.reads("snapshot keep #1 --reason 'audit of 2026' --until 2031-01-01", `
#1 of letters is kept, until 2031-01-01 00:00:00.
`)
	d.refuses("snapshot remove #1", 1, "is marked to keep: audit of 2026")
	d.refuses("snapshot keep #1 --reason ''", 2, "needs a reason")
	d.reads("snapshot show #1", `
snapshot     #1
volume       letters, from larkfield, term 1 sequence 32
taken        2026-03-11 06:00:00 to 2026-03-11 06:00:00 (spread: files may have changed while others were read)
seen until   -
cause        scheduled
holds        3 files, 2 directories, 0 others, N KiB
space        needs N B in the store; N B would come back if only it went
keep mark    audit of 2026 (until 2031-01-01 00:00:00)
kept as      number 2 of the newest 3
kept as      marked to keep: audit of 2026
until about  2031-01-01 00:00:00
carried to   stonewick
`)
	d.reads("policy put DIR/few.yaml --yes", `
Policy survey is stored as version 2.
takes  every 6 hours
keeps  larkfield: newest 3
keeps  mereside: daily 60, weekly 2
keeps  stonewick: daily 2
for    letters
! mereside is to keep copies, but no route goes there: nothing reaches it
! line 8: weekly 2 reaches no further back than daily 60, which keeps the same and more: it adds nothing
! line 9: the objective for larkfield is 2 hours, but snapshots come only every 6 hours: it will be missed between \
them
! stonewick goes on keeping what it has of letters until a person there accepts that less is kept (daily 3 becomes \
2; weekly first 4 becomes nothing; milestone month-end for 1 year goes or gets shorter): there, candid volume \
accept-rules letters@larkfield
`)
	d.reads("policy history survey", `
VERSION	WHEN	WHO	WHAT
2	2026-03-11 12:00:00	the host's administrator	changed
1	2026-03-02 09:00:00	the host's administrator	made
`)
	d.reads("policy history survey --version 1", `
policy: survey
volumes: {collection: herbarium}
take: [every 6 hours]
zone: Europe/Lisbon
keep:
  larkfield: {newest: 3, daily: 5}
  stonewick: {daily: 3, weekly: first 4}
milestones:
  - {name: month-end, on: monthly on last day, for: 1 year, at: [stonewick]}
objectives: {larkfield: 8 hours, stonewick: 12 hours}
grace: 1 day
`)
	d.reads("snapshot let-go #1", `
#1 of letters has no keep mark any more. It stays as number 2 of the newest 3.
`)
	d.refuses("snapshot let-go #1", 1, "has no keep mark")
	d.reads("space", `
VOLUME	SNAPSHOTS	FILES	NEEDS	ITS OWN	ADDED A DAY	BACK IN 30 DAYS
letters	33	N KiB	N KiB	N KiB	N KiB	N KiB
It was not watched long enough yet to foresee when it is full: that takes two days.
`)
	d.reads("space letters", `
Its 33 snapshots here need N KiB, and all of that would come back if all of them went.
The newest state of N KiB takes N B stored. Lately snapshots add N KiB a day.
Within 7 days N KiB come back by themselves, when 32 snapshots go by the rules and a sweep follows.
WITHIN	BY	SNAPSHOTS GO	COMES BACK
1 day	2026-03-12 12:00:00	0	0 B
7 days	2026-03-18 12:00:00	32	N KiB
30 days	2026-04-10 12:00:00	32	N KiB
90 days	2026-06-09 12:00:00	32	N KiB
365 days	2027-03-11 12:00:00	32	N KiB
`)
	d.reads("space if-removed #1 #2", `
ID	VOLUME	TAKEN	BACK IF ONLY IT WENT
#1	letters	2026-03-11 06:00:00	N B
#2	letters	2026-03-06 12:00:00	N B
Removing 2 snapshots would give back N B after grace and a sweep.
`)
	d.reads("report objectives --since 2026-03-01", `
larkfield, from 2026-03-01 00:00:00 to 2026-03-11 12:00:00, by the objectives as they are now
VOLUME	PLACE	OBJECTIVE	ON TARGET	LATE	TIMES	UNPROTECTED	PAUSED	GAPS	OLDEST IT GOT
letters	larkfield	2 h	29.22 %	6 days	32	3 h	-	4	30 h, 2026-03-07 18:00:00
letters	stonewick	-	98.63 %	-	0	3 h	-	0	30 h, 2026-03-07 18:00:00

letters was late at larkfield from 2026-03-02 14:00:00 to 2026-03-02 18:00:00
letters was late at larkfield from 2026-03-02 20:00:00 to 2026-03-03 00:00:00
letters was late at larkfield from 2026-03-03 02:00:00 to 2026-03-03 06:00:00
letters was late at larkfield from 2026-03-03 08:00:00 to 2026-03-03 12:00:00
letters was late at larkfield from 2026-03-03 14:00:00 to 2026-03-03 18:00:00
letters was late at larkfield from 2026-03-03 20:00:00 to 2026-03-04 00:00:00
letters was late at larkfield from 2026-03-04 02:00:00 to 2026-03-04 06:00:00
letters was late at larkfield from 2026-03-04 08:00:00 to 2026-03-04 12:00:00
letters was late at larkfield from 2026-03-04 14:00:00 to 2026-03-04 18:00:00
letters was late at larkfield from 2026-03-04 20:00:00 to 2026-03-05 00:00:00
letters was late at larkfield from 2026-03-05 02:00:00 to 2026-03-05 06:00:00
letters was late at larkfield from 2026-03-05 08:00:00 to 2026-03-05 12:00:00
letters was late at larkfield from 2026-03-05 14:00:00 to 2026-03-05 18:00:00
letters was late at larkfield from 2026-03-05 20:00:00 to 2026-03-06 00:00:00
letters was late at larkfield from 2026-03-06 02:00:00 to 2026-03-06 06:00:00
letters was late at larkfield from 2026-03-06 08:00:00 to 2026-03-06 12:00:00
letters was late at larkfield from 2026-03-06 14:00:00 to 2026-03-07 18:00:00
letters was late at larkfield from 2026-03-07 20:00:00 to 2026-03-08 00:00:00
letters was late at larkfield from 2026-03-08 02:00:00 to 2026-03-08 06:00:00
letters was late at larkfield from 2026-03-08 08:00:00 to 2026-03-08 12:00:00
letters was late at larkfield from 2026-03-08 14:00:00 to 2026-03-08 18:00:00
letters was late at larkfield from 2026-03-08 20:00:00 to 2026-03-09 00:00:00
letters was late at larkfield from 2026-03-09 02:00:00 to 2026-03-09 06:00:00
letters was late at larkfield from 2026-03-09 08:00:00 to 2026-03-09 12:00:00
letters was late at larkfield from 2026-03-09 14:00:00 to 2026-03-09 18:00:00
letters was late at larkfield from 2026-03-09 20:00:00 to 2026-03-10 00:00:00
letters was late at larkfield from 2026-03-10 02:00:00 to 2026-03-10 06:00:00
letters was late at larkfield from 2026-03-10 08:00:00 to 2026-03-10 12:00:00
letters was late at larkfield from 2026-03-10 14:00:00 to 2026-03-10 18:00:00
letters was late at larkfield from 2026-03-10 20:00:00 to 2026-03-11 00:00:00
… and 2 more times; --json lists all
4 due times were missed; the last one of letters due 2026-03-07 12:00:00: the service did not get to it in time: the \
snapshot before went on, or the host slept
`)
	d.reads("report objectives --since 2026-03-01 --csv DIR/report.csv", `
DIR/report.csv: 2 rows.
`)
	raw, err := os.ReadFile(filepath.Join(d.dir, "report.csv"))
	require.NoError(t, err)
	require.Contains(t, string(raw), "larkfield,letters,stonewick,2026-03-01T00:00:00Z,2026-03-11T12:00:00Z,")
	d.reads("volume pause letters", `
letters is paused: nothing is taken of it and nothing it has here expires, until candid volume resume letters.
`)
	d.reads("status", `
larkfield, 2026-03-11 12:00:00 UTC
  The one volume is paused.
  letters is paused since 2026-03-11 12:00:00: nothing is taken, and nothing it has here expires.
    Go on: candid volume resume letters

VOLUME	PLACE	STATE	NEWEST STATE	AGE	OBJECTIVE	BACKLOG
letters	larkfield	paused	2026-03-11 12:00:00	0 s	2 h	0
letters	stonewick	paused	2026-03-11 12:00:00	0 s	-	0
Store: N KiB in 33 snapshots, N free
`)
	d.pass(48 * time.Hour)
	d.step()
	d.reads("prune --dry-run", `
ID	VOLUME	TAKEN	WHAT	WHY
#11	letters	2026-03-10 12:00:00	stays	kept again as paused, nothing is let go meanwhile
#12	letters	2026-03-10 06:00:00	stays	kept again as paused, nothing is let go meanwhile
#13	letters	2026-03-10 00:00:00	stays	kept again as paused, nothing is let go meanwhile
#14	letters	2026-03-09 12:00:00	stays	kept again as paused, nothing is let go meanwhile
#15	letters	2026-03-09 06:00:00	stays	kept again as paused, nothing is let go meanwhile
#7	letters	2026-03-09 00:00:00	stays	kept again as paused, nothing is let go meanwhile
#16	letters	2026-03-08 12:00:00	stays	kept again as paused, nothing is let go meanwhile
#17	letters	2026-03-08 06:00:00	stays	kept again as paused, nothing is let go meanwhile
#18	letters	2026-03-08 00:00:00	stays	kept again as paused, nothing is let go meanwhile
#2	letters	2026-03-06 12:00:00	stays	kept again as paused, nothing is let go meanwhile
#19	letters	2026-03-06 06:00:00	stays	kept again as paused, nothing is let go meanwhile
#20	letters	2026-03-06 00:00:00	stays	kept again as paused, nothing is let go meanwhile
#21	letters	2026-03-05 18:00:00	stays	kept again as paused, nothing is let go meanwhile
#22	letters	2026-03-05 12:00:00	stays	kept again as paused, nothing is let go meanwhile
#23	letters	2026-03-05 06:00:00	stays	kept again as paused, nothing is let go meanwhile
#24	letters	2026-03-05 00:00:00	stays	kept again as paused, nothing is let go meanwhile
#25	letters	2026-03-04 18:00:00	stays	kept again as paused, nothing is let go meanwhile
#26	letters	2026-03-04 12:00:00	stays	kept again as paused, nothing is let go meanwhile
#27	letters	2026-03-04 06:00:00	stays	kept again as paused, nothing is let go meanwhile
#28	letters	2026-03-04 00:00:00	stays	kept again as paused, nothing is let go meanwhile
#29	letters	2026-03-03 18:00:00	stays	kept again as paused, nothing is let go meanwhile
#30	letters	2026-03-03 12:00:00	stays	kept again as paused, nothing is let go meanwhile
#31	letters	2026-03-03 06:00:00	stays	kept again as paused, nothing is let go meanwhile
#32	letters	2026-03-03 00:00:00	stays	kept again as paused, nothing is let go meanwhile
#33	letters	2026-03-02 18:00:00	stays	kept again as paused, nothing is let go meanwhile
#8	letters	2026-03-02 12:00:00	stays	kept again as paused, nothing is let go meanwhile
0 would enter grace, 0 would be removed, 26 kept again. A sweep would then give back 0 B; 0 B more when those entering \
grace are removed too.
`)
	d.reads("volume resume letters", `
letters goes on; it was paused for 2 days. Its next snapshot is due 2026-03-13 18:00:00.
`)
	d.refuses("volume resume letters", 1, "is not paused")

	// Out to one file and back changes nothing.
	d.put("other.yaml", "policy: other\nvolumes: {names: [letters]}\nkeep: {larkfield: {yearly: 3}}\npaused: true\n")
	d.run("policy put DIR/other.yaml")
	all, _, _ := d.run("policy export")
	d.put("all.yaml", all)
	d.reads("policy put DIR/all.yaml", `
Policy other is stored as version 2.
! It is paused: nothing is taken, and nothing expires.
keeps  larkfield: yearly 3
for    letters
Policy survey is stored as version 2.
takes  every 6 hours
keeps  larkfield: newest 3
keeps  mereside: daily 60, weekly 2
keeps  stonewick: daily 2
for    letters
! mereside is to keep copies, but no route goes there: nothing reaches it
! line 8: weekly 2 reaches no further back than daily 60, which keeps the same and more: it adds nothing
! line 9: the objective for larkfield is 2 hours, but snapshots come only every 6 hours: it will be missed between them
`)
	again, _, _ := d.run("policy export")
	require.Equal(t, all, again)
	d.reads("explain letters", `
Policy other chooses it by name.
Policy other is paused: it takes nothing, and what it chooses does not expire.
Policy survey chooses it, because it has collection=herbarium.
It takes every 6 hours; next 2026-03-13 18:00:00.
With 2 policies, the cadences of all apply and what any of them keeps is kept; the longest grace counts (1 day), the \
strictest objective, and unchanged states are skipped only if all of them skip.
At larkfield it keeps yearly 3, and newest 3.
At mereside everything stays: other has no rules for it, and what any policy keeps is kept.
At stonewick everything stays: other has no rules for it, and what any policy keeps is kept.
Its newest state at larkfield may get 2 hours old.
Of its 33 snapshots here are kept: 3 as newest, 1 as yearly, 33 as paused. One may be kept for several reasons.
`)

	// Labels choose; what a change of them changes is said first.
	d.put("strict.yaml", "policy: strict\nvolumes: {kind: loan}\ntake: [weekly on sun at 02:00]\nkeep: {larkfield: "+
		"{newest: 1}, stonewick: {newest: 1}}\n")
	d.run("policy put DIR/strict.yaml")
	d.refuses("policy remove other", 1, "snapshots would expire that other policies do not keep")
	d.reads("policy remove other --yes", `
Policy other is gone.
`)
	d.reads("volume label letters kind=gift --dry-run", `
letters would have the labels collection=herbarium kind=gift.
  Nothing else changes by it.
`)
	d.refuses("volume label letters kind=loan --drop collection", 1, "nothing was changed: with these labels")
	d.refuses("volume label letters --drop colour", 2, `has no label "colour"`)
	d.refuses("volume label letters", 2, "give labels to set")
	d.reads("volume label letters kind=loan --drop collection --yes", `
letters has the labels kind=loan.
  Policy strict chooses it.
  Policy survey no longer chooses it.
  Route west no longer carries it; what it carried stays at stonewick.
At larkfield 2 snapshots would expire, and N B come back here after grace and a sweep:
  #1 of letters, taken 2026-03-11 06:00:00: no longer within newest 1
  #10 of letters, taken 2026-03-11 00:00:00: no longer within newest 1
`)
	d.reads("volume label letters --drop kind", `
letters has no labels.
  Policy strict no longer chooses it.
  No policy chooses it: nothing is taken by itself, and everything it has stays.`)
}
