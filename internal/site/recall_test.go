package site

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/records"
	"candidharbor/internal/recovery"
	"candidharbor/internal/route"
	"candidharbor/internal/transfer"

	"github.com/stretchr/testify/require"
)

// What only the other site still has is told, found and brought back, and only what is not
// here comes over the line; afterwards nothing of it stays. A source may look at nothing in
// a vault, and a site that is silent or gone half-way is told.
func TestBackFromOtherSites(t *testing.T) {
	w := newWorld(t)
	here, there := w.open("here"), w.open("there")
	dir := w.share(here, "notes")
	blob := func(seed int) string {
		var b strings.Builder
		for i := range 8000 {
			fmt.Fprintf(&b, "%x\n", (i+1)*seed*7919)
		}
		return b.String()
	}
	for k := range 20 {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, "scans", fmt.Sprint(k)), 0o755))
		w.write(filepath.Join(dir, "scans", fmt.Sprint(k)), "sheet", blob(100+k))
	}
	w.write(dir, "kept", blob(1))
	w.policy(here, "policy: p\nvolumes: {k: v}\ntake: [every 6 hours]\nkeep:\n  here: {newest: 1}\n  there: {newest: "+
		"9}\ngrace: 1 second\n")
	w.pair(here, there)
	w.route(here, "there")
	w.until(here, w.clock.Now().Add(6*time.Hour))
	before := w.clock.Now()
	whole := exact(t, dir)
	require.NoError(t, os.RemoveAll(filepath.Join(dir, "scans")))
	w.write(dir, "kept", blob(2))
	w.until(here, w.clock.Now().Add(6*time.Hour))
	gone := w.rows(here, "notes")[len(w.rows(here, "notes"))-1]
	for range 2 {
		w.done(here)(here.Rules.Prune("", "test"))
		w.clock.Set(w.clock.Now().Add(2 * time.Second))
	}
	w.done(here)(here.Upkeep.Sweep(false, "test"))
	require.Len(t, w.rows(here, "notes"), 1)
	require.Len(t, w.rows(there, "notes@here"), 2)
	stored := here.Store.Usage().Objects

	at := before.Format(time.RFC3339Nano)
	told, err := here.Recovery.AsOf(w.ctx, "notes", at)
	require.NoError(t, err)
	require.Equal(t, "there", told.Best)
	require.Equal(t, "Here is nothing that old. there has it: "+told.Places[1].Answer+".", told.Sentence)
	require.Equal(t, gone.ID, told.Places[1].Snapshot)
	require.EqualValues(t, 22, told.Places[1].Files)
	latest, err := here.Recovery.AsOf(w.ctx, "notes", "latest")
	require.NoError(t, err)
	require.Equal(t, "here", latest.Best)
	require.True(t, latest.Places[1].Here)

	found, err := here.Recovery.FindEverywhere(w.ctx, "notes", api.FindAsk{Pattern: "shee*", Sites: true, Limit: 100})
	require.NoError(t, err)
	require.Empty(t, found.Items)
	require.Len(t, found.Elsewhere[0].Items, 20)
	require.False(t, found.Elsewhere[0].Items[0].There)
	found, err = here.Recovery.FindEverywhere(w.ctx, "notes", api.FindAsk{Pattern: "kept", Sites: true})
	require.NoError(t, err)
	require.Len(t, found.Items, 1)
	require.Empty(t, found.Elsewhere[0].Items)
	vs, err := here.Recovery.VersionsEverywhere(w.ctx, "notes", "kept")
	require.NoError(t, err)
	require.Equal(t, "first seen , changed there", vs.Items[0].What+" "+vs.Items[0].Site+", "+vs.Items[1].What+" "+
		vs.Items[1].Site)

	// One file: hardly more than it comes over.
	ask := api.RestoreAsk{Volume: "notes", At: at, To: filepath.Join(w.dir, "out"), Paths: []string{"scans/7/sheet"}}
	plan, err := here.Recovery.PlanRestore(w.ctx, ask)
	require.NoError(t, err)
	require.Equal(t, "there", plan.From)
	require.EqualValues(t, len(blob(107)), plan.FetchBytes)
	res := restored(t, w.done(here)(here.Recovery.Restore(w.ctx, ask, "test")))
	require.Equal(t, "there", res.From)
	require.Less(t, res.FetchBytes, int64(2*len(blob(107))), "of 20 such files")
	one, err := os.ReadFile(filepath.Join(w.dir, "out/scans/7/sheet"))
	require.NoError(t, err)
	require.Equal(t, blob(107), string(one))

	// The whole volume in place, while the line goes down in between.
	run, err := here.Recovery.Restore(w.ctx, api.RestoreAsk{Volume: "notes", At: gone.ID[:12], InPlace: true,
		From: "there"}, "test")
	require.NoError(t, err)
	here.Pairing.CloseLines()
	w.done(here)(run, nil)
	require.Equal(t, whole, exact(t, dir))
	w.done(here)(here.Recovery.Undo(run.ID, "test"))
	now, err := os.ReadFile(filepath.Join(dir, "kept"))
	require.NoError(t, err)
	require.Equal(t, blob(2), string(now))

	// Nothing of it stays when the safety snapshots have gone.
	w.done(here)(here.Capture.TakeSnapshot("notes", api.SnapshotTake{}, "test"))
	for range 3 {
		w.done(here)(here.Rules.Prune("", "test"))
		w.clock.Set(w.clock.Now().Add(400 * 24 * time.Hour))
	}
	w.done(here)(here.Upkeep.Sweep(false, "test"))
	require.LessOrEqual(t, here.Store.Usage().Objects, stored+10)

	here.Pairing.CutLine(true)
	told, err = here.Recovery.AsOf(w.ctx, "notes", at)
	require.NoError(t, err)
	require.Contains(t, told.Places[1].Silent, "cannot be reached")
	require.Equal(t, "No site that answers has anything of it for that moment.", told.Sentence)
	_, err = here.Recovery.PlanRestore(w.ctx, ask)
	require.ErrorContains(t, err, "not every other site could be asked: there:")
	here.Pairing.CutLine(false)

	_, err = there.Pairing.Revoke(w.ctx, "here", []string{"offer"})
	require.NoError(t, err)
	_, err = here.Recovery.PlanRestore(w.ctx, api.RestoreAsk{Volume: "notes", At: gone.ID, InPlace: true, From: "there"})
	require.ErrorContains(t, err, "does not let here look at its copies")
	link, _, err := here.Pairing.Link(w.ctx, must(here.Catalog.Peer("there")))
	require.NoError(t, err)
	id := must(object.ParseID(gone.ID))
	for op, body := range map[string]any{"root": route.RootAsk{Root: id},
		"history":  route.HistoryAsk{Lineage: records.LineageOf(gone.Lineage)},
		"find":     recovery.LookAsk{Lineage: records.LineageOf(gone.Lineage), Ask: []byte("{}")},
		"versions": recovery.LookAsk{Lineage: records.LineageOf(gone.Lineage), Ask: []byte(`"kept"`)},
		"objects":  route.ObjectsAsk{IDs: []object.ID{id}, Root: id}} {
		var no *transfer.Refusal
		require.ErrorAs(t, link.Ask(op, body, &struct{}{}), &no, op)
		require.Contains(t, no.What, "look at its copies", op)
	}
	_, err = here.Recovery.SetRecoveryOrder([]string{"nowhere"})
	require.ErrorContains(t, err, "no paired site nowhere")
}

func restored(t *testing.T, r api.Run) (res api.RestoreResult) {
	require.NoError(t, json.Unmarshal(r.Result.(json.RawMessage), &res))
	return res
}

// What the other site has damaged, or gives for something else, is never brought back, and is
// named; all else is.
func TestRecallTakesNothingWrong(t *testing.T) {
	w := newWorld(t)
	here, there := w.open("here"), w.open("there")
	dir := w.share(here, "notes")
	want := map[string]string{}
	noise := func(seed int) string {
		b := make([]byte, 20_000)
		rand.NewChaCha8([32]byte{byte(seed)}).Read(b)
		return string(b)
	}
	for k := range 60 {
		sub := fmt.Sprint("d", k%6)
		want[fmt.Sprint(sub, "/f", k)] = noise(k)
		require.NoError(t, os.MkdirAll(filepath.Join(dir, sub), 0o755))
		w.write(filepath.Join(dir, sub), fmt.Sprint("f", k), noise(k))
	}
	w.policy(here, "policy: p\nvolumes: {k: v}\ntake: [every 6 hours]\nkeep:\n  here: {newest: 1}\n  there: {newest: "+
		"9}\ngrace: 1 second\n")
	w.pair(here, there)
	w.route(here, "there")
	w.until(here, w.clock.Now().Add(6*time.Hour))
	old := w.rows(here, "notes")[0]
	w.empty(dir)
	w.write(dir, "b", "all new")
	require.NoError(t, here.Capture.Meant(must(here.Catalog.Volume("notes"))))
	w.until(here, w.clock.Now().Add(6*time.Hour))
	for range 2 {
		w.done(here)(here.Rules.Prune("", "test"))
		w.clock.Set(w.clock.Now().Add(2 * time.Second))
	}
	w.done(here)(here.Upkeep.Sweep(false, "test"))

	// A root of another volume, or signed by another site, is not taken for it.
	v := must(here.Catalog.Volume("notes"))
	peer := must(here.Catalog.Peer("there"))
	wrong := *v
	wrong.Lineage = strings.Repeat("7", 32)
	_, err := here.Recovery.RecallOf(w.ctx, peer, &wrong, old)
	require.ErrorContains(t, err, "a snapshot of another volume")
	foreign := *v
	foreign.Origin = "there"
	_, err = here.Recovery.RecallOf(w.ctx, peer, &foreign, old)
	require.ErrorContains(t, err, "was signed by another key")

	w.done(there)(there.Upkeep.Sweep(true, "test"))
	require.NoError(t, there.Close())
	w.damage("there", "d-", 1)
	there = w.open("there")
	require.NoError(t, here.Catalog.SetAddresses("there", there.Pairing.Addresses()))
	out := filepath.Join(w.dir, "out")
	run := w.done(here)(here.Recovery.Restore(w.ctx, api.RestoreAsk{Volume: "notes", At: old.ID, To: out}, "test"))
	require.Equal(t, "done with remarks", run.State)
	res := restored(t, run)
	told := map[string]bool{}
	for _, m := range res.Remarks {
		require.Contains(t, m.What, "damaged: there has object")
		told[m.Path] = true
	}
	require.NotEmpty(t, told)
	require.Less(t, len(told), 10)
	for rel, text := range want {
		got, err := os.ReadFile(filepath.Join(out, rel))
		require.Equal(t, told[rel], err != nil, rel)
		require.True(t, err != nil || string(got) == text, rel)
	}
	// Of a damaged top directory nothing is known, and nothing is made.
	require.NoError(t, there.Close())
	w.damage("there", "m-", 50)
	there = w.open("there")
	require.NoError(t, here.Catalog.SetAddresses("there", there.Pairing.Addresses()))
	run, err = here.Recovery.Restore(w.ctx, api.RestoreAsk{Volume: "notes", At: old.ID, To: out + "2", From: "there"},
		"test")
	require.NoError(t, err)
	run, err = here.Run.Wait(w.ctx, run.ID)
	require.NoError(t, err)
	require.Equal(t, "failed", run.State)
	require.Contains(t, run.Outcome, "nothing was restored: there has object")
	require.NoDirExists(t, out+"2")
}

// A disk comes back from a snapshot that only the other site still has: to a file and in place, also when it
// cannot be opened any more, and over a line that goes down; only what is not here comes over.
func TestDiskBackFromOtherSites(t *testing.T) {
	w := newWorld(t)
	here, there := w.open("here"), w.open("there")
	w.disk(here, "db")
	w.policy(here, "policy: p\nvolumes: {k: v}\ntake: [every 6 hours]\nkeep:\n  here: {newest: 1}\n  there: {newest: "+
		"9}\ngrace: 1 second\n")
	w.pair(here, there)
	w.route(here, "there")
	holds := make([]byte, diskSize)
	var was [][]byte
	var ids []string
	write := func(blocks ...int64) {
		d := must(here.Disks.Disk("db"))
		for _, b := range blocks {
			p := make([]byte, 4096)
			for i := range p { // hardly to be compressed
				p[i] = byte(rand.Uint32())
			}
			require.NoError(t, d.WriteAt(w.ctx, p, b*4096, false))
			copy(holds[b*4096:], p)
		}
		w.until(here, w.clock.Now().Add(6*time.Hour))
		was, ids = append(was, bytes.Clone(holds)), append(ids, w.rows(here, "db")[0].ID)
	}
	all := make([]int64, diskSize/4096)
	for i := range all {
		all[i] = int64(i)
	}
	write(all...)
	write(5, 300, 301)
	write(7)
	for range 2 {
		w.done(here)(here.Rules.Prune("", "test"))
		w.clock.Set(w.clock.Now().Add(2 * time.Second))
	}
	w.done(here)(here.Upkeep.Sweep(false, "test"))
	require.Len(t, w.rows(here, "db"), 1)

	image := api.RestoreAsk{Volume: "db", At: ids[0], To: filepath.Join(w.dir, "db.img")}
	plan := must(here.Recovery.PlanRestore(w.ctx, image))
	require.Equal(t, "there", plan.From)
	require.EqualValues(t, 4*4096, plan.FetchBytes)
	res := restored(t, w.done(here)(here.Recovery.Restore(w.ctx, image, "test")))
	require.Equal(t, "there", res.From)
	require.Less(t, res.FetchBytes, int64(40<<10), "of 3 MiB")
	require.True(t, bytes.Equal(was[0], must(os.ReadFile(image.To))))

	back := api.RestoreAsk{Volume: "db", At: ids[1], InPlace: true}
	require.Contains(t, must(here.Recovery.PlanRestore(w.ctx, back)).Summary, "would come from the snapshot")
	run := must(here.Recovery.Restore(w.ctx, back, "test"))
	here.Pairing.CloseLines()
	w.done(here)(run, nil)
	require.True(t, bytes.Equal(was[1], w.diskBytes(here, "db")))
	w.done(here)(here.Upkeep.Sweep(true, "test"))
	require.True(t, bytes.Equal(was[1], w.diskBytes(here, "db")), "what came stays while the disk needs it")
	w.done(here)(here.Recovery.Undo(run.ID, "test"))
	require.True(t, bytes.Equal(was[2], w.diskBytes(here, "db")))

	// The image is lost, with it all that was here.
	path := must(here.Catalog.Volume("db")).Path
	require.NoError(t, here.Close())
	require.NoError(t, os.Remove(path))
	here = w.open("here")
	require.NoError(t, there.Catalog.SetAddresses("here", here.Pairing.Addresses()))
	run = w.done(here)(here.Recovery.Restore(w.ctx, api.RestoreAsk{Volume: "db", At: ids[0], InPlace: true, Anew: true,
		From: "there"}, "test"))
	require.Contains(t, run.Outcome, "from there")
	require.True(t, bytes.Equal(was[0], w.diskBytes(here, "db")))
	w.done(here)(here.Capture.TakeSnapshot("db", api.SnapshotTake{}, "test"))
	require.True(t, bytes.Equal(was[0], w.imageOf(here, "db", "latest")))
	require.NoError(t, here.Close())
	here = w.open("here")
	require.True(t, bytes.Equal(was[0], w.diskBytes(here, "db")))
	require.Equal(t, "done", w.done(here)(here.Upkeep.Verify("test")).State)
}
