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
	"candidharbor/internal/catalog"
	"candidharbor/internal/datadir"
	"candidharbor/internal/rules"

	"github.com/stretchr/testify/require"
)

// On a small filesystem the measures act in their order, each is told, and what is
// marked, owed or the newest is never touched; the reach back goes last; when nothing
// more can be given up no snapshots are taken, which is told as gaps, and it goes on by
// itself when there is room again.
func TestHeadroom(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("mounting a small filesystem needs root")
	}
	w := newWorld(t)
	small := filepath.Join(w.dir, "small")
	require.NoError(t, os.Mkdir(small, 0o755))
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=96m", "tmpfs", small).CombinedOutput(); err != nil {
		t.Skipf("no small filesystem can be mounted: %s", out)
	}
	var s *Site
	t.Cleanup(func() { s.Close(); exec.Command("umount", small).Run() })
	open := func() {
		var err error
		s, err = Open(Options{Data: filepath.Join(small, "here"), Name: "here", Roots: []string{w.dir}, Clock: w.clock,
			Listen: "127.0.0.1:0"})
		require.NoError(t, err)
	}
	open()
	require.NoError(t, s.Close())
	path := filepath.Join(small, "here", "site.yaml")
	raw, err := os.ReadFile(path)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, append(raw, "headroom: 30 MiB\n"...), 0o600))
	open()
	dir := w.share(s, "notes")
	w.policy(s, "policy: p\nvolumes: {k: v}\ntake: [every 1 hours]\nkeep:\n  here: {hourly: 75, daily: "+
		"20}\ngrace: 5 days\n")
	rng := rand.New(rand.NewPCG(1, 1))
	turn := func(bytes int) {
		b := make([]byte, bytes)
		for i := range b {
			b[i] = byte(rng.Uint32())
		}
		w.write(dir, "large", string(b))
		w.clock.Set(w.clock.Now().Add(time.Hour))
		_, err := s.Step(w.ctx, true)
		require.NoError(t, err)
		w.done(s)(s.Rules.Prune("", "test"))
	}
	turn(1 << 20)
	oldest := w.rows(s, "notes")[0].ID
	turn(1 << 20)
	marked := w.rows(s, "notes")[0].ID
	_, err = s.Rules.KeepSnapshot(marked, api.KeepAsk{Reason: "audit"})
	require.NoError(t, err)
	said := map[string]bool{}
	var first []string // of which it is said that they may go first
	yes := api.SnapshotChange{Set: map[string]string{rules.GoFirstLabel: "yes"}}
	must(s.Rules.ChangeSnapshot(marked, yes))
	for i := range 110 {
		turn(900_000)
		if i == 15 {
			for _, r := range w.rows(s, "notes")[3:6] {
				must(s.Rules.ChangeSnapshot(r.ID, yes))
				first = append(first, r.ID)
			}
		}
		if i == 30 {
			for _, r := range w.rows(s, "notes")[5:10] {
				_, err := s.Rules.RemoveSnapshot(r.ID)
				require.NoError(t, err)
			}
		}
		lack, _, _ := s.Lacking()
		low, is, err := s.Rules.LowState()
		require.NoError(t, err)
		if is {
			for k, words := range map[string]string{datadir.ShortenGrace: "in grace went before",
				datadir.RemoveExpired: "that had expired went", datadir.ThinDensest: "where they lay densest",
				datadir.MayGoFirst: "went that somebody said may go first",
				datadir.StopTaking: "No scheduled snapshots"} {
				if strings.Contains(strings.Join(low.Did, " "), words) {
					if k == datadir.ThinDensest && !said[k] {
						for _, r := range w.rows(s, "notes") {
							require.True(t, r.GraceUntil.IsZero(), "what is in grace goes before anything is thinned")
						}
					}
					said[k] = true
				}
			}
			st, err := s.Overview.Status()
			require.NoError(t, err)
			require.Contains(t, fmt.Sprint(st.Sentences), "must stay free")
		}
		require.False(t, said[datadir.StopTaking], "turn %d, %d lacking", i, lack)
		rows := w.rows(s, "notes")
		have := map[string]bool{}
		for _, r := range rows {
			have[r.ID] = true
		}
		require.True(t, have[marked], "a keep mark holds")
		for _, id := range first {
			require.False(t, have[id] && said[datadir.ThinDensest], "they go before others are thinned")
		}
		require.True(t, have[oldest] || !said[datadir.ThinDensest], "the reach back is the same")
		require.WithinDuration(t, w.clock.Now(), rows[0].Began.Time, time.Minute, "the newest is there")
	}
	require.True(t, said[datadir.ShortenGrace] && said[datadir.MayGoFirst] && said[datadir.ThinDensest], said)
	require.Equal(t, "done", w.done(s)(s.Upkeep.Verify("test")).State)
	runs, err := s.Catalog.Runs(catalog.RunFilter{Subject: "here", Limit: 1000})
	require.NoError(t, err)
	lines := ""
	for _, r := range runs {
		log, err := s.Catalog.Log(r.ID)
		require.NoError(t, err)
		for _, l := range log {
			lines += l.Text + "\n"
		}
	}
	require.Contains(t, lines, "removed for room (thin)", "each that goes is named")

	// Somebody else fills the disk: nothing more helps, so nothing is taken.
	fill := func(i int) {
		if free, _ := datadir.RoomOn(small); free > 4<<20 {
			require.NoError(t, os.WriteFile(filepath.Join(small, fmt.Sprint("others", i)), make([]byte, free-4<<20), 0o600))
		}
	}
	for i := range 6 { // until all that may be thinned is
		fill(i)
		turn(10)
	}
	fill(6)
	w.clock.Set(w.clock.Now().Add(time.Hour))
	turn(10)
	before := len(w.rows(s, "notes"))
	turn(10)
	require.Len(t, w.rows(s, "notes"), before)
	gaps := must(s.Catalog.Gaps("notes", time.Time{}, w.clock.Now()))
	require.Contains(t, gaps[len(gaps)-1].Cause, "the store was low on space")
	for i := range 7 {
		os.Remove(filepath.Join(small, fmt.Sprint("others", i)))
	}
	turn(10)
	require.WithinDuration(t, w.clock.Now(), w.rows(s, "notes")[0].Began.Time, time.Minute, "it goes on by itself")
	_, is, err := s.Rules.LowState()
	require.NoError(t, err)
	require.False(t, is)
}

func TestHeadroomWords(t *testing.T) {
	for text, want := range map[string]int64{"20 GiB": 20 << 30, "512 MiB": 512 << 20, "10 %": 100, "10%": 100,
		"0.5 GiB": 1 << 29} {
		n, err := datadir.ParseShare("headroom", text, 1000)
		require.NoError(t, err, text)
		require.Equal(t, want, n, text)
	}
	for _, text := range []string{"", "20", "20 GB", "-1 GiB", "95 %", "lots"} {
		_, err := datadir.ParseShare("headroom", text, 1000)
		require.Error(t, err, text)
	}
	_, err := datadir.Config{Name: "a", Listen: "a:1", PeerListen: "a:1", WhenLow: []string{"delete"}}.Check("site.yaml")
	require.ErrorContains(t, err, "is no measure: use shorten grace, remove expired, may go first, thin, stop taking")
}
