package site

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/pairing"
	"candidharbor/internal/records"
	"candidharbor/internal/refusal"
	"candidharbor/internal/rules"
	"candidharbor/internal/transfer"

	"github.com/stretchr/testify/require"
)

func (w *world) pair(from, to *Site) {
	inv, err := to.Pairing.Invite(nil)
	require.NoError(w.t, err)
	_, err = from.Pairing.Pair(w.ctx, inv.Text, nil)
	require.NoError(w.t, err)
}

func (w *world) route(from *Site, to string) {
	_, err := from.Routes.AddRoute(api.RouteAdd{Name: "to-" + to, To: to, Labels: map[string]string{"k": "v"}})
	require.NoError(w.t, err)
}

// bring carries one snapshot as a peer that says what it likes.
func (w *world) bring(from *Site, to *Site, change func(q *transfer.CarryRequest)) error {
	link, err := transfer.Dial(w.ctx, to.Pairing.PeerAddress(), from.Identity(), to.Identity().Public())
	require.NoError(w.t, err)
	defer link.Close()
	row := w.rows(from, "notes")[0]
	id, err := object.ParseID(row.ID)
	require.NoError(w.t, err)
	q := transfer.CarryRequest{Lineage: records.LineageOf(row.Lineage), Volume: "notes", Origin: from.Name(), Root: id}
	change(&q)
	return (&transfer.Sender{Store: from.Store, Request: q}).Run(w.ctx, link)
}

// A peer brings its own volumes only: no other site's, no history that belongs to one,
// no names that would not do, no rules that cannot be read. What is refused leaves
// nothing behind and the peer's own copies go on.
func TestPeerBringsOnlyItsOwn(t *testing.T) {
	w := newWorld(t)
	good, evil, there := w.open("good"), w.open("evil"), w.open("there")
	w.share(good, "notes")
	dir := filepath.Join(w.dir, "evil-share")
	require.NoError(t, os.MkdirAll(dir, 0o755))
	w.write(dir, "x", "y")
	_, err := evil.Capture.AddVolume(w.ctx, api.VolumeAdd{Name: "notes", Path: dir, Labels: map[string]string{"k": "v"}})
	require.NoError(t, err)
	for _, s := range []*Site{good, evil} {
		w.pair(s, there)
		w.done(s)(s.Capture.TakeSnapshot("notes", api.SnapshotTake{}, "test"))
	}
	w.route(good, "there")
	w.done(good)(good.Routes.RunRoute("to-there", "test"))
	before := must(there.Catalog.Volumes())
	theirs := records.LineageOf(must(good.Catalog.Volume("notes")).Lineage)
	for say, change := range map[string]func(q *transfer.CarryRequest){
		"the root record belongs to another": func(q *transfer.CarryRequest) { q.Origin = "good" },
		"belongs to notes@good here":         func(q *transfer.CarryRequest) { q.Lineage = theirs },
		`volume "../x"`:                      func(q *transfer.CarryRequest) { q.Volume = "../x" },
		`of the site "there"`:                func(q *transfer.CarryRequest) { q.Origin = "there" },
		"the proposed rules": func(q *transfer.CarryRequest) {
			q.Rules = "policy: p\nvolumes: {a: b}\ntake: [soon]\n"
		},
		"another volume than announced": func(q *transfer.CarryRequest) { q.Volume = "others" },
		"bases": func(q *transfer.CarryRequest) {
			q.Bases = make([]object.ID, transfer.MaxBases+1)
		},
	} {
		require.ErrorContains(t, w.bring(evil, there, change), say)
	}
	require.Equal(t, before, must(there.Catalog.Volumes()))
	require.Len(t, w.rows(there, "notes@good"), 1)
	require.Len(t, must(there.Catalog.SnapshotIDs("there")), 1)

	require.NoError(t, w.bring(evil, there, func(*transfer.CarryRequest) {}))
	require.Len(t, w.rows(there, "notes@evil"), 1)
	w.done(there)(there.Upkeep.Sweep(true, "test"))
	require.Equal(t, "done", w.done(there)(there.Upkeep.Verify("test")).State)

	// Who is not paired is told so; who is, but was set up anew, too.
	stranger := w.open("stranger")
	link, err := transfer.Dial(w.ctx, there.Pairing.PeerAddress(), stranger.Identity(), there.Identity().Public())
	require.NoError(t, err)
	defer link.Close()
	var h pairing.Hello
	var refused *transfer.Refusal
	require.ErrorAs(t, link.Ask("hello", nil, &h), &refused)
	require.Contains(t, refused.What, "pair first")
	require.True(t, refused.Final)
}

// Pairing asks for two names, one use, and the time the invitation lasts.
func TestPairing(t *testing.T) {
	w := newWorld(t)
	here, there := w.open("here"), w.open("there")
	late := must(there.Pairing.Invite(nil))
	w.clock.Set(w.clock.Now().Add(2 * time.Hour))
	_, err := here.Pairing.Pair(w.ctx, late.Text, nil)
	require.ErrorContains(t, err, "has ended")
	own := must(here.Pairing.Invite(nil))
	_, err = here.Pairing.Pair(w.ctx, own.Text, nil)
	require.Error(t, err, "not with itself")
	inv := must(there.Pairing.Invite(nil))
	_, err = here.Pairing.Pair(w.ctx, inv.Text[:len(inv.Text)-4], nil)
	require.Equal(t, refusal.Misuse, refusal.ClassOf(err))
	p, err := here.Pairing.Pair(w.ctx, "  "+inv.Text+"\n", nil)
	require.NoError(t, err)
	require.Equal(t, "there", p.Name)
	check, err := here.Pairing.CheckPeer(w.ctx, "there")
	require.NoError(t, err)
	require.Contains(t, check.Sentence, "answers")
	_, err = here.Pairing.CheckPeer(w.ctx, "nowhere")
	require.Equal(t, refusal.Missing, refusal.ClassOf(err))
	peers, err := there.Pairing.Peers()
	require.NoError(t, err)
	require.Equal(t, "here", peers[0].Name, "both know each other")

	// Another site of the same name, with another key, does not take the first one's place.
	twin, err := Open(Options{Data: filepath.Join(w.dir, "twin"), Name: "here", Roots: []string{w.dir}, Clock: w.clock,
		Listen: "127.0.0.1:0"})
	require.NoError(t, err)
	t.Cleanup(func() { twin.Close() })
	_, err = twin.Pairing.Pair(w.ctx, must(there.Pairing.Invite(nil)).Text, nil)
	require.ErrorContains(t, err, "paired here already, with another key")
	require.NoError(t, there.Close())
	_, err = here.Pairing.CheckPeer(w.ctx, "there")
	require.Equal(t, refusal.Elsewhere, refusal.ClassOf(err))
	require.ErrorContains(t, err, "cannot be reached")
}

// Rules that come along with a volume apply there while nobody there chose others, and
// change with the origin's policy.
func TestRulesTravel(t *testing.T) {
	w := newWorld(t)
	here, there := w.open("here"), w.open("there")
	dir := w.share(here, "notes")
	w.policy(here, everySix)
	w.pair(here, there)
	w.route(here, "there")
	for n := range 12 {
		w.write(dir, "a", fmt.Sprint(n))
		w.until(here, w.clock.Now().Add(24*time.Hour))
	}
	kept := func() (n int) {
		d, err := there.Rules.Decide(must(there.Catalog.Volume("notes@here")))
		require.NoError(t, err)
		for _, v := range d.Verdicts {
			if v.Kept() {
				n++
			}
		}
		return n
	}
	require.Equal(t, 12, len(w.rows(there, "notes@here")))
	require.Equal(t, 6, kept(), "daily 5, and the week before those")
	w.policy(here, "policy: p\nvolumes: {k: v}\ntake: [every 6 hours]\nzone: Europe/Lisbon\nkeep:\n  there: {daily: 9}\n")
	w.write(dir, "a", "changed")
	w.until(here, w.clock.Now().Add(24*time.Hour))
	require.Equal(t, 9, kept(), "more days at once; that the weeks go waits for a person")
	st, err := there.Overview.Status()
	require.NoError(t, err)
	require.Contains(t, st.Sentences[1].Text, "here proposes to keep less of notes@here here: weekly 2 becomes "+
		"nothing. Until a person accepts that")
	e, err := there.Overview.Explain("notes@here", "")
	require.NoError(t, err)
	require.Contains(t, strings.Join(e.Sentences, " "), "candid volume accept-rules notes@here")
	_, err = there.Rules.AcceptRules("notes@here")
	require.NoError(t, err)
	require.Equal(t, 9, kept())
	_, err = there.Rules.AcceptRules("notes@here")
	require.Equal(t, refusal.Conflict, refusal.ClassOf(err))
	w.policy(here, "policy: p\nvolumes: {k: v}\ntake: [every 6 hours]\nzone: Europe/Lisbon\nkeep:\n  there: {daily: 4}\n")
	w.write(dir, "a", "again")
	w.until(here, w.clock.Now().Add(24*time.Hour))
	require.Equal(t, 9, kept())
	w.policy(here, "policy: p\nvolumes: {k: v}\ntake: [every 6 hours]\nzone: Europe/Lisbon\nkeep:\n  there: {daily: 11}\n")
	w.write(dir, "a", "and again")
	w.until(here, w.clock.Now().Add(24*time.Hour))
	require.Equal(t, 11, kept(), "what was offered is overtaken by longer keeping")
	_, err = there.Rules.AcceptRules("notes@here")
	require.Equal(t, refusal.Conflict, refusal.ClassOf(err))
	_, err = there.Rules.PutPolicy("policy: ours\nvolumes: {names: [notes@here]}\nkeep:\n  there: {newest: 2}\n", "test",
		true)
	require.NoError(t, err)
	require.Equal(t, 2, kept(), "who is there decides")
	v := must(there.Overview.Volume("notes@here"))
	require.Equal(t, []string{"ours"}, v.Policies)
	_, err = there.Capture.TakeSnapshot("notes@here", api.SnapshotTake{}, "test")
	require.ErrorContains(t, err, "is active at the site here")
	_, err = there.Recovery.Restore(w.ctx, api.RestoreAsk{Volume: "notes@here", InPlace: true}, "test")
	require.ErrorContains(t, err, "restore it there in place, or here to a directory")
}

// No rules keep everything, so rules that come after none keep less: a peer that sends
// none first and strict ones then expires nothing unasked.
func TestRulesAfterNone(t *testing.T) {
	w := newWorld(t)
	here, there := w.open("here"), w.open("there")
	dir := w.share(here, "notes")
	w.policy(here, "policy: p\nvolumes: {k: v}\ntake: [every 6 hours]\n")
	w.pair(here, there)
	w.route(here, "there")
	turn := func() {
		w.write(dir, "a", w.clock.Now().String())
		w.until(here, w.clock.Now().Add(6*time.Hour))
		_, err := here.Step(w.ctx, true)
		require.NoError(t, err)
		w.done(there)(there.Rules.Prune("", "test"))
	}
	for range 6 {
		turn()
	}
	w.policy(here, "policy: p\nvolumes: {k: v}\ntake: [every 6 hours]\nkeep:\n  there: {newest: 1}\ngrace: 1 second\n")
	for range 4 {
		turn()
	}
	require.GreaterOrEqual(t, len(w.rows(there, "notes@here")), 9)
	for _, r := range w.rows(there, "notes@here") {
		require.True(t, r.GraceUntil.IsZero())
	}
	v := must(there.Overview.Volume("notes@here"))
	require.Contains(t, v.Offered[0], "everything was kept, and now only newest 1")
	_, err := there.Rules.AcceptRules("notes@here")
	require.NoError(t, err)
	turn()
	turn()
	require.LessOrEqual(t, len(w.rows(there, "notes@here")), 3)
}

// A recall that was answered holds, also while a pruning goes on that had decided to
// remove the snapshot; and a removal by hand is not undone by one.
func TestRecallAgainstPruning(t *testing.T) {
	w := newWorld(t)
	s := w.open("here")
	dir := w.share(s, "notes")
	w.policy(s, everySix)
	for n := range 40 {
		w.write(dir, "a", fmt.Sprint(n))
		w.clock.Set(w.clock.Now().Add(24 * time.Hour))
		_, err := s.Step(w.ctx, true)
		require.NoError(t, err)
	}
	w.done(s)(s.Rules.Prune("", "test"))
	w.clock.Set(w.clock.Now().Add(25 * time.Hour))
	rows := w.rows(s, "notes")
	require.Greater(t, len(rows), 30)
	var recalled, refused []string
	var mu sync.Mutex
	run, err := s.Rules.Prune("", "test")
	require.NoError(t, err)
	var wg sync.WaitGroup
	for _, r := range rows[5:] {
		wg.Go(func() {
			_, err := s.Rules.RecallSnapshot(r.ID)
			mu.Lock()
			defer mu.Unlock()
			if err == nil {
				recalled = append(recalled, r.ID)
			} else {
				require.True(t, errors.Is(err, catalog.ErrNone), err)
				refused = append(refused, r.ID)
			}
		})
	}
	wg.Wait()
	_, err = s.Run.Wait(w.ctx, run.ID)
	require.NoError(t, err)
	have := map[string]bool{}
	for _, r := range w.rows(s, "notes") {
		have[r.ID] = true
	}
	for _, id := range recalled {
		require.True(t, have[id], "recalled and yet removed")
	}
	for _, id := range refused {
		require.False(t, have[id])
	}
	for _, id := range recalled { // what is listed is really there
		parsed, err := object.ParseID(id)
		require.NoError(t, err)
		require.True(t, s.Store.HasRoot(parsed))
	}
	newest := w.rows(s, "notes")[0]
	_, err = s.Rules.RemoveSnapshot(newest.ID)
	require.NoError(t, err)
	w.done(s)(s.Rules.Prune("", "test"))
	row, err := s.Catalog.Snapshot(newest.ID)
	require.NoError(t, err)
	require.Equal(t, rules.RemovedByHand, row.LetGo)
	w.clock.Set(row.GraceUntil.Time)
	w.done(s)(s.Rules.Prune("", "test"))
	_, err = s.Catalog.Snapshot(newest.ID)
	require.ErrorIs(t, err, catalog.ErrNone)
}

// Several sites are set up in one go; what one of them refuses leaves the others done.
func TestSetUp(t *testing.T) {
	w := newWorld(t)
	here, b, c := w.open("here"), w.open("b-site"), w.open("vault")
	w.share(here, "notes")
	ask := api.SetUp{Invitations: []string{must(b.Pairing.Invite(nil)).Text,
		must(c.Pairing.Invite([]string{"nothing"})).Text}, Labels: map[string]string{"k": "v"}, DryRun: true}
	look := must(here.SetUp(w.ctx, ask))
	require.Equal(t, "It would pair with b-site, vault.", look.Sentence)
	require.Empty(t, must(here.Pairing.Peers()))
	ask.DryRun = false
	done := must(here.SetUp(w.ctx, ask))
	require.Zero(t, done.Failed)
	require.Len(t, must(here.Pairing.Peers()), 2)
	routes := must(here.Routes.Routes())
	require.Len(t, routes, 1)
	require.Equal(t, "b-site", routes[0].To)
	again := must(here.SetUp(w.ctx, ask))
	require.Equal(t, 2, again.Failed, "used invitations")
	ask.Invitations = append(ask.Invitations, "harbor-invitation:junk")
	_, err := here.SetUp(w.ctx, ask)
	require.Equal(t, refusal.Misuse, refusal.ClassOf(err))
}
