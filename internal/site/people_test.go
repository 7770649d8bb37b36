package site

import (
	"archive/tar"
	"bytes"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"candidharbor/api"
	"candidharbor/core/rights"
	"candidharbor/internal/access"
	"candidharbor/internal/catalog"
	"candidharbor/internal/refusal"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/require"
)

func needsRoot(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("acting as another user needs root")
	}
}

// asUser runs a command as user 1500 in the groups 1500 and 2000.
func asUser(t *testing.T, dir, line string) string {
	cmd := exec.Command("setpriv", "--reuid=1500", "--regid=1500", "--groups=1500,2000", "sh", "-c", line)
	cmd.Dir = dir
	out, err := cmd.Output()
	require.NoError(t, err, line)
	return string(out)
}

func lines(s string) []string {
	out := strings.Split(strings.TrimSpace(s), "\n")
	slices.Sort(out)
	return out
}

func openAll(t *testing.T, dir string) { // what lies above must let others pass
	for d := dir; d != "/" && d != "/dev/shm" && d != "/tmp"; d = filepath.Dir(d) {
		require.NoError(t, os.Chmod(d, 0o755))
	}
}

// What a file owner sees of a snapshot, on every way, is what the kernel lets that user read
// of the live tree, below what was granted.
func TestOwnersSeeWhatTheKernelLets(t *testing.T) {
	needsRoot(t)
	w := newWorld(t)
	s := w.open("here")
	dir := w.share(s, "notes")
	openAll(t, dir)
	require.NoError(t, os.Remove(filepath.Join(dir, "a")))
	rng := rand.New(rand.NewPCG(7, uint64(os.Getpid())))
	pick := func(n ...int) int { return n[rng.IntN(len(n))] }
	var paths []string
	dirs := []string{dir}
	for i := range 120 {
		p := filepath.Join(dirs[rng.IntN(len(dirs))], fmt.Sprint("n", i))
		mode := os.FileMode(pick(0o644, 0o640, 0o600, 0o604, 0o460, 0o006, 0o060))
		if rng.IntN(3) == 0 {
			mode = os.FileMode(pick(0o755, 0o750, 0o700, 0o711, 0o744, 0o070, 0o777))
			require.NoError(t, os.Mkdir(p, 0o755))
			dirs = append(dirs, p)
		} else {
			require.NoError(t, os.WriteFile(p, []byte(p), 0o600))
		}
		require.NoError(t, os.Chown(p, pick(0, 1500, 1600), pick(0, 1500, 1600, 2000)))
		require.NoError(t, os.Chmod(p, mode))
		if rng.IntN(3) == 0 {
			acl := []string{"u:1500:" + []string{"r-x", "---", "rwx", "r--"}[rng.IntN(4)], "g:2000:" +
				[]string{"r-x", "---"}[rng.IntN(2)], "m::" + []string{"rwx", "r--", "--x"}[rng.IntN(3)]}
			require.NoError(t, exec.Command("setfacl", "-m", strings.Join(acl[:1+rng.IntN(3)], ","), p).Run())
		}
		paths = append(paths, p)
	}
	w.done(s)(s.Capture.TakeSnapshot("notes", api.SnapshotTake{}, "test"))
	for _, granted := range [][]string{{""}, {filepath.Base(dirs[min(1, len(dirs)-1)])}} {
		owner := &access.Owner{Name: "ines", Person: rights.Person{UID: 1500, GIDs: []uint32{1500, 2000}},
			Grants: map[string][]string{"notes": granted}}
		eyes := s.Recovery.ViewerFor(owner)
		// find(1) tells what may not be entered on standard error, which is let be.
		want := lines(asUser(t, dir, fmt.Sprintf("find ./%s -type f -readable 2>/dev/null | sed 's,^[./]*,,'; true",
			granted[0])))

		var b bytes.Buffer
		require.NoError(t, eyes.Archive(w.ctx, "notes", "latest", "tar", nil, func(string) {}, &b))
		var got []string
		for tr := tar.NewReader(&b); ; {
			h, err := tr.Next()
			if err == io.EOF {
				break
			}
			require.NoError(t, err)
			if h.Typeflag == tar.TypeReg {
				got = append(got, h.Name)
			}
		}
		slices.Sort(got)
		require.Equal(t, want, lines(strings.Join(got, "\n")))

		found, err := eyes.Find(w.ctx, "notes", api.FindAsk{Pattern: "n*", Kind: "file", Limit: 1000})
		require.NoError(t, err)
		got = nil
		for _, f := range found.Items {
			got = append(got, f.Path)
		}
		require.Equal(t, want, lines(strings.Join(got, "\n")))
		for _, p := range paths {
			rel, err := filepath.Rel(dir, p)
			require.NoError(t, err)
			st, err := os.Stat(p)
			require.NoError(t, err)
			if st.IsDir() {
				continue
			}
			f, err := eyes.OpenFile("notes", "latest", rel)
			_, verr := eyes.Versions("notes", rel)
			require.Equal(t, slices.Contains(want, rel), err == nil, rel)
			require.Equal(t, slices.Contains(want, rel), verr == nil, rel)
			if err == nil {
				f.Close()
			}
		}
		volumes, err := eyes.Views().Volumes()
		require.NoError(t, err)
		require.Equal(t, []string{"notes"}, volumes)
	}
	none := s.Recovery.ViewerFor(&access.Owner{Name: "x", Grants: map[string][]string{"other": {""}}})
	_, err := none.Browse("notes", "latest", "", "")
	require.ErrorContains(t, err, "nothing of such a volume was granted")
	_, err = none.Views().Moments("notes", time.Time{})
	require.ErrorIs(t, err, fs.ErrNotExist)
}

// A file owner brings back own files as that user: the kernel refuses what the user may not
// write, what could not be done is listed, and taking it back leads to the state before.
func TestOwnersRestoreAsThemselves(t *testing.T) {
	needsRoot(t)
	w := newWorld(t)
	s := w.open("here")
	dir := w.share(s, "notes")
	openAll(t, dir)
	for _, d := range []struct {
		name string
		uid  int
		mode os.FileMode
	}{{"mine", 1500, 0o755}, {"closed", 0, 0o755}, {"team", 1600, 0o777}} {
		require.NoError(t, os.Mkdir(filepath.Join(dir, d.name), 0o755))
		for _, f := range []string{"a", "b"} {
			w.write(filepath.Join(dir, d.name), f, "first of "+d.name+f)
			require.NoError(t, os.Chown(filepath.Join(dir, d.name, f), d.uid, d.uid))
		}
		require.NoError(t, os.Chown(filepath.Join(dir, d.name), d.uid, d.uid))
		require.NoError(t, os.Chmod(filepath.Join(dir, d.name), d.mode))
	}
	w.write(filepath.Join(dir, "mine"), "secret", "not for ines")
	require.NoError(t, os.Chmod(filepath.Join(dir, "mine/secret"), 0o600))
	w.done(s)(s.Capture.TakeSnapshot("notes", api.SnapshotTake{}, "test"))
	first := w.rows(s, "notes")[0].ID
	for _, d := range []string{"mine", "closed", "team"} {
		require.NoError(t, os.Remove(filepath.Join(dir, d, "a")))
		w.write(filepath.Join(dir, d), "b", "second")
	}
	require.NoError(t, os.Remove(filepath.Join(dir, "mine/secret")))
	// A link planted where the restore goes leads nowhere.
	outside := filepath.Join(w.dir, "outside")
	require.NoError(t, os.Mkdir(outside, 0o777))
	require.NoError(t, os.Remove(filepath.Join(dir, "team", "b")))
	require.NoError(t, os.Remove(filepath.Join(dir, "team")))
	require.NoError(t, os.Symlink(outside, filepath.Join(dir, "team")))
	w.clock.Set(w.clock.Now().Add(time.Minute))
	w.done(s)(s.Capture.TakeSnapshot("notes", api.SnapshotTake{}, "test"))
	before := exact(t, dir)

	_, err := s.Access.AddPerson(api.PersonAdd{Name: "ines", Role: access.FileOwner, Password: "correct horse",
		UID: new(uint32(1500)), GIDs: []uint32{1500}})
	require.NoError(t, err)
	_, err = s.Access.AddPerson(api.PersonAdd{Name: "rooty", Role: access.FileOwner, Password: "correct horse",
		UID: new(uint32(0)), GIDs: []uint32{0}})
	require.ErrorContains(t, err, "cannot be the file owner root")
	for _, p := range []string{"mine", "closed", "team"} {
		_, err = s.Access.GrantFolders("ines", api.FolderGrantAsk{Volume: "notes", Paths: []string{p}})
		require.NoError(t, err)
	}
	eyes := s.Recovery.ViewerFor(access.OwnerOf(must(s.Catalog.Person("ines"))))
	for ask, why := range map[*api.RestoreAsk]string{
		{To: filepath.Join(w.dir, "x"), Paths: []string{"mine"}}: "a directory of the host is for operators",
		{InPlace: true}:                                               "a whole volume is for operators",
		{InPlace: true, Paths: []string{""}}:                          "that you may see",
		{InPlace: true, Paths: []string{"../etc"}}:                    "that you may see",
		{InPlace: true, Paths: []string{"mine/secret"}}:               "has no mine/secret",
		{InPlace: true, Paths: []string{"mine"}, From: "elsewhere"}:   "another site is for operators",
		{InPlace: true, Paths: []string{"mine"}, OnConflict: "undo"}:  "",
		{InPlace: true, Paths: []string{"mine"}, OnConflict: "never"}: "conflict choice",
	} {
		if why == "" {
			continue
		}
		ask.Volume, ask.At = "notes", first
		_, err := eyes.PlanRestore(w.ctx, *ask)
		require.ErrorContains(t, err, why)
	}
	run, err := eyes.Restore(w.ctx, api.RestoreAsk{Volume: "notes", At: first, InPlace: true,
		Paths: []string{"mine", "closed", "team"}, OnConflict: "replace"}, "ines")
	require.NoError(t, err)
	res := restored(t, w.done(s)(run, nil))
	var told []string
	for _, r := range res.Remarks {
		told = append(told, r.Path)
	}
	require.Contains(t, told, "closed/a")
	require.Contains(t, told, "team", "the link stays: its directory is not hers to change")
	for path, text := range map[string]string{"mine/a": "first of minea", "mine/b": "first of mineb",
		"closed/b": "second"} {
		got, err := os.ReadFile(filepath.Join(dir, path))
		require.NoError(t, err, path)
		require.Equal(t, text, string(got), path)
	}
	require.Equal(t, "1500:1500\n", asUser(t, dir, "stat -c %u:%g mine/a"))
	for _, gone := range []string{"closed/a", "mine/secret"} {
		_, err := os.Lstat(filepath.Join(dir, gone))
		require.ErrorIs(t, err, os.ErrNotExist, gone)
	}
	names, err := os.ReadDir(outside)
	require.NoError(t, err)
	require.Empty(t, names)

	_, err = s.Recovery.ViewerFor(&access.Owner{Name: "other", Grants: map[string][]string{"notes": {""}}}).Undo(run.ID,
		"other")
	require.ErrorContains(t, err, "there is no run")
	w.done(s)(eyes.Undo(run.ID, "ines"))
	require.Equal(t, before, exact(t, dir))
	w.clock.Set(w.clock.Now().Add(25 * time.Hour))
	_, err = eyes.Undo(run.ID, "ines")
	require.ErrorContains(t, err, "only an operator")
}

// The ledger cannot be changed through the catalogue, and whoever changes the file itself,
// or cuts it short, is found out: by the sums, or by a paired site that saw more.
func TestLedgerIsFoundOut(t *testing.T) {
	w := newWorld(t)
	here, there := w.open("here"), w.open("there")
	w.pair(here, there)
	for i := range 5 {
		_, err := here.Access.Record(access.Caller{Name: "ines", Role: access.Operator, Via: "console"}, "restore",
			fmt.Sprint("notes ", i), "")
		require.NoError(t, err)
	}
	_, err := here.Pairing.CheckPeer(w.ctx, "there")
	require.NoError(t, err)
	proof, err := here.Pairing.VerifyLedger(w.ctx)
	require.NoError(t, err)
	require.True(t, proof.Whole)
	require.Equal(t, "The ledger is whole: 5 entries, each as it was written. there saw the first 5, and they "+
		"are the same.", proof.Sentence)

	db, err := sqlx.Open("sqlite", "file:"+filepath.Join(here.Path, "catalog.db")+"?_pragma=busy_timeout(15000)")
	require.NoError(t, err)
	defer db.Close()
	tamper := func(sql string) error { _, err := db.Exec(sql); return err }
	require.ErrorContains(t, tamper(`DELETE FROM ledger WHERE n=5`), "only added to")
	require.ErrorContains(t, tamper(`UPDATE ledger SET who='someone' WHERE n=2`), "only added to")
	for _, c := range []struct{ sql, want string }{
		{`DROP TRIGGER ledger_stays; UPDATE ledger SET who='someone' WHERE n=5`, "entry 5: does not have the sum"},
		{`DROP TRIGGER ledger_keeps; DELETE FROM ledger WHERE n=5`, "cut short: there saw 5 entries, and 4 are here"},
		{`DELETE FROM ledger WHERE n=2`, "entry 2: is missing"},
	} {
		require.NoError(t, tamper(c.sql))
		proof, err = here.Pairing.VerifyLedger(w.ctx)
		require.NoError(t, err)
		require.False(t, proof.Whole)
		require.Contains(t, proof.Sentence, c.want)
	}
	rows, err := here.Catalog.Entries(catalog.EntryFilter{Text: "100%", Limit: 10})
	require.NoError(t, err)
	require.Empty(t, rows)
}

// A search over all volumes shows a file owner what a search of each does, and tells of no volume that is not granted.
func TestOwnerLooksEverywhere(t *testing.T) {
	w := newWorld(t)
	s := w.open("here")
	for _, name := range []string{"books", "notes"} {
		dir := w.share(s, name)
		w.write(dir, "poem", "roses")
		require.NoError(t, os.Chmod(filepath.Join(dir, "poem"), 0o644))
		w.take(s, name)
	}
	at := func(name string) string { return must(s.Catalog.Volume(name)).Path }
	all := s.Recovery.ViewerFor(nil)
	found := must(all.FindAll(w.ctx, api.FindAllAsk{Pattern: "poem"}))
	require.Equal(t, 2, found.Total)
	require.Equal(t, 2, found.Volumes)
	found = must(all.FindAll(w.ctx, api.FindAllAsk{Pattern: "poem", Behind: "books"}))
	require.Len(t, found.Items, 1)
	require.Equal(t, "notes", found.Items[0].Volume)
	in := must(all.Locate(at("books") + "/poem"))
	require.Equal(t, api.Located{Volume: "books", Path: "poem", At: at("books"), Here: true}, in[0])

	owner := s.Recovery.ViewerFor(&access.Owner{Name: "x", Grants: map[string][]string{"notes": {""}}})
	found = must(owner.FindAll(w.ctx, api.FindAllAsk{Pattern: "poem"}))
	require.Equal(t, 1, found.Volumes)
	for _, f := range found.Items {
		require.Equal(t, "notes", f.Volume)
	}
	_, err := owner.Locate(at("books") + "/poem")
	require.Equal(t, refusal.Missing, refusal.ClassOf(err))
	require.Len(t, must(owner.Locate(at("notes"))), 1)
	_, err = all.Locate("notes/poem")
	require.ErrorContains(t, err, "is not absolute")
}
