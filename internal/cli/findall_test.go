package cli

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// A path whose volume is not known, and a name in whatever volume, word for word as the terminal shows it.
func TestWhereverItLies(t *testing.T) {
	d := newDesk(t)
	d.put("other/poem", "roses")
	d.put("share/poem", "violets")
	d.run("volume add letters --path DIR/share")
	d.run("volume add verses --path DIR/other")
	d.run("snapshot take letters verses")
	d.put("share/letters/to-kew", "Dear colleague, again\n")
	d.pass(time.Hour)
	d.run("snapshot take letters")
	d.reads("versions DIR/share/letters/to-kew", `
WHAT	FROM	UNTIL	SIZE	MODIFIED	IN	NEWEST
changed	2026-03-02 10:00:00	2026-03-02 10:00:00	22 B	2026-03-02 09:00:00	1 snapshot	#1
first seen	2026-03-02 09:00:00	2026-03-02 09:00:00	16 B	2026-03-02 09:00:00	1 snapshot	#2
To bring one back: candid restore letters letters/to-kew --at #2 --in-place
`)
	out, _, code := d.run("browse DIR/other")
	require.Zero(t, code)
	require.Contains(t, d.screen(out), "verses/ as of snapshot #3: the newest snapshot")
	out, _, code = d.run("compare DIR/share/letters --from latest")
	require.Zero(t, code)
	require.Contains(t, out, "letters/letters from 2026-03-02 10:00:00")
	d.reads("restore DIR/share/letters/to-kew DIR/share/poem --at latest --to DIR/back", `
3 created; 29 B in T: letters as of 2026-03-02 10:00:00 in DIR/back
`)
	d.refuses("restore DIR/share/poem DIR/other/poem --at latest --to DIR/back", 2, "lies in verses")
	d.refuses("versions DIR/nowhere/a", 1, "no volume lies at or above DIR/nowhere/a")
	d.refuses("versions letters", 2, "takes VOLUME PATH")
	d.reads("find poem-that-is-not", `
Nothing like "poem-that-is-not" is in the 3 snapshots of 2 volumes that were searched.
`)
	d.refuses("find poem --sites", 2, "one volume at a time")
	out, _, code = d.run("find poem")
	require.Zero(t, code)
	require.Contains(t, out, "letters\tpoem\t7 B\t")
	require.Contains(t, out, "verses\tpoem\t5 B\t")
	require.Contains(t, out, "2 paths in 3 snapshots of 2 volumes.\n")
}
