package e2e

import (
	"os"
	"path/filepath"
	"testing"

	"candidharbor/e2e/reader"

	"github.com/stretchr/testify/require"
)

// proveStore reads a site's store by the reader that knows only docs/formats.md: every
// snapshot must be whole, and those that the site lists must be there. Back names directories
// into which the product restored snapshots; they must be what the reader finds in them.
func proveStore(t testing.TB, p *proc, volume string, back map[string]string) {
	s, err := reader.Open(filepath.Join(p.dir, "store"))
	require.NoError(t, err)
	all, bad, err := s.Snapshots()
	require.NoError(t, err)
	require.Empty(t, bad)
	have := map[string]*reader.Snapshot{}
	for i := range all {
		require.NoError(t, s.Prove(&all[i]))
		have[all[i].ID.String()] = &all[i]
	}
	for _, listed := range p.snapshots(volume) {
		require.Contains(t, have, listed.ID, "the site lists what is not in its store")
	}
	for id, dir := range back {
		want, err := s.List(have[id])
		require.NoError(t, err)
		got, err := reader.Walk(dir)
		require.NoError(t, err)
		require.Empty(t, reader.Differ(want, got), id)
	}
}

// proveStores is proveStore for all volumes of a site.
func proveStores(t testing.TB, p *proc) {
	var vols []struct{ Name string }
	p.json(&vols, "volume", "list")
	for _, v := range vols {
		proveStore(t, p, v.Name, nil)
	}
}

// The second reader is not blind: it tells when a byte of a pack is another.
func TestReaderSeesDamage(t *testing.T) {
	base := t.TempDir()
	src := filepath.Join(base, "share")
	shell(t, base, "mkdir -p share/d; head -c 300000 /dev/urandom > share/large; ln -s large share/d/link; printf "+
		"hello > share/d/small")
	a := serve(t, filepath.Join(base, "a"), "larkfield", base)
	a.run("volume", "add", "share", "--path", src)
	a.run("snapshot", "take", "share")
	id := a.snapshots("share")[0].ID
	a.run("restore", "share", "--at", id, "--to", filepath.Join(base, "back"))
	proveStore(t, a, "share", map[string]string{id: filepath.Join(base, "back")})
	require.NoError(t, os.WriteFile(filepath.Join(base, "back", "d", "small"), []byte("hellO"), 0o644))
	s, err := reader.Open(filepath.Join(a.dir, "store"))
	require.NoError(t, err)
	all, _, err := s.Snapshots()
	require.NoError(t, err)
	list, err := s.List(&all[0])
	require.NoError(t, err)
	got, err := reader.Walk(filepath.Join(base, "back"))
	require.NoError(t, err)
	require.Contains(t, reader.Differ(list, got), "d/small")
	a.stop()
	files, err := filepath.Glob(filepath.Join(a.dir, "store", "log", "*"))
	require.NoError(t, err)
	raw, err := os.ReadFile(files[0])
	require.NoError(t, err)
	raw[len(raw)/2] ^= 4
	require.NoError(t, os.WriteFile(files[0], raw, 0o600))
	s, err = reader.Open(filepath.Join(a.dir, "store"))
	require.NoError(t, err)
	require.Error(t, s.Prove(&all[0]))
}
