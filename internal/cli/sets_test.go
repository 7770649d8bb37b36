package cli

import (
	"testing"
	"time"
)

// Volumes that belong together, and bounds, word for word as the terminal shows them.
func TestSetsAndBounds(t *testing.T) {
	d := newDesk(t)
	d.put("books/ledger", "1931: 12 sheets\n")
	d.run("volume add letters --path DIR/share --label k=v")
	d.run("volume add books --path DIR/books --label k=v")
	d.reads("group list", `
No groups yet. Volumes that belong together: candid group put NAME VOLUME VOLUME
`)
	d.refuses("group put archive letters", 2, "takes NAME VOLUME VOLUME..., and 2 were given")
	d.refuses("group put archive letters nothing", 1, `volume "nothing"`)
	d.refuses("group put archive letters books --freeze hold", 2,
		`hook "hold" is not in site.yaml (it defines free, keep)`)
	d.refuses("group put archive letters books --freeze keep --failing perhaps", 2, "failing")
	d.reads("group put archive letters books --freeze keep --thaw free", `
archive: books, letters are taken as one set.
writers      held by keep, let go by free, no set if that fails
No set yet. The next comes when one of its volumes is due, or with: candid snapshot take books
`)
	d.reads("snapshot take books", `
a set of 2 volumes of archive: 3 files, N KiB, of which N B were new in the store
`)
	d.pass(3 * time.Hour)
	d.reads("group show archive", `
archive: books, letters are taken as one set.
writers      held by keep, let go by free, no set if that fails
newest set   2026-03-02 09:00:00, quiesced
  #1  books
  #2  letters
`)
	d.reads("group list", `
GROUP	VOLUMES	WRITERS	NEWEST SET
archive	books, letters	held by keep, let go by free, no set if that fails	2026-03-02 09:00:00
`)
	d.reads("volume show letters", `
letters is unprotected. No policy chooses it: nothing is taken by itself.
path         DIR/share (at larkfield)
labels       k=v
policies     
snapshots    1 kept, 0 in grace
last size    2 files, N KiB
next due     -
group        archive: it is taken with that group's other volumes, as one set
changes      found by looking at everything
at larkfield unprotected; newest state 2026-03-02 09:00:00; backlog 0
`)
	d.reads("snapshot show #1", `
snapshot     #1
volume       books, from larkfield, term 1 sequence 1
taken        2026-03-02 09:00:00 to 2026-03-02 09:00:00 (quiesced: its writers were held for the whole reading)
seen until   -
cause        by hand
set          of the group archive; the whole set is kept, removed and recalled together
holds        1 file, 1 directory, 0 others, 16 B
space        needs N B in the store; N B would come back if only it went
kept as      no rules for this place, everything stays
kept as      made by hand
kept as      the newest complete snapshot here
`)
	d.refuses("volume remove letters", 1, "volume letters is in the group archive: take it out there first")
	d.run("volume pause books")
	d.reads("group show archive", `
archive: books, letters are taken as one set.
writers      held by keep, let go by free, no set if that fails
It waits: books is paused, and a set is whole or not at all. To go on: candid volume resume books
newest set   2026-03-02 09:00:00, quiesced
  #1  books
  #2  letters
`)
	d.run("volume resume books")
	d.reads("snapshot remove #1", `
#1 of books is in grace until 2026-03-03 12:00:00. Until then it can be had back: candid snapshot recall #1
The rest of its set, of the group archive, went with it and comes back with it.
`)
	d.reads("snapshot list letters", `
ID	TAKEN	SEEN UNTIL	CAUSE	SIZE	NEW	STATE	WHY
#2	2026-03-02 09:00:00	-	by hand	N KiB	N B	in grace until 2026-03-03 12:00:00	removed by hand
`)
	d.reads("group remove archive", `
The group archive is dissolved: books, letters are taken each for itself. Its sets stay sets.
`)
	d.refuses("group show archive", 1, `group "archive"`)

	d.reads("cap list", `
No caps. To bound what a volume may take: candid cap put volume NAME --bytes "10 GiB"
`)
	d.refuses("cap put volume letters", 2, "the cap of volume letters bounds nothing")
	d.refuses("cap put volume letters --bytes 'ten GiB'", 2, `size "ten GiB"`)
	d.refuses("cap put attic letters --snapshots 3", 2, "scope")
	d.refuses("cap put volume letters --snapshots 3 --reached explode", 2, "reached")
	d.reads("cap put volume books --snapshots 1 --bytes '1 GiB'", `
volume books: At most 1 snapshot and N GiB; there are 0 snapshots with 0 B of their own. When it is reached nothing \
more is taken.
`)
	d.run("snapshot take books")
	d.refuses("snapshot take books", 1, "the cap of volume books is reached")
	d.reads("cap put place larkfield --snapshots 200 --reached 'oldest goes'", `
place larkfield: At most 200 snapshots; there is 1 snapshot. Beyond it the oldest enter grace, except those marked to \
keep, under the floor, owed, and the newest.
`)
	d.reads("cap list", `
CAP OF	NAME	SNAPSHOTS	THEIR OWN BYTES	WHEN REACHED
place	larkfield	1 of 200	0 B	oldest goes
volume	books	1 of 1	0 B of N GiB	stop taking
`)
	d.reads("space", `
VOLUME	SNAPSHOTS	FILES	NEEDS	ITS OWN	ADDED A DAY	BACK IN 30 DAYS
books	2	16 B	N B	N B	0 B	0 B
letters	1	N KiB	N B	N B	0 B	N B
It was not watched long enough yet to foresee when it is full: that takes two days.
Cap of place larkfield: At most 200 snapshots; there is 1 snapshot. Beyond it the oldest enter grace, except those \
marked to keep, under the floor, owed, and the newest.
Cap of volume books: At most 1 snapshot and N GiB; there is 1 snapshot with 0 B of its own. Nothing more is taken \
until it goes.
`)
	d.reads("status", `
larkfield, 2026-03-02 12:00:00 UTC
  None of the 2 volumes is on target.
  All snapshots lie at this site alone: what takes the site takes every copy.
    Pair a second site: candid begin
! No policy chooses 2 volumes, so nothing of them is taken by itself: books and letters.
    Write a policy for them: candid policy put FILE
! The cap of volume books is reached. At most 1 snapshot and N GiB; there is 1 snapshot with 0 B of its own. \
Nothing more is taken until it goes.
    See where it went: candid cap list

VOLUME	PLACE	STATE	NEWEST STATE	AGE	OBJECTIVE	BACKLOG
books	larkfield	unprotected	2026-03-02 12:00:00	0 s	-	0
letters	larkfield	unprotected	2026-03-02 09:00:00	3 h	-	0
Store: N B in 3 snapshots, N free
`)
	d.reads("cap remove volume books", `
There is no cap of volume books any more. What it let go stays in grace.`)
	d.refuses("cap remove volume books", 1, `a cap of volume "books"`)
}
