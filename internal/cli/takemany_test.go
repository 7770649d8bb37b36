package cli

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Snapshots of many volumes by one command: chosen by name, label, policy or need; a set once; what fails is named and
// keeps the others from nothing.
func TestTakeMany(t *testing.T) {
	d := newDesk(t)
	d.put("books/ledger", "1931: 12 sheets\n")
	d.put("maps/one", "sheet 1\n")
	d.put("letters/one", "dear\n")
	d.refuses("snapshot take", 2, "no volume is chosen")
	d.refuses("snapshot take --due --policy none", 1, `policy "none"`)
	d.reads("snapshot take --due", `
No volume was chosen by that: nothing was taken.
`)
	for _, v := range []string{"books", "maps", "letters"} {
		d.run("volume add " + v + " --path DIR/" + v + " --label k=" + v[:1])
	}
	d.run("group put archive letters books")
	d.refuses("snapshot take maps nothere", 1, "there is no volume nothere")
	d.reads("snapshot take maps letters books", `
Taken: 2; not taken: 0.
`)
	d.reads("snapshot take --volumes k=m --note again", `
Taken: 1; not taken: 0.
`)
	d.put("p.yaml", "policy: p\nvolumes: {k: m}\ntake: [every 1 hour]\n")
	d.run("policy put DIR/p.yaml")
	d.pass(10 * time.Minute)
	d.reads("snapshot take --policy p", `
Taken: 1; not taken: 0.
`)
	require.NoError(t, os.RemoveAll(filepath.Join(d.dir, "maps")))
	out, _, code := d.run("snapshot take maps letters")
	require.Equal(t, 1, code)
	require.Contains(t, out, "Taken: 1; not taken: 1.\nVOLUME\tRUN\tSTATE\tWHY\nmaps\t")
}
