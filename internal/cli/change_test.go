package cli

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// What was said of a volume or of a snapshot is said otherwise later, of one or of several.
func TestSaidOtherwise(t *testing.T) {
	d := newDesk(t)
	d.put("books/ledger", "1931: 12 sheets\n")
	d.put("books/old.tmp", "x\n")
	d.put("letters/one", "dear\n")
	d.run("volume add books --path DIR/books")
	d.run("volume add letters --path DIR/letters --label k=v")
	d.reads("volume label books letters season=2027 --dry-run", `
books would have the labels season=2027.
  No policy chooses it: nothing is taken by itself, and everything it has stays.
letters would have the labels k=v season=2027.
  No policy chooses it: nothing is taken by itself, and everything it has stays.
`)
	d.refuses("volume label books nothere season=2027", 1, "nothere")
	d.refuses("volume label season=2027", 2, "name a volume")
	d.reads("volume label letters books --drop season --drop k", `
books has no labels.
  No policy chooses it: nothing is taken by itself, and everything it has stays.
letters has no labels.
  No policy chooses it: nothing is taken by itself, and everything it has stays.
`)

	require.NoError(t, os.Rename(filepath.Join(d.dir, "books"), filepath.Join(d.dir, "ledgers")))
	d.refuses("volume change books", 2, "say what to change of books")
	d.refuses("volume change books --exclude a --exclude-nothing", 2, "exclude each other")
	d.refuses("volume change books --path DIR/nothere", 2, "nothere")
	d.reads("volume change books --path DIR/ledgers --exclude *.tmp --dry-run", `
books would protect DIR/ledgers: 1 file, 1 directory and 0 other entries, 16 B, on FS.
Left out: *.tmp
! The store and the volume are on the same filesystem: if that disk fails, both are lost. Open a route to another \
site, or move DIR/larkfield to another disk.
! No policy chooses this volume yet: nothing is taken by itself.
`)
	d.reads("volume change books --path DIR/ledgers --exclude *.tmp", `
books protects DIR/ledgers: 1 file, 1 directory and 0 other entries, 16 B, on FS.
Left out: *.tmp
! The store and the volume are on the same filesystem: if that disk fails, both are lost. Open a route to another \
site, or move DIR/larkfield to another disk.
! No policy chooses this volume yet: nothing is taken by itself.
Its history goes on with its next snapshot, which reads everything: candid snapshot take books
`)
	d.run("snapshot take books --note first --keep-until 2026-04-01")
	d.reads("snapshot list books", `
ID	TAKEN	SEEN UNTIL	CAUSE	SIZE	NEW	STATE	WHY
#1	2026-03-02 09:00:00	-	by hand	16 B	N B	kept	no rules for this place, everything stays; made by hand; the newest \
complete snapshot here
`)
	d.reads("snapshot change #1 --note second --label audit=2026 --keep-until 2026-05-01", `
#1 of books has the note "second", the labels audit=2026.
  It was asked to stay until 2026-05-01 00:00:00.
`)
	d.refuses("snapshot change #1", 2, "say what to change")
	d.refuses("snapshot change #1 --drop nothing", 2, "it has audit=2026")
	d.reads("snapshot change #1 --note= --drop audit", `
#1 of books has no note.
  It was asked to stay until 2026-05-01 00:00:00.
`)
	d.reads("snapshot show #1", `
snapshot     #1
volume       books, from larkfield, term 1 sequence 1
taken        2026-03-02 09:00:00 to 2026-03-02 09:00:00 (spread: files may have changed while others were read)
seen until   -
cause        by hand
own end      2026-05-01 00:00:00
holds        1 file, 1 directory, 0 others, 16 B
space        needs N B in the store; N B would come back if only it went
kept as      no rules for this place, everything stays
kept as      made by hand
kept as      the newest complete snapshot here
`)

	// The snapshots of all volumes, narrowed; several are kept, let go and removed by one command.
	d.pass(time.Hour) // lists are in the order of time
	d.run("snapshot take letters --label box=7")
	d.reads("snapshot list --cause scheduled", `
No snapshot is like that.
`)
	d.reads("snapshot list --label box=7", `
ID	VOLUME	TAKEN	SEEN UNTIL	CAUSE	SIZE	NEW	STATE	CARRIED TO	WHY
#2	letters	2026-03-02 10:00:00	-	by hand	5 B	N B	kept		no rules for this place, everything stays; made by hand; the \
newest complete snapshot here
`)
	d.refuses("snapshot list nothere", 1, "nothere")
	d.refuses("snapshot list --which best", 2, "write kept, grace, marked, end, turn or here")
	d.refuses("snapshot list --label box", 2, "write key=value")
	d.reads("snapshot keep #1 #2 --reason census", `
#1 of books is kept, until it is let go: candid snapshot let-go #1.
#2 of letters is kept, until it is let go: candid snapshot let-go #2.
`)
	d.reads("snapshot list --text CENSUS", `
ID	VOLUME	TAKEN	SEEN UNTIL	CAUSE	SIZE	NEW	STATE	CARRIED TO	WHY
#2	letters	2026-03-02 10:00:00	-	by hand	5 B	N B	kept		no rules for this place, everything stays; made by hand; \
marked to keep: census; the newest complete snapshot here
#1	books	2026-03-02 09:00:00	-	by hand	16 B	N B	kept		no rules for this place, everything stays; made by hand; \
marked to keep: census; the newest complete snapshot here
`)
	d.reads("snapshot let-go #1 #2", `
#1 of books has no keep mark any more. It stays as no rules for this place, everything stays; made by hand; the \
newest complete snapshot here.
#2 of letters has no keep mark any more. It stays as no rules for this place, everything stays; made by hand; the \
newest complete snapshot here.
`)
	out, errs, code := d.run("snapshot let-go #1")
	require.Equal(t, 1, code)
	require.Empty(t, out)
	require.Contains(t, errs, "has no keep mark")

	// A set goes as a whole, also where several of it are named.
	d.run("group put both books letters")
	d.pass(time.Hour)
	d.run("snapshot take books")
	d.reads("snapshot list books --limit 1", `
ID	TAKEN	SEEN UNTIL	CAUSE	SIZE	NEW	STATE	WHY
#3	2026-03-02 11:00:00	-	by hand	16 B	0 B	kept	no rules for this place, everything stays; made by hand; the newest \
complete snapshot here
`)
	d.reads("snapshot list letters --limit 1", `
ID	TAKEN	SEEN UNTIL	CAUSE	SIZE	NEW	STATE	WHY
#4	2026-03-02 11:00:00	-	by hand	5 B	0 B	kept	no rules for this place, everything stays; made by hand; the newest \
complete snapshot here
`)
	d.reads("snapshot remove #3 #4", `
#3 of books is in grace until 2026-03-03 11:00:00. Until then it can be had back: candid snapshot recall #3
The rest of its set, of the group both, went with it and comes back with it.
`)
	d.reads("snapshot recall #4 #3", `
#4 of letters is kept: no rules for this place, everything stays; made by hand; recalled from grace; the newest \
complete snapshot here.
The rest of its set, of the group both, came back with it.
`)
}

// A restore that is saved is done once at a moment written as everywhere else, in the zone that is said.
func TestOnceAtAMoment(t *testing.T) {
	d := newDesk(t)
	d.put("letters/one", "dear\n")
	d.run("volume add letters --path DIR/letters")
	d.run("snapshot take letters")
	due := func(name string) string {
		out, errs, code := d.run("recipe show " + name)
		require.Zero(t, code, errs)
		return out
	}
	for name, when := range map[string]string{"one": "'2026-07-01 01:00'",
		"two": "'2026-07-01 01:00' --zone Europe/Lisbon"} {
		_, errs, code := d.run("recipe save " + name + " letters --to DIR/" + name + " --when " + when)
		require.Zero(t, code, errs)
	}
	require.Contains(t, due("one"), "2026-07-01 01:00:00")
	require.Contains(t, due("two"), "2026-07-01 00:00:00", "Lisbon is an hour ahead in summer")
	d.refuses("recipe save three letters --to DIR/three --when '2026-01-01 01:00'", 2, "has passed")
	d.refuses("recipe save three letters --to DIR/three --when '2026-07-01 25:00'", 2, "2026-07-01")
}
