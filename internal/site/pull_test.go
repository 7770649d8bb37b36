package site

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/datadir"
	"candidharbor/internal/records"
	"candidharbor/internal/route"
	"candidharbor/internal/transfer"

	"github.com/stretchr/testify/require"
)

// vaulted is a source and a vault that pulls from it and grants it nothing. The vault
// listens nowhere that the source knows of.
func vaulted(w *world) (source, vault *Site, dir string) {
	source, vault = w.open("source"), w.open("vault")
	dir = w.share(source, "notes")
	inv := must(source.Pairing.Invite([]string{"read", "see"}))
	_, err := vault.Pairing.Pair(w.ctx, inv.Text, []string{"nothing"})
	require.NoError(w.t, err)
	return source, vault, dir
}

// A vault takes what its rules keep, over a line that it dials; what it tells is what the
// source shows, and what is newer than that is owed to it.
func TestVaultPulls(t *testing.T) {
	w := newWorld(t)
	source, vault, dir := vaulted(w)
	w.policy(source, "policy: p\nvolumes: {k: v}\ntake: [every 6 hours]\nzone: Europe/Lisbon\nkeep:\n  source: "+
		"{newest: 1}\n  vault: {daily: 4}\ngrace: 1 second\nobjectives: {vault: 30 hours}\n")
	_, err := vault.Routes.AddRoute(api.RouteAdd{Name: "from-source", From: "source", Labels: map[string]string{"k": "v"},
		Terms: api.RouteTerms{When: "daily at 23:00", Zone: "Europe/Lisbon", Tell: "counts"}})
	require.NoError(t, err)
	for n := range 7 {
		for range 4 {
			w.write(dir, "a", fmt.Sprint("day ", n, w.clock.Now()))
			w.until(source, w.clock.Now().Add(6*time.Hour))
		}
		_, err := vault.Step(w.ctx, true)
		require.NoError(t, err)
		for _, s := range []*Site{vault, source} {
			w.done(s)(s.Rules.Prune("", "test"))
		}
		w.clock.Set(w.clock.Now().Add(2 * time.Second))
		for _, s := range []*Site{vault, source} {
			w.done(s)(s.Rules.Prune("", "test"))
		}
	}
	rows := w.rows(vault, "notes@source")
	require.InDelta(t, 4, len(rows), 1, "its own rules, proposed by the source, decide there")
	r := must(vault.Routes.Route("from-source"))
	require.True(t, r.Pull)
	require.Equal(t, []string{"source", "vault"}, []string{r.From, r.To})
	require.NotNil(t, r.NextDue)
	v := must(source.Overview.Volume("notes"))
	require.Equal(t, "vault", v.Places[1].Place)
	require.NotNil(t, v.Places[1].Told)
	require.Equal(t, "on target", v.Places[1].State)

	// The vault stays away: what its rules keep is owed to it, and told.
	for n := range 3 {
		w.write(dir, "a", fmt.Sprint("later ", n))
		w.until(source, w.clock.Now().Add(24*time.Hour))
		w.done(source)(source.Rules.Prune("", "test"))
		w.clock.Set(w.clock.Now().Add(2 * time.Second))
		w.done(source)(source.Rules.Prune("", "test"))
	}
	owed := 0
	for _, s := range must(source.Recovery.Snapshots("notes", catalog.SnapshotFilter{Limit: 100})).Items {
		if strings.Contains(strings.Join(s.Reasons, ";"), "owed to vault") {
			owed++
		}
	}
	require.GreaterOrEqual(t, owed, 2)
	require.Equal(t, "late", must(source.Overview.Volume("notes")).Places[1].State)
	w.done(vault)(vault.Routes.RunRoute("from-source", "test"))
	require.Equal(t, "on target", must(source.Overview.Volume("notes")).Places[1].State)
	require.Equal(t, "current", must(vault.Routes.Route("from-source")).State)
	require.Equal(t, "later 2", w.textOf(vault, w.rows(vault, "notes@source")[0], "a"))
}

// From the first time that a site asks, what its rules keep is owed to it, although nothing
// could be taken yet.
func TestOwedFromTheFirst(t *testing.T) {
	w := newWorld(t)
	source, vault, dir := vaulted(w)
	w.policy(source, "policy: p\nvolumes: {k: v}\ntake: [every 6 hours]\nzone: UTC\nkeep:\n  source: {newest: 1}\n  "+
		"vault: {daily: 4}\ngrace: 1 second\n")
	_, err := vault.Routes.AddRoute(api.RouteAdd{Name: "from-source", From: "source", Labels: map[string]string{"k": "v"},
		Terms: api.RouteTerms{When: "on demand"}})
	require.NoError(t, err)
	_, err = vault.Pairing.Grant(w.ctx, "source", api.GrantAsk{Grants: []string{"offer"}, QuotaBytes: 1})
	require.NoError(t, err)
	w.write(dir, "a", "the first day")
	w.until(source, w.clock.Now().Add(6*time.Hour))
	run := must(vault.Routes.RunRoute("from-source", "test"))
	require.Equal(t, "failed", must(vault.Run.Wait(w.ctx, run.ID)).State)
	require.Equal(t, "unprotected", must(source.Overview.Volume("notes")).Places[1].State)
	for n := range 3 {
		w.write(dir, "a", fmt.Sprint("later ", n))
		w.until(source, w.clock.Now().Add(24*time.Hour))
		w.done(source)(source.Rules.Prune("", "test"))
	}
	w.clock.Set(w.clock.Now().Add(2 * time.Second))
	w.done(source)(source.Rules.Prune("", "test"))
	_, err = vault.Rules.RemoveCap("peer", "source")
	require.NoError(t, err)
	w.done(vault)(vault.Routes.RunRoute("from-source", "test"))
	require.Len(t, w.rows(vault, "notes@source"), 4)
}

// What is removed at its source between being listed and being carried is passed over, both
// ways, and what is left is carried.
func TestRemovedMeanwhile(t *testing.T) {
	w := newWorld(t)
	source, vault, dir := vaulted(w)
	there := w.open("there")
	w.pair(source, there)
	_, err := vault.Routes.AddRoute(api.RouteAdd{Name: "from-source", From: "source", Labels: map[string]string{"k": "v"},
		Terms: api.RouteTerms{When: "on demand", Carry: "all"}})
	require.NoError(t, err)
	_, err = source.Routes.AddRoute(api.RouteAdd{Name: "to-there", To: "there", Labels: map[string]string{"k": "v"},
		Terms: api.RouteTerms{When: "on demand", Carry: "all"}})
	require.NoError(t, err)
	for n := range 3 {
		w.write(dir, "a", fmt.Sprint("state ", n))
		w.done(source)(source.Capture.TakeSnapshot("notes", api.SnapshotTake{}, "test"))
	}
	rows := w.rows(source, "notes")
	// As when the row is still there while the snapshot is not any more.
	require.NoError(t, source.Store.RemoveRoots(must(object.ParseID(rows[1].ID))))
	for s, route := range map[*Site]string{vault: "from-source", source: "to-there"} {
		run := w.done(s)(s.Routes.RunRoute(route, "test"))
		require.Contains(t, fmt.Sprint(must(s.Run.Run(run.ID)).Log), rows[1].ID[:12]+" of notes")
	}
	for _, s := range []*Site{vault, there} {
		have := w.rows(s, "notes@source")
		require.Equal(t, []string{rows[0].ID, rows[2].ID}, []string{have[0].ID, have[1].ID})
		require.Len(t, have, 2)
	}
}

// The source cannot learn, change or remove anything at a vault, not even over the line
// that the vault dialled; and the vault cannot read what it was not granted.
func TestVaultGrantsNothing(t *testing.T) {
	w := newWorld(t)
	source, vault, dir := vaulted(w)
	w.write(dir, "a", "1")
	other := filepath.Join(w.dir, "other")
	require.NoError(t, os.MkdirAll(other, 0o755))
	w.write(other, "b", "secret")
	_, err := source.Capture.AddVolume(w.ctx, api.VolumeAdd{Name: "private", Path: other,
		Labels: map[string]string{"k": "private"}})
	require.NoError(t, err)
	_, err = source.Pairing.Grant(w.ctx, "vault", api.GrantAsk{Grants: []string{"read"},
		Labels: map[string]string{"k": "v"}})
	require.NoError(t, err)
	for _, v := range []string{"notes", "private"} {
		w.done(source)(source.Capture.TakeSnapshot(v, api.SnapshotTake{}, "test"))
	}
	_, err = vault.Routes.AddRoute(api.RouteAdd{Name: "r", From: "source", Labels: map[string]string{"k": "v"}})
	require.NoError(t, err)
	w.done(vault)(vault.Routes.RunRoute("r", "test"))
	require.Len(t, w.rows(vault, "notes@source"), 1)

	// The vault's own line, used by the source.
	p := must(source.Catalog.Peer("vault"))
	link, _, err := source.Pairing.Link(w.ctx, p)
	require.NoError(t, err)
	row := w.rows(source, "notes")[0]
	id := must(object.ParseID(row.ID))
	for op, body := range map[string]any{
		"histories": struct{}{}, "desk": struct{}{}, "history": route.HistoryAsk{Lineage: records.LineageOf(row.Lineage)},
		"fetch": route.Fetch{Root: id},
		transfer.OpCarry: transfer.CarryRequest{Lineage: records.LineageOf(row.Lineage), Volume: "notes", Origin: "source",
			Root: id},
	} {
		var refused *transfer.Refusal
		require.ErrorAs(t, link.Ask(op, body, &struct{}{}), &refused, op)
		require.Contains(t, refused.What, "does not let source", op)
	}
	require.ErrorContains(t, link.Ask("report", []route.Report{{Lineage: records.LineageOf(row.Lineage), Newest: 1}},
		&struct{}{}), "does not let source")
	_, err = source.Routes.AddRoute(api.RouteAdd{Name: "in", To: "vault", Labels: map[string]string{"k": "v"}})
	require.NoError(t, err)
	_, err = source.Routes.CheckRoute(w.ctx, api.RouteAdd{Name: "in2", To: "vault", Labels: map[string]string{"k": "v"}})
	require.ErrorContains(t, err, "does not let this site bring snapshots")
	require.Len(t, w.rows(vault, "notes@source"), 1)

	// What was not granted cannot be read, and a grant taken back holds at once.
	theirs := must(vault.Catalog.Peer("source"))
	back, _, err := vault.Pairing.Link(w.ctx, theirs)
	require.NoError(t, err)
	secret := w.rows(source, "private")[0]
	var hs route.Histories
	require.NoError(t, back.Ask("histories", route.HistoriesAsk{}, &hs))
	require.Len(t, hs.All, 1)
	require.ErrorContains(t, back.Ask("fetch", route.Fetch{Root: must(object.ParseID(secret.ID))},
		&transfer.CarryRequest{}), "does not let vault read")
	require.ErrorContains(t, back.Ask("history", route.HistoryAsk{Lineage: records.LineageOf(secret.Lineage)},
		&route.HistoryPage{}), "does not let vault look")
	said, err := source.Pairing.Revoke(w.ctx, "vault", []string{"read"})
	require.NoError(t, err)
	require.Contains(t, said, "look at it")
	require.ErrorContains(t, back.Ask("histories", route.HistoriesAsk{}, &hs), "does not let vault read")
	run, err := vault.Run.Wait(w.ctx, must(vault.Routes.RunRoute("r", "test")).ID)
	require.NoError(t, err)
	require.Equal(t, "failed", run.State)
	require.Equal(t, "refused", must(vault.Routes.Route("r")).State)
	_, err = source.Pairing.Revoke(w.ctx, "vault", nil)
	require.NoError(t, err)
	_, err = vault.Pairing.CheckPeer(w.ctx, "source")
	require.ErrorContains(t, err, "does not know this key")
}

// Copies go on from site to site, are still signed by who took them, and never come home.
func TestChain(t *testing.T) {
	w := newWorld(t)
	a, b, c := w.open("a-site"), w.open("b-site"), w.open("c-site")
	dir := w.share(a, "notes")
	w.policy(a, "policy: p\nvolumes: {k: v}\ntake: [every 6 hours]\nkeep:\n  c-site: {newest: 3}\n")
	w.pair(a, b)
	w.pair(b, c)
	w.pair(c, a)
	w.route(a, "b-site")
	for _, r := range []struct {
		at *Site
		to string
	}{{b, "c-site"}, {c, "a-site"}, {b, "a-site"}} {
		_, err := r.at.Routes.AddRoute(api.RouteAdd{Name: "on-to-" + r.to, To: r.to, Labels: map[string]string{"k": "v"},
			Terms: api.RouteTerms{Onward: true}})
		require.NoError(t, err)
	}
	for n := range 4 {
		w.write(dir, "a", fmt.Sprint(n))
		w.until(a, w.clock.Now().Add(6*time.Hour))
		for _, s := range []*Site{b, c} {
			_, err := s.Step(w.ctx, true)
			require.NoError(t, err)
		}
	}
	require.Len(t, w.rows(b, "notes@a-site"), 4)
	rows := w.rows(c, "notes@a-site")
	require.Equal(t, "3", w.textOf(c, rows[0], "a"))
	v := must(c.Catalog.Volume("notes@a-site"))
	require.Contains(t, v.Proposed, "newest: 3", "the rules travel on")
	require.Empty(t, must(c.Routes.Route("on-to-a-site")).Volumes, "never back home")
	require.Len(t, must(a.Catalog.Volumes()), 1)

	// What b-site brings of others counts against its quota.
	require.Equal(t, "b-site", must(c.Catalog.Volume("notes@a-site")).Via)
	_, err := c.Pairing.Grant(w.ctx, "b-site", api.GrantAsk{Grants: []string{"offer"}, QuotaBytes: 1})
	require.NoError(t, err)
	w.write(dir, "a", "too much")
	w.until(a, w.clock.Now().Add(6*time.Hour))
	_, err = b.Step(w.ctx, true)
	require.NoError(t, err)
	full := must(b.Routes.Route("on-to-c-site"))
	require.Equal(t, "waiting", full.State)
	require.Contains(t, full.Sentence, "It waits for room at c-site")
	_, err = c.Rules.RemoveCap("peer", "b-site")
	require.NoError(t, err)
	w.clock.Set(w.clock.Now().Add(time.Minute))
	_, err = b.Step(w.ctx, true)
	require.NoError(t, err)
	require.Equal(t, "current", must(b.Routes.Route("on-to-c-site")).State, "it goes on by itself")
	rows = w.rows(c, "notes@a-site")

	// b-site makes up a snapshot of a-site's volume: it cannot sign it.
	row := w.rows(b, "notes@a-site")[0]
	root, _, err := b.Store.Root(must(object.ParseID(row.ID)))
	require.NoError(t, err)
	root.Sequence += 100
	wr := b.Store.NewWriter(b.Store.NewLease())
	id, err := wr.Commit(root)
	require.NoError(t, err)
	link, _, err := b.Pairing.Link(w.ctx, must(b.Catalog.Peer("c-site")))
	require.NoError(t, err)
	err = (&transfer.Sender{Store: b.Store, Request: transfer.CarryRequest{Lineage: root.Lineage, Volume: "notes",
		Origin: "a-site", Root: id}}).Run(w.ctx, link)
	require.ErrorContains(t, err, "not signed by the site that took it")
	require.Len(t, w.rows(c, "notes@a-site"), len(rows))
}

// A site gets a new key: the others learn it from the old one, copies go on, and what the
// old key signed still counts.
func TestRotation(t *testing.T) {
	w := newWorld(t)
	here, there := w.open("here"), w.open("there")
	dir := w.share(here, "notes")
	w.pair(here, there)
	w.route(here, "there")
	w.write(dir, "a", "old")
	w.done(here)(here.Capture.TakeSnapshot("notes", api.SnapshotTake{}, "test"))
	here.Pairing.CutLine(true)
	_, err := here.Pairing.Rotate(w.ctx, false)
	require.ErrorContains(t, err, "the old key stays in use")
	was := here.Identity().Public()
	here.Pairing.CutLine(false)
	late, err := transfer.Dial(w.ctx, there.Pairing.PeerAddress(), here.Identity(), there.Identity().Public())
	require.NoError(t, err)
	stale := must(there.Catalog.Peer("here"))
	said, err := here.Pairing.Rotate(w.ctx, false)
	require.NoError(t, err)
	require.False(t, here.Pairing.TakeLink("there", late, true), "a line that was begun with the key that was given up")
	require.NoError(t, late.Close())
	require.Contains(t, said, "there know it")
	require.NotEqual(t, was, here.Identity().Public())
	w.write(dir, "a", "new")
	w.done(here)(here.Capture.TakeSnapshot("notes", api.SnapshotTake{}, "test"))
	w.done(here)(here.Routes.RunRoute("to-there", "test"))
	require.Len(t, w.rows(there, "notes@here"), 2, "also the one that the old key signed")
	p := must(there.Catalog.Peer("here"))
	require.Len(t, p.Former.V, 1)
	require.Empty(t, p.NextKey)
	_, err = there.Pairing.CheckPeer(w.ctx, "here")
	require.NoError(t, err)

	for range 3 { // each is announced by the one before, whatever lines there were
		_, err = here.Pairing.Rotate(w.ctx, false)
		require.NoError(t, err)
	}

	require.NoError(t, here.Close())
	here = w.open("here")
	_, err = here.Pairing.CheckPeer(w.ctx, "there")
	require.NoError(t, err, "the new key is the one on disk")
	require.Len(t, must(there.Catalog.Peer("here")).Former.V, 4)
	old, err := transfer.NewIdentity(must(datadir.LoadKey(filepath.Join(w.dir, "there", "keys", "site.pem"))))
	require.NoError(t, err)
	require.NotEqual(t, was, old.Public())

	// What a request began before its site was sent away does not bring it back.
	_, err = there.Pairing.Revoke(w.ctx, "here", nil)
	require.NoError(t, err)
	require.False(t, must(there.Catalog.AnnounceKey("here", stale.Key, "00")))
	require.False(t, must(there.Catalog.ChangeKey(stale, "00")))
	_, err = there.Catalog.Peer("here")
	require.ErrorIs(t, err, catalog.ErrNone)
}

// A site keeps the name that it was founded with, and is paired under one name only.
func TestNameIsForGood(t *testing.T) {
	w := newWorld(t)
	here, there := w.open("here"), w.open("there")
	w.share(here, "notes")
	w.pair(here, there)
	p := &catalog.Peer{Name: "else", Key: must(there.Catalog.Peer("here")).Key}
	require.ErrorContains(t, there.Pairing.SameKeyAs(p.Name, p.Key), "already, as the site here")
	require.NoError(t, here.Close())
	path := filepath.Join(w.dir, "here", "site.yaml")
	yaml := must(os.ReadFile(path))
	require.NoError(t, os.WriteFile(path, []byte(strings.Replace(string(yaml), "name: here", "name: else", 1)), 0o600))
	_, err := Open(Options{Data: filepath.Join(w.dir, "here"), Clock: w.clock})
	require.ErrorContains(t, err, "founded as here")
	require.NoError(t, os.WriteFile(path, yaml, 0o600))
	here = w.open("here")
	_, err = here.Pairing.CheckPeer(w.ctx, "there")
	require.NoError(t, err)
}

// Everything that two sites share is removed at one of them: the next carry still sends
// only what the other lacks, pushed or pulled.
func TestNothingInCommon(t *testing.T) {
	for _, pull := range []bool{false, true} {
		w := newWorld(t)
		w.setup = func(c *datadir.Config) { c.Floor = "" }
		here, there := w.open("here"), w.open("there")
		dir := w.share(here, "notes")
		for k := range 200 {
			w.write(dir, fmt.Sprintf("file %d", k), strings.Repeat(fmt.Sprintf("%d %x ", k, k*7919), 2000))
		}
		inv := must(here.Pairing.Invite([]string{"read", "offer"}))
		_, err := there.Pairing.Pair(w.ctx, inv.Text, nil)
		require.NoError(t, err)
		at, ask := here, api.RouteAdd{Name: "r", To: "there", Labels: map[string]string{"k": "v"}}
		if pull {
			at, ask = there, api.RouteAdd{Name: "r", From: "here", Labels: map[string]string{"k": "v"}}
		}
		_, err = at.Routes.AddRoute(ask)
		require.NoError(t, err)
		w.done(here)(here.Capture.TakeSnapshot("notes", api.SnapshotTake{}, "test"))
		w.done(at)(at.Routes.RunRoute("r", "test"))
		first := must(at.Routes.Route("r")).SentBytes
		require.Greater(t, first, int64(20_000))
		for _, row := range w.rows(here, "notes") {
			_, err := here.Rules.RemoveSnapshot(row.ID)
			require.NoError(t, err)
		}
		w.write(dir, "file 7", "changed")
		w.done(here)(here.Capture.TakeSnapshot("notes", api.SnapshotTake{}, "test"))
		w.clock.Set(w.clock.Now().Add(49 * time.Hour))
		w.done(here)(here.Rules.Prune("", "test"))
		require.Len(t, w.rows(here, "notes"), 1)
		w.done(at)(at.Routes.RunRoute("r", "test"))
		require.Len(t, w.rows(there, "notes@here"), 2)
		require.Less(t, must(at.Routes.Route("r")).SentBytes-first, first/3, "the directory and one file")
	}
}

// That nothing changed is found out by one question and told by one small answer; a change
// at either end, and a day gone by, make a look whole again.
func TestPullLooksOnce(t *testing.T) {
	w := newWorld(t)
	source, vault, dir := vaulted(w)
	w.write(dir, "a", "1")
	w.done(source)(source.Capture.TakeSnapshot("notes", api.SnapshotTake{}, "test"))
	_, err := vault.Routes.AddRoute(api.RouteAdd{Name: "r", From: "source", Labels: map[string]string{"k": "v"}})
	require.NoError(t, err)
	link, _, err := vault.Pairing.Link(w.ctx, must(vault.Catalog.Peer("source")))
	require.NoError(t, err)
	settle := func() {
		w.done(vault)(vault.Routes.RunRoute("r", "test"))
		w.done(vault)(vault.Routes.RunRoute("r", "test"))
	}
	same := func() bool {
		_, same, err := vault.Routes.LookThere(must(vault.Catalog.Route("r")), link, false)
		require.NoError(t, err)
		return same
	}
	settle()
	require.True(t, same())
	var hs route.Histories
	require.NoError(t, link.Ask("histories", route.HistoriesAsk{}, &hs))
	whole := hs.State
	hs = route.Histories{}
	require.NoError(t, link.Ask("histories", route.HistoriesAsk{Unless: whole}, &hs))
	require.True(t, hs.Same)
	require.Empty(t, hs.All)
	for say, change := range map[string]func(){
		"a snapshot there": func() {
			w.write(dir, "a", fmt.Sprint(w.clock.Now()))
			w.clock.Set(w.clock.Now().Add(time.Minute))
			w.done(source)(source.Capture.TakeSnapshot("notes", api.SnapshotTake{}, "test"))
		},
		"a keep mark there": func() {
			_, err := source.Rules.KeepSnapshot(w.rows(source, "notes")[0].ID, api.KeepAsk{Reason: "audit"})
			require.NoError(t, err)
		},
		"a label there": func() {
			_, err := source.Capture.SetLabels("notes", api.LabelsPut{Labels: map[string]string{"k": "v", "x": "y"},
				Accept: true})
			require.NoError(t, err)
		},
		"other rules here": func() {
			w.policy(vault, "policy: here\nvolumes: {k: v}\nkeep: {vault: {newest: 9}}\n")
		},
		"a day": func() { w.clock.Set(w.clock.Now().Add(25 * time.Hour)) },
	} {
		change()
		require.False(t, same(), say)
		settle()
		require.True(t, same(), say)
	}
}
