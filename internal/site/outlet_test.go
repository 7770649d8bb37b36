package site

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"candidharbor/api"
	"candidharbor/internal/sftphost"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
)

// outletAt opens an outlet of the volumes with k=v at a host.
func (w *world) outletAt(s *Site, h *sftphost.Host, dir string) {
	_, err := s.Outlets.Add(w.ctx, api.OutletAdd{Name: "nas", To: "sftp://copies@" + h.Address + dir,
		HostKey: ssh.FingerprintSHA256(h.Key), Labels: map[string]string{"k": "v"}})
	require.NoError(w.t, err)
}

// alike holds two directories against each other with a tool that knows neither the service nor its marker: names,
// kinds, contents and links by diff; rights, and times to the second, by find.
func (w *world) alike(have, want string) {
	w.t.Helper()
	out, err := exec.Command("diff", "-r", "--no-dereference", "-x", ".candid-outlet.json", have, want).CombinedOutput()
	require.NoError(w.t, err, "%s", out)
	require.Equal(w.t, must(os.Stat(want)).Mode(), must(os.Stat(have)).Mode())
	list := func(dir string) string {
		cmd := exec.Command("sh", "-c", `find . -mindepth 1 -name .candid-outlet.json -prune -o -mindepth 1 `+
			`\( -type l -printf `+`'%P %l\n' -o -printf '%P %m %Ts\n' \) | sort`)
		cmd.Dir = dir
		out, err := cmd.Output()
		require.NoError(w.t, err)
		return string(out)
	}
	require.Equal(w.t, list(want), list(have))
}

// What lies at another machine is the newest state as plain files, whatever changed, was cut on the way or was meddled
// with there; of others' files none is touched.
func TestOutlet(t *testing.T) {
	w := newWorld(t)
	here := w.open("here")
	dir := w.share(here, "notes")
	nas := filepath.Join(w.dir, "nas")
	key := must(here.Outlets.Key()).Line
	h, err := sftphost.Start("127.0.0.1:0", key)
	require.NoError(t, err)
	defer h.End()
	to := "sftp://copies@" + h.Address + nas
	for says, ask := range map[string]api.OutletAdd{
		"write sftp://":     {Name: "nas", To: "http://copies@" + h.Address + nas, Names: []string{"notes"}},
		"a password":        {Name: "nas", To: "sftp://copies:secret@" + h.Address + nas, Names: []string{"notes"}},
		"not the machine's": {Name: "nas", To: "sftp://copies@" + h.Address + "/", Names: []string{"notes"}},
		"needs volumes":     {Name: "nas", To: to},
		"others":            {Name: "nas", To: to, Names: []string{"others"}},
		"lays nothing out":  {Name: "nas", To: to, Names: []string{"notes"}, Cap: "nothing"},
		"give it with":      {Name: "nas", To: to, Names: []string{"notes"}},
		"nothing was sent":  {Name: "nas", To: to, Names: []string{"notes"}, HostKey: "SHA256:abc"},
		"cannot be reached": {Name: "nas", To: "sftp://copies@127.0.0.1:1" + nas, Names: []string{"notes"}},
		"name \"../nas\"":   {Name: "../nas", To: to, Names: []string{"notes"}},
	} {
		_, err := here.Outlets.Add(w.ctx, ask)
		require.ErrorContains(t, err, says)
	}
	require.NoDirExists(t, nas)
	w.outletAt(here, h, nas)
	_, err = here.Outlets.Add(w.ctx, api.OutletAdd{Name: "more", To: to + "/deeper", Names: []string{"notes"},
		HostKey: ssh.FingerprintSHA256(h.Key)})
	require.ErrorContains(t, err, "overlaps with")
	require.Equal(t, "waiting", must(here.Outlets.Outlet("nas")).State)

	lies := filepath.Join(nas, "notes")
	run := func(verify bool) api.Run {
		return w.done(here)(here.Outlets.Run("nas", "test", verify))
	}
	shell := func(script string) {
		cmd := exec.Command("sh", "-ec", script)
		cmd.Dir = dir
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	shell(`mkdir -p deep/er; echo 1 > a; echo 2 > deep/er/b; ln -s ../a deep/link; chmod 750 deep; chmod 640 a; chmod 700 .
		: > empty; truncate -s 3M holes; touch -d 2020-02-03T04:05:06 a; mkfifo pipe; chmod 444 deep/er/b`)
	w.noise(dir, "big", 1, 3<<20)
	w.take(here, "notes")
	require.Equal(t, "seeding", must(here.Outlets.Outlet("nas")).State)

	// The first time is cut on the way, and there is another state before the next.
	spare := h.CutAfter(200_000)
	w.failed(here)(here.Outlets.Run("nas", "test", false))
	spare()
	require.Equal(t, "no line", must(here.Outlets.Outlet("nas")).State)
	shell("echo later > later")
	w.take(here, "notes")
	r := run(false)
	require.Contains(t, r.Outcome, "1 volume brought up to date")
	require.Equal(t, api.RunDoneWithRemarks, r.State, "the pipe is no file")
	shell("rm pipe")
	w.alike(lies, dir)
	require.Equal(t, "current", must(here.Outlets.Outlet("nas")).State)

	// A time that the protocol cannot say is told as the nearest one, and is no change of others.
	shell("touch -d 1955-01-01 empty")
	w.take(here, "notes")
	run(false)
	require.Contains(t, run(true).Outcome, "is as it should be")
	shell("touch -d 1975-01-01 empty")
	w.take(here, "notes")
	run(false)

	// Random changes, one after another, by the schedule; some runs are cut on the way.
	rnd := rand.New(rand.NewPCG(7, 11))
	const dirs = `for d in deep deep/er; do test ! -L $d -a -d $d || rm -rf $d; mkdir -p $d; done; `
	cut := 0
	for i := range 40 {
		for range 1 + rnd.IntN(4) {
			p := []string{"a", "b", "deep/c", "deep/er/d", "deep/er", "x", "x/y"}[rnd.IntN(7)]
			shell(fmt.Sprintf([]string{`rm -rf %[1]s; mkdir -p $(dirname %[1]s) 2>/dev/null && echo %[2]d > %[1]s || true`,
				`rm -rf %[1]s`, `rm -rf %[1]s; mkdir -p %[1]s 2>/dev/null && echo %[2]d > %[1]s/in || true`,
				`test -f %[1]s && m=$(stat -c %%y %[1]s) && echo %[2]d > %[1]s && touch -d "$m" %[1]s || true`,
				`rm -rf %[1]s; ln -s ../%[2]d %[1]s 2>/dev/null || true`, `chmod -R u=rwX,g=%[3]s %[1]s 2>/dev/null || true`,
				dirs + `cp big deep/er/big%[2]d`}[rnd.IntN(7)], p, i%8,
				[]string{"rX", "w", ""}[rnd.IntN(3)]))
		}
		w.take(here, "notes")
		if rnd.IntN(3) == 0 {
			spare := h.CutAfter(rnd.Int64N(20_000)) // a greeting takes about 3,000
			r, err := here.Outlets.Run("nas", "test", false)
			require.NoError(t, err)
			r, err = here.Run.Wait(w.ctx, r.ID)
			require.NoError(t, err)
			spare()
			if r.State == api.RunFailed {
				cut++
			}
			continue
		}
		w.clock.Set(w.clock.Now().Add(2 * time.Hour))
		require.NoError(t, second(here.Step(w.ctx, true)))
		w.alike(lies, dir)
	}
	run(false)
	w.alike(lies, dir)
	require.NotZero(t, cut)
	lineage := must(here.Catalog.Volume("notes")).Lineage
	require.Equal(t, must(here.Catalog.LastSnapshot(here.Place(), lineage)).ID,
		must(here.Catalog.NewestOf(here.Place()))[lineage].ID)

	// A path that cannot be laid out is told, and tried again until it can, whatever else changes meanwhile.
	shell("rm -rf a in-the-way; mkdir in-the-way; echo ours > in-the-way/x")
	require.NoError(t, os.RemoveAll(filepath.Join(lies, "in-the-way")))
	block := filepath.Join(lies, "in-the-way", "x")
	require.NoError(t, os.MkdirAll(filepath.Join(block, "theirs"), 0o755))
	for i := range 3 {
		shell(fmt.Sprintf("echo %d > b%d", i, i))
		w.take(here, "notes")
		w.failed(here)(here.Outlets.Run("nas", "test", false))
		require.Contains(t, must(here.Outlets.Outlet("nas")).Sentence, "1 path could not be laid out")
	}
	require.NoError(t, os.RemoveAll(block))
	run(false)
	w.alike(lies, dir)

	// Where the records of the site are lost, all is compared.
	shell("echo old > same; touch -d 2020-01-01 same")
	w.take(here, "notes")
	run(false)
	require.NoError(t, here.Catalog.ForgetLaidOut("nas", must(here.Catalog.Volume("notes")).Lineage))
	shell("echo new > same; touch -d 2020-01-01 same; rm b1")
	w.take(here, "notes")
	run(false)
	w.alike(lies, dir)

	// What others do there is found and put right; their own files stay.
	shell(dirs + "echo mine > deep/er/mine; echo 3 > deep/er/b")
	w.take(here, "notes")
	run(false)
	b := filepath.Join(lies, "deep", "er", "b")
	info, err := os.Stat(b)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(b, []byte("4\n"), 0o644))
	require.NoError(t, os.Chtimes(b, info.ModTime(), info.ModTime()))
	require.NoError(t, os.Remove(filepath.Join(lies, "deep", "er", "mine")))
	require.NoError(t, os.WriteFile(filepath.Join(lies, "deep", "theirs"), []byte("x"), 0o644))
	r = run(true)
	require.Contains(t, r.Outcome, "2 paths others had changed there, and this site put right")
	require.Contains(t, fmt.Sprint(must(here.Run.Run(r.ID)).Log), "deep/theirs was put there by others, and stays")
	require.NoError(t, os.Remove(filepath.Join(lies, "deep", "theirs")))
	require.NotNil(t, must(here.Outlets.Outlet("nas")).Volumes[0].Verified)
	require.Contains(t, run(true).Outcome, "is as it should be")
	w.alike(lies, dir)

	// A link in place of a directory leads nowhere.
	elsewhere := filepath.Join(w.dir, "elsewhere")
	require.NoError(t, os.Mkdir(elsewhere, 0o755))
	require.NoError(t, os.RemoveAll(filepath.Join(lies, "deep")))
	require.NoError(t, os.Symlink(elsewhere, filepath.Join(lies, "deep")))
	run(true)
	w.alike(lies, dir)
	require.Empty(t, must(os.ReadDir(elsewhere)))

	// Another machine under the same address gets nothing.
	h.End()
	other, err := sftphost.Start(h.Address, key)
	require.NoError(t, err)
	defer other.End()
	w.take(here, "notes")
	w.failed(here)(here.Outlets.Run("nas", "test", false))
	o := must(here.Outlets.Outlet("nas"))
	require.Equal(t, []string{"refused", "refused"}, []string{o.State, o.Cause})
	require.Contains(t, o.Sentence, "it shows the key "+ssh.FingerprintSHA256(other.Key))
	st, err := here.Overview.Status()
	require.NoError(t, err)
	require.Contains(t, fmt.Sprint(st.Sentences), "Outlet nas: It is not brought up to date")

	// Closed and opened anew, with the key that is right now: it goes on from what lies there. What is not this
	// volume's is left alone.
	require.NoError(t, second(here.Outlets.Remove("nas")))
	w.outletAt(here, other, nas)
	run(false)
	w.alike(lies, dir)
	require.NoError(t, second(here.Outlets.Remove("nas")))
	require.NoError(t, os.RemoveAll(lies))
	require.NoError(t, os.Mkdir(lies, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(lies, "theirs"), []byte("x"), 0o644))
	w.outletAt(here, other, nas)
	w.failed(here)(here.Outlets.Run("nas", "test", false))
	require.Contains(t, must(here.Outlets.Outlet("nas")).LastError, "holds what this site did not lay out")
	require.Equal(t, "theirs", strings.Join(namesIn(lies), " "))
}

// failed waits for a run that is to fail.
func (w *world) failed(s *Site) func(r api.Run, err error) api.Run {
	return func(r api.Run, err error) api.Run {
		w.t.Helper()
		require.NoError(w.t, err)
		r, err = s.Run.Wait(w.ctx, r.ID)
		require.NoError(w.t, err)
		require.Equal(w.t, api.RunFailed, r.State, r.Outcome)
		return r
	}
}

func second[T any](_ T, err error) error { return err }

func namesIn(dir string) (out []string) {
	for _, e := range must(os.ReadDir(dir)) {
		out = append(out, e.Name())
	}
	return out
}
