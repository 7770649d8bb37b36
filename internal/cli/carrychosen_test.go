package cli

import (
	"strings"
	"testing"
	"time"
)

// Chosen snapshots go to another site once; that site tells what came, word for word as the terminal shows it.
func TestCarryChosenByHand(t *testing.T) {
	d := newDesk(t)
	d.run("volume add letters --path DIR/share --label k=v")
	d.put("share/policy", "policy: p\nvolumes: {k: v}\ntake: [every 6 hours]\nkeep:\n  larkfield: {newest: 9}\n"+
		"  stonewick: {newest: 1}\n")
	d.run("policy put DIR/share/policy")
	for _, text := range []string{"one", "two", "three"} {
		d.put("share/poem", text)
		d.pass(6 * time.Hour)
		d.step()
	}
	d.at = "stonewick"
	d.reads("route incoming", `
Nothing comes from other sites, and nothing did.
`)
	inv, _, _ := d.run("site invite --grant offer --grant see")
	d.at = "larkfield"
	d.run("site pair " + strings.TrimSpace(inv) + " --grant nothing")
	d.reads("snapshot list letters", `
ID	TAKEN	SEEN UNTIL	CAUSE	SIZE	NEW	STATE	WHY
#1	2026-03-03 03:00:00	-	scheduled	N KiB	N B	kept	number 1 of the newest 9; the newest complete snapshot here
#2	2026-03-02 21:00:00	-	scheduled	N KiB	N B	kept	number 2 of the newest 9
#3	2026-03-02 15:00:00	-	scheduled	N KiB	N B	kept	number 3 of the newest 9
`)
	d.refuses("snapshot carry #3", 2, "to")
	d.refuses("snapshot carry #3 --to mereside", 1, `"mereside" is no paired site and no attached place`)
	d.refuses("snapshot carry #3 --to stonewick", 1, "the rules for stonewick do not keep 1 snapshot of those")
	d.refuses("snapshot carry #3 --to stonewick --keep --keep-until +1d", 2, "say either until when")
	d.refuses("snapshot carry #3 --to stonewick --reason audit", 2, "a reason goes with a keep mark")
	d.reads("snapshot carry #1 --to stonewick", `
1 snapshot is at stonewick now; N B sent; the rules for stonewick say for how long
`)
	d.reads("snapshot carry #3 #2 --to stonewick --keep-until 2027-01-01 --reason audit", `
2 snapshots are at stonewick now; N B sent; kept there until 2027-01-01 00:00:00
`)
	d.reads("snapshot carry #3 --to stonewick --keep", `
1 snapshot is at stonewick now; all data was there already; kept there until somebody there lets it go
`)
	d.reads("--desk stonewick route incoming", `
FROM	VOLUME	STATE	COPIES	NEWEST TAKEN	LAST ARRIVED	
larkfield	letters@larkfield	at rest	3	2026-03-03 03:00:00	2026-03-03 03:00:00	
`)
	d.reads("--desk stonewick snapshot list letters@larkfield", `
ID	TAKEN	SEEN UNTIL	CAUSE	SIZE	NEW	STATE	WHY
#1	2026-03-03 03:00:00	-	scheduled	N KiB	N B	kept	number 1 of the newest 1; the newest complete snapshot \
here
#2	2026-03-02 21:00:00	-	scheduled	N KiB	N B	kept	marked to keep: sent by larkfield: audit
#3	2026-03-02 15:00:00	-	scheduled	N KiB	N B	kept	marked to keep: sent by larkfield: chosen by \
hand
`)
	d.refuses("--desk stonewick snapshot let-go #3", 1, "may look at stonewick, and not change anything there")
}
