package cli

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// What nothing protects, and what is protected in one go, word for word as the terminal shows it.
func TestUncoveredByHand(t *testing.T) {
	d := newDesk(t)
	d.put("share/maps/north", "some")
	d.put("share/maps/south", "more")
	d.put("share/Letters 1907/a", "dear")
	d.put("share/Letters 1907/b", "you")
	out, _, code := d.run("volume uncovered") // which filesystems there are is the machine's matter
	require.Zero(t, code)
	require.Contains(t, d.screen(out), "DIR/share\tN KiB\t6 files\t\n")
	require.Contains(t, out, "Protect all of them, or those named: candid volume uncovered --protect [DIR...] "+
		"--label key=value")
	d.reads("volume look", `
ROOT	SIZE	FILES	
DIR	-	-
`)
	d.reads("volume look DIR/share", `
DIR/share	SIZE	FILES	
index.csv	N KiB	1 file	
letters/	16 B	1 file	
maps/	8 B	2 files	
Letters 1907/	7 B	2 files
`)
	d.refuses("volume look /etc", 2, "outside the roots")
	d.refuses("volume uncovered DIR/share/maps", 2, "go with --protect")
	d.reads("volume add maps --path DIR/share/maps --dry-run", `
maps would protect DIR/share/maps: 2 files, 1 directory and 0 other entries, 8 B, on FS.
The first snapshot needs at most N B; N are free in the store.
! The store and the volume are on the same filesystem: if that disk fails, both are lost. Open a route to another \
site, or move DIR/larkfield to another disk.
! No policy chooses this volume yet: nothing is taken by itself.
`)
	d.reads("volume list", `
No volumes yet. Add one: candid volume add NAME --path DIR
`)
	out, _, code = d.run("volume uncovered --protect DIR/share/maps /etc --label k=v")
	require.Equal(t, 1, code)
	require.Equal(t, `VOLUME	DIRECTORY	SIZE	POLICY
maps	DIR/share/maps	8 B	none
! /etc: path /etc is outside the roots of this site (DIR): add a root in site.yaml or choose another path
No policy chooses these yet: nothing is taken by itself. Write one: candid policy put FILE
Take the first snapshots now: candid snapshot take --due
`, d.screen(out))
	d.put("share/policy", "policy: p\nvolumes: {k: w}\ntake: [daily at 22:00]\n")
	d.reads("policy put DIR/share/policy", `
Policy p is stored as version 1.
takes  daily at 22:00
! it chooses no volume yet: no volume here has these labels or names
! No policy chooses maps.
`)
	d.reads("volume uncovered --protect 'DIR/share/Letters 1907' DIR/share/letters --label k=w", `
VOLUME	DIRECTORY	SIZE	POLICY
letters-1907	DIR/share/Letters 1907	7 B	p
letters	DIR/share/letters	16 B	p
Take the first snapshots now: candid snapshot take --due
`)
	out, _, _ = d.run("volume uncovered")
	require.Contains(t, d.screen(out), "Directly in DIR/share, in none of its directories: 2 files, N KiB.")
}
