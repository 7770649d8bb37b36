package run

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"path/filepath"
	"sync/atomic"
	"testing"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/clock"
	"candidharbor/internal/datadir"

	"github.com/stretchr/testify/require"
)

func engine(t *testing.T) *Engine {
	dir, err := datadir.Lock(t.TempDir(), clock.System{}, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	require.NoError(t, dir.Open(datadir.Config{Name: "here", Listen: "127.0.0.1:0", PeerListen: "127.0.0.1:0",
		Roots: []string{filepath.Dir(dir.Path)}}, nil))
	e := New(dir)
	e.Begin()
	t.Cleanup(func() {
		e.EndRuns()
		require.NoError(t, dir.Close())
	})
	return e
}

// Many runs side by side: of those that take one key only one has it at a time, each end is recorded
// with its code, what waits can be cancelled, and after the end of all nothing begins.
func TestRunsSideBySide(t *testing.T) {
	e := engine(t)
	var having [3]atomic.Int32
	var most atomic.Int32
	var jobs []*Job
	for i := range 60 {
		j, err := e.Start("verify", fmt.Sprint(i), "somebody", func(ctx context.Context, j *Job) (any, string, error) {
			release, err := e.Hold(ctx, KeyVolume.Of(fmt.Sprint(i%3)))
			if err != nil {
				return nil, "", err
			}
			defer release()
			most.Store(max(most.Load(), having[i%3].Add(1)))
			defer having[i%3].Add(-1)
			j.Begin(nil)
			switch i % 5 {
			case 0:
				return nil, "", errors.New("it did not work")
			case 1:
				j.Remark()
			}
			return i, "worked", nil
		})
		require.NoError(t, err)
		jobs = append(jobs, j)
	}
	want := map[int]string{0: api.RunFailed, 1: api.RunDoneWithRemarks, 2: api.RunDone, 3: api.RunDone, 4: api.RunDone}
	for i, j := range jobs {
		_ = j.Wait(t.Context())
		r, err := e.Run(j.row.ID)
		require.NoError(t, err)
		require.Equal(t, want[i%5], r.State)
		require.Equal(t, i%5 != 0, r.Worked())
	}
	require.EqualValues(t, 1, most.Load(), "runs had one key at once")

	// One has the key, one waits for it: the waiting one is cancelled, the other ends with the engine.
	has := make(chan struct{})
	first, err := e.Start("verify", "first", "", func(ctx context.Context, j *Job) (any, string, error) {
		release, err := e.Hold(ctx, KeyPrune.Of(""))
		if err != nil {
			return nil, "", err
		}
		defer release()
		close(has)
		<-ctx.Done()
		return nil, "", &Partly{Leaves: "half of it is there"}
	})
	require.NoError(t, err)
	<-has
	second, err := e.Start("verify", "second", "", func(ctx context.Context, j *Job) (any, string, error) {
		_, err := e.Hold(ctx, KeyPrune.Of(""))
		return nil, "", err
	})
	require.NoError(t, err)
	require.True(t, e.IsHeld(KeyPrune.Of("")))
	require.NoError(t, e.Cancel(second.ID()))
	require.ErrorIs(t, second.Wait(t.Context()), context.Canceled)
	e.EndRuns()
	require.Error(t, first.Wait(t.Context()))
	r, err := e.Run(first.ID())
	require.NoError(t, err)
	require.Equal(t, api.RunCancelled, r.State)
	require.Equal(t, "cancelled because the service stopped; half of it is there", r.Outcome)
	require.False(t, e.IsHeld(KeyPrune.Of("")))
	_, err = e.Start("verify", "late", "", nil)
	require.ErrorContains(t, err, "the service is stopping")
	page, err := e.Runs(catalog.RunFilter{Limit: 100})
	require.NoError(t, err)
	require.Len(t, page.Items, 62)
}
