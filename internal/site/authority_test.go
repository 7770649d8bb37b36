package site

import (
	"bytes"
	"crypto/ed25519"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"candidharbor/api"
	"candidharbor/core/authority"
	"candidharbor/core/object"
	iauthority "candidharbor/internal/authority"
	"candidharbor/internal/catalog"
	"candidharbor/internal/datadir"
	"candidharbor/internal/records"

	"github.com/stretchr/testify/require"
)

// A site that is put back to an earlier state serves nothing that others may have taken over, until a person says that
// it goes on; what it says then others follow. Of two that show one key neither serves.
func TestPutBackAndTwins(t *testing.T) {
	w := newWorld(t)
	home, dr := w.twoSites()
	dir := w.share(home, "notes")
	w.disk(home, "store")
	_, err := home.Routes.AddRoute(api.RouteAdd{Name: "to-dr", To: "dr", Names: []string{"notes", "store"},
		Terms: api.RouteTerms{When: "on demand"}})
	require.NoError(t, err)
	w.take(home, "notes")
	w.take(home, "store")
	w.done(home)(home.Routes.RunRoute("to-dr", "test"))
	at := home.Pairing.PeerAddress()
	require.NoError(t, home.Close())
	image := filepath.Join(w.dir, "image")
	require.NoError(t, copyDir(filepath.Join(w.dir, "home"), image))

	home = w.openAt("home", at)
	w.greet(home, "dr")
	w.write(dir, "a", "after the image")
	w.take(home, "notes")
	require.NoError(t, home.Close())
	require.NoError(t, copyDir(image, filepath.Join(w.dir, "home")))

	home = w.openAt("home", at) // it asks the other site before it serves
	require.Equal(t, "put-back", must(home.Failover.Authority("notes")).Doubt)
	_, err = home.Capture.TakeSnapshot("notes", api.SnapshotTake{}, "test")
	require.ErrorContains(t, err, "it is not known whether this site is still the active one")
	require.False(t, home.Disks.IsOpen("store"), "no client gets at it")
	book := must(home.Failover.PutRunbook("runbook: r\nat: home\nbring_up: [notes]\n", "test"))
	require.True(t, slices.ContainsFunc(book.Readiness.Checks, func(c api.ReadyCheck) bool {
		return c.Code == "known" && !c.OK && strings.Contains(c.Text, "It is not known who is active of notes")
	}), "%+v", book.Readiness)
	require.True(t, slices.ContainsFunc(must(home.Overview.Status()).Sentences, func(x api.Sentence) bool {
		return x.Weight == "act" && strings.HasPrefix(x.Text, "It is not known whether this site is still the "+
			"active one of 2")
	}))
	for _, v := range []string{"notes", "store"} {
		a := must(home.Failover.GoOn(v, "test"))
		require.True(t, a.Here, a.Sentence)
		require.EqualValues(t, 3, a.Term, "above the term that the histories of a site that was put back get")
	}
	_, err = home.Disks.OpenDisk(w.ctx, "store", true) // its image is a copy too
	require.NoError(t, err)
	w.take(home, "notes")
	w.take(home, "store")
	w.greet(home, "dr")
	require.EqualValues(t, 3, must(dr.Failover.Authority("notes@home")).Term)
	w.done(home)(home.Routes.RunRoute("to-dr", "test"))
	require.Equal(t, "after the image", w.textOf(dr, must(dr.Catalog.LastSnapshot("dr",
		must(dr.Catalog.Volume("notes@home")).Lineage)), "a"))

	// A copy of the site is started as well.
	require.NoError(t, home.Close())
	require.NoError(t, copyDir(filepath.Join(w.dir, "home"), filepath.Join(w.dir, "twin")))
	home = w.openAt("home", at)
	twin, err := Open(Options{Data: filepath.Join(w.dir, "twin"), Clock: w.clock, Listen: "127.0.0.1:0"})
	require.NoError(t, err)
	t.Cleanup(func() { twin.Close() })
	for _, s := range []*Site{home, twin, home, twin, home} {
		_, _, _, err := s.Pairing.Greet(w.ctx, must(s.Catalog.Peer("dr")))
		require.NoError(t, err)
	}
	for _, s := range []*Site{home, twin} {
		a := must(s.Failover.Authority("notes"))
		require.False(t, a.Here, "%s", a.Sentence)
		require.NotEmpty(t, a.Doubt)
	}
}

// A site that learns at its start that the other one has handed over to it serves nothing of what it had before: what
// lies there is older, until it was brought up.
func TestHandedOverWhileOff(t *testing.T) {
	w := newWorld(t)
	home, dr := w.twoSites()
	w.disk(home, "store")
	w.share(home, "notes")
	_, err := home.Routes.AddRoute(api.RouteAdd{Name: "to-dr", To: "dr", Names: []string{"store", "notes"},
		Terms: api.RouteTerms{When: "on demand"}})
	require.NoError(t, err)
	w.take(home, "store")
	w.take(home, "notes")
	w.done(home)(home.Routes.RunRoute("to-dr", "test"))
	_, err = dr.Failover.PutRunbook("runbook: r\nat: dr\nbring_up: [store, notes]\npaths: {notes: "+
		filepath.Join(w.dir, "up")+"}\n", "test")
	require.NoError(t, err)
	_, err = home.Failover.PutRunbook("runbook: r\nat: home\nbring_up: [store, notes]\n", "test")
	require.NoError(t, err)
	at := home.Pairing.PeerAddress()
	w.over(dr)(dr.Failover.Failover(w.ctx, "r", api.FailoverAsk{}, "test"))
	w.greet(home, "dr")
	w.settles(home, "stand-back")
	holds := make([]byte, diskSize)
	w.scribble(dr, "store@home", holds, rand.New(rand.NewPCG(1, 3)))
	w.write(filepath.Join(w.dir, "up"), "a", "at dr")
	w.take(dr, "store@home")
	w.take(dr, "notes@home")
	w.done(dr)(dr.Routes.RunRoute(must(dr.Catalog.Routes())[0].Name, "test")) // home has it all
	require.NoError(t, home.Close())
	var all []iauthority.Going
	for _, name := range []string{"notes@home", "store@home"} {
		v := must(dr.Catalog.Volume(name))
		all = append(all, iauthority.Going{Volume: v, From: must(dr.Catalog.LastSnapshot("dr", v.Lineage))})
	}
	_, err = dr.Authority.Move("home", all, [16]byte{1}, "test")
	require.NoError(t, err)

	home = w.openAt("home", at)
	require.True(t, must(home.Failover.Authority("store")).Here)
	require.False(t, home.Disks.IsOpen("store"), "a client would write to what it was before")
	_, err = home.Disks.OpenDisk(w.ctx, "store", true)
	require.ErrorContains(t, err, "brought up by a failover")
	require.True(t, slices.ContainsFunc(must(home.Overview.Status()).Sentences, func(x api.Sentence) bool {
		return x.Command == "candid failover r --unplanned" && x.Weight == "act"
	}))
	_, err = home.Capture.TakeSnapshot("notes", api.SnapshotTake{}, "test")
	require.ErrorContains(t, err, "brought up")
	require.NoError(t, home.Close())
	home = w.openAt("home", at)
	require.False(t, home.Disks.IsOpen("store"))
	w.over(home)(home.Failover.Failover(w.ctx, "r", api.FailoverAsk{Unplanned: true}, "test"))
	require.True(t, bytes.Equal(holds, w.diskBytes(home, "store")))
	require.Equal(t, "at dr", string(must(os.ReadFile(filepath.Join(w.dir, "shares", "notes", "a")))))
	w.take(home, "store")
	w.take(home, "notes")
}

// A disk that cannot be read at the site that lost it keeps nothing from coming home; what was there is put aside.
func TestStandBackFromDamage(t *testing.T) {
	w := newWorld(t)
	home, dr := w.twoSites()
	w.disk(home, "store")
	_, err := home.Routes.AddRoute(api.RouteAdd{Name: "to-dr", To: "dr", Names: []string{"store"},
		Terms: api.RouteTerms{When: "on demand"}})
	require.NoError(t, err)
	w.take(home, "store")
	w.done(home)(home.Routes.RunRoute("to-dr", "test"))
	for s, at := range map[*Site]string{home: "home", dr: "dr"} {
		_, err := s.Failover.PutRunbook("runbook: r\nat: "+at+"\nbring_up: [store]\n", "test")
		require.NoError(t, err)
	}
	at := home.Pairing.PeerAddress()
	require.NoError(t, home.Close())
	dir := filepath.Dir(must(filepath.Glob(filepath.Join(w.dir, "home", "disks", "*", "state")))[0])
	require.NoError(t, os.WriteFile(filepath.Join(dir, "state"), []byte("{}"), 0o600))
	w.over(dr)(dr.Failover.Failover(w.ctx, "r", api.FailoverAsk{Unplanned: true}, "test"))

	home = w.openAt("home", at)
	w.greet(home, "dr")
	w.settles(home, "stand-back")
	page := must(home.Run.Runs(catalog.RunFilter{Kind: "stand-back", Limit: 10}))
	require.True(t, slices.ContainsFunc(page.Items, func(r api.Run) bool { return r.State == api.RunDoneWithRemarks }),
		"%+v", page.Items)
	aside := must(filepath.Glob(dir + ".aside-*"))
	require.Len(t, aside, 1)
	require.FileExists(t, filepath.Join(aside[0], "image"))
	w.take(dr, "store@home")
	w.over(home)(home.Failover.Failover(w.ctx, "r", api.FailoverAsk{}, "test"))
	require.True(t, home.Disks.IsOpen("store"))
	w.take(home, "store")
}

// With start_alone: no a site serves what others may take over only after one of them has answered.
func TestStartAlone(t *testing.T) {
	_, err := datadir.Config{Name: "a", Listen: "a:1", PeerListen: "a:1", Alone: "stop after 5 minutes"}.Check("site.yaml")
	require.ErrorContains(t, err, "is not kept by this release")
	w := newWorld(t)
	home, dr := w.twoSites()
	w.share(home, "notes")
	w.disk(home, "store")
	at := home.Pairing.PeerAddress()
	require.NoError(t, home.Close())
	raw := must(os.ReadFile(filepath.Join(w.dir, "home", "site.yaml")))
	require.NoError(t, os.WriteFile(filepath.Join(w.dir, "home", "site.yaml"), append(raw,
		"start_alone: false\n"...), 0o600))
	dr.Pairing.CutLine(true)
	home = w.openAt("home", at)
	require.Equal(t, "alone", must(home.Failover.Authority("notes")).Doubt)
	require.False(t, home.Disks.IsOpen("store"))
	dr.Pairing.CutLine(false)
	w.greet(home, "dr")
	require.True(t, must(home.Failover.Authority("notes")).Here)
	require.Eventually(t, func() bool { return home.Disks.IsOpen("store") }, 5*time.Second, time.Millisecond)
	w.take(home, "notes")
}

// What others say of who is active counts only as far as they may say it: a site that may not take over, a record that
// was altered, one of another history, and old ones that come again change nothing.
func TestForgedAuthority(t *testing.T) {
	w := newWorld(t)
	home, dr := w.twoSites()
	evil := w.open("evil")
	w.pair(evil, home)
	w.share(home, "notes")
	_, err := home.Routes.AddRoute(api.RouteAdd{Name: "to-dr", To: "dr", Names: []string{"notes"}})
	require.NoError(t, err)
	w.take(home, "notes")
	w.done(home)(home.Routes.RunRoute("to-dr", "test"))
	v := must(home.Catalog.Volume("notes"))
	before := must(home.Failover.Authority("notes"))
	row := must(home.Catalog.LastSnapshot("home", v.Lineage))
	from := must(object.ParseID(row.ID))
	top := home.Authority.Line(v)[len(home.Authority.Line(v))-1]
	move := authority.Move{Lineage: object.LineageID(records.LineageOf(v.Lineage)), Term: 9, Edition: 1, Before: top.ID,
		From: from, FromTerm: 1, FromSeq: 1}
	sign := func(s *Site, site string, m authority.Move) []byte {
		key := s.Identity().Public()
		r := must(authority.Sign(s.Store.SigningKey(), &authority.Record{Site: site, At: 1, Moves: []authority.Move{m},
			Next: []authority.Member{{Site: site, Key: ed25519.PublicKey(key)}}}))
		return r.Raw
	}
	other := move
	other.Lineage[0]++
	for say, raw := range map[string][]byte{
		"a site that may not":       sign(evil, "evil", move),
		"in the name of one":        sign(evil, "dr", move),
		"of another history":        sign(dr, "dr", other),
		"from nowhere":              sign(dr, "dr", authority.Move{Lineage: move.Lineage, Term: 9, Edition: 1, Before: from}),
		"to a site that is not one": sign(home, "evil", move),
	} {
		require.NoError(t, home.Authority.Learn("evil", [][]byte{raw}), say)
		require.Equal(t, before, must(home.Failover.Authority("notes")), say)
	}
	bent := sign(dr, "dr", move)
	bent[len(bent)/2] ^= 1
	require.Error(t, home.Authority.Learn("dr", [][]byte{bent}))
	require.True(t, must(home.Failover.Authority("notes")).Here)
	require.NotEmpty(t, must(home.Access.Ledger(catalog.EntryFilter{Limit: 20})).Items)

	// The one that may takes over; what held before comes again, and does not count.
	old := home.Authority.Records(v)
	require.NoError(t, home.Authority.Learn("dr", [][]byte{sign(dr, "dr", move)}))
	require.Equal(t, "dr", must(home.Failover.Authority("notes")).Active)
	require.NoError(t, home.Authority.Learn("evil", old))
	require.Equal(t, "dr", must(home.Failover.Authority("notes")).Active)

	// It still does when the catalogue was lost, and the snapshot that was gone on from.
	require.NoError(t, home.Close())
	for _, f := range []string{"catalog.db", "catalog.db-wal", "catalog.db-shm"} {
		_ = os.Remove(filepath.Join(w.dir, "home", f))
	}
	home = w.open("home")
	require.Equal(t, "dr", must(home.Failover.Authority("notes")).Active)
	_, err = home.Capture.TakeSnapshot("notes", api.SnapshotTake{}, "test")
	require.ErrorContains(t, err, "is active at the site dr")
}

// A site that is not paired with where a history began, and is a third one that comes last, takes in what the active
// site took, over the line and by a crate, with the records that say so.
func TestThirdSiteLearns(t *testing.T) {
	w := newWorld(t)
	home, dr := w.twoSites()
	dir := w.share(home, "notes")
	_, err := home.Routes.AddRoute(api.RouteAdd{Name: "to-dr", To: "dr", Names: []string{"notes"}})
	require.NoError(t, err)
	w.take(home, "notes")
	w.done(home)(home.Routes.RunRoute("to-dr", "test"))
	_, err = dr.Failover.PutRunbook("runbook: r\nat: dr\nbring_up: [notes]\npaths: {notes: "+filepath.Join(w.dir,
		"up")+"}\n",
		"test")
	require.NoError(t, err)
	w.over(dr)(dr.Failover.Failover(w.ctx, "r", api.FailoverAsk{}, "test"))
	w.write(filepath.Join(w.dir, "up"), "a", "by dr")
	w.take(dr, "notes@home")
	require.NoFileExists(t, filepath.Join(dir, "by dr"))

	w.setup = func(c *datadir.Config) {}
	third := w.open("third")
	w.pair(dr, third)
	_, err = dr.Routes.AddRoute(api.RouteAdd{Name: "to-third", To: "third", Names: []string{"notes@home"},
		Terms: api.RouteTerms{When: "on demand"}})
	require.NoError(t, err)
	w.done(dr)(dr.Routes.RunRoute("to-third", "test"))
	a := must(third.Failover.Authority("notes@home"))
	require.Equal(t, "dr", a.Active, a.Sentence)
	require.Len(t, w.rows(third, "notes@home"), 2)
	require.Equal(t, "by dr", w.textOf(third, w.rows(third, "notes@home")[0], "a"))
	require.Empty(t, must(third.Failover.LeftBehind("")))
	require.Equal(t, "done", w.done(third)(third.Upkeep.Verify("test")).State)

	// Home gets by a crate what it lacks.
	w.write(filepath.Join(w.dir, "up"), "a", "in the crate")
	s := w.take(dr, "notes@home")
	crate := filepath.Join(w.dir, "c.crate")
	w.done(dr)(dr.Routes.WriteCrate(api.CrateWrite{Path: crate, Snapshots: []string{s.ID}}, "test"))
	w.done(home)(home.Routes.LoadCrate(api.CrateLoad{Paths: []string{crate}}, "test"))
	require.Equal(t, "in the crate", w.textOf(home, must(home.Catalog.LastSnapshot("home",
		must(home.Catalog.Volume("notes")).Lineage)), "a"))
}
