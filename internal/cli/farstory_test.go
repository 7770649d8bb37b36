package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Only the other site still has it: looked for at both, told as of a moment, brought back from
// there and to there, word for word as the terminal shows it.
func TestOnlyTheOtherSiteHasIt(t *testing.T) {
	d := newDesk(t)
	d.run("volume add letters --path DIR/share --label k=v")
	d.put("share/trip/marsh.txt", "one\n")
	d.at = "stonewick"
	inv, _, _ := d.run("site invite --grant offer --grant see")
	d.at = "larkfield"
	d.ids[strings.TrimSpace(inv)] = "INVITATION"
	d.run("site pair INVITATION --grant nothing")
	d.put("p.yaml", "policy: p\nvolumes: {k: v}\ntake: [every 6 hours]\nkeep:\n  larkfield: {newest: 1}\n  stonewick: "+
		"{daily: 30}\ngrace: 1 second\n")
	_, errs, code := d.run("policy put DIR/p.yaml")
	require.Zero(t, code, errs)
	d.run("route add west --to stonewick --volumes k=v")
	d.pass(3 * time.Hour)
	d.step()
	require.NoError(t, os.RemoveAll(filepath.Join(d.dir, "share", "trip")))
	d.put("share/index.csv", "sheet\n")
	d.pass(24 * time.Hour)
	d.step()
	for range 2 {
		d.run("prune")
		d.pass(2 * time.Second)
	}
	d.run("store sweep")

	d.reads("as-of letters --at '2026-03-02 13:00'", `
SITE	STANDS FOR IT	SNAPSHOT	SIZE	ALL OF IT BACK IN
larkfield	nothing that old	-	-	-
stonewick	nearest before: 2026-03-02 12:00:00, 1 hour older	#2	N KiB	-
Here is nothing that old. stonewick has it: nearest before: 2026-03-02 12:00:00, 1 hour older.
To look at it: candid restore letters --at #2 --from-site stonewick --in-place --dry-run
`)
	d.reads("find letters marsh", `
Nothing like "marsh" is in the 1 snapshot of letters that were searched.
`)
	d.reads("find letters marsh --sites", `
Nothing like "marsh" is in the 1 snapshot of letters that were searched.
stonewick has what no snapshot here has:
PATH	SIZE	MODIFIED	VERSIONS	LAST SEEN	SNAPSHOT
trip/marsh.txt	4 B	2026-03-02 09:00:00	1	2026-03-02 12:00:00	#2
To bring one back: candid restore letters trip/marsh.txt --at #2 --from-site stonewick --in-place
`)
	d.reads("versions letters trip/marsh.txt --sites", `
WHAT	FROM	UNTIL	SIZE	MODIFIED	IN	NEWEST
at stonewick	2026-03-02 12:00:00	2026-03-02 12:00:00	4 B	2026-03-02 09:00:00	1 snapshot	#2
`)
	d.refuses("versions letters trip/marsh.txt", 1, "no snapshot of letters here has trip/marsh.txt")
	d.reads("restore letters trip --at '2026-03-02 13:00' --in-place --dry-run", `
From snapshot #2 of letters (nearest before: 2026-03-02 12:00:00, 1 hour older, at stonewick) to DIR/share:
  create   trip
  create   trip/marsh.txt
The snapshot is at stonewick: at most 4 B would be fetched from there, before compression.
2 created; 4 B to write, N are free. Nothing was changed: this is what would be done.
`)
	d.reads("restore letters trip --at '2026-03-02 13:00' --in-place", `
2 created; 4 B in T: letters as of 2026-03-02 12:00:00 in DIR/share, from stonewick (N B fetched)
To take it back: candid undo 8; what was there before is in the safety snapshot #3
`)
	text, err := os.ReadFile(filepath.Join(d.dir, "share", "trip", "marsh.txt"))
	require.NoError(t, err)
	require.Equal(t, "one\n", string(text))
	d.refuses("restore letters trip --at latest --in-place --from-site mereside", 1, "there is no paired site mereside")
	d.refuses("restore letters --at latest --to DIR/there --to-site stonewick", 1,
		"may look at stonewick, and not change anything there")
	d.at = "stonewick"
	d.run("site grant larkfield configure")
	d.at = "larkfield"
	d.reads("restore letters --at latest --to DIR/there --to-site stonewick", `
3 created; 22 B in T: letters@larkfield as of 2026-03-03 12:00:00 in DIR/there
`)
	require.FileExists(t, filepath.Join(d.dir, "there", "index.csv"))
	d.reads("site order stonewick", `
What is not here is looked for at stonewick, in this order.
`)
	d.reads("ledger list --text restore --limit 1", `
ENTRY	AT	WHO	ROLE	VIA	ACT	ABOUT
13	2026-03-03 12:00:04	the host's administrator	administrator	socket	restore	at stonewick: /restores
`)
	d.at = "stonewick"
	d.reads("ledger list --limit 2", `
ENTRY	AT	WHO	ROLE	VIA	ACT	ABOUT
3	2026-03-03 12:00:04	the host's administrator at larkfield	administrator	line	restore	/restores \
{"at":"latest","to":"DIR/there","volume":"letters@larkfield"}
2	2026-03-03 12:00:04	the host's administrator	administrator	socket	grant	/sites/larkfield/grants \
{"grants":["configure"]}
`)
	d.reads("ledger verify", `
The ledger is whole: 3 entries, each as it was written. larkfield saw the first 2, and they are the same.
Its last sum is #4.
`)
}
