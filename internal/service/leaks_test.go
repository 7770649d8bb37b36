package service

import (
	"context"
	"net/http"
	"os"
	"path/filepath"
	"testing"

	"candidharbor/api"
	"candidharbor/client"
	"candidharbor/internal/site"

	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"
)

// What a site began has ended when it stopped: lines, schedules, followers, runs and
// streams of events.
func TestNothingIsLeftRunning(t *testing.T) {
	before := goleak.IgnoreCurrent()
	dir := t.TempDir()
	share := filepath.Join(dir, "share")
	require.NoError(t, os.MkdirAll(filepath.Join(share, "letters"), 0o755))
	require.NoError(t, os.MkdirAll(filepath.Join(share, "disk"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(share, "letters", "a"), []byte("dear"), 0o644))
	tr := &http.Transport{}
	open := func(name string) (*Service, *client.Client) {
		svc, err := Start(site.Options{Data: filepath.Join(dir, name), Name: name, Listen: "127.0.0.1:0",
			PeerListen: "127.0.0.1:0", Roots: []string{share}})
		require.NoError(t, err)
		svc.Work()
		c, err := client.New(svc.Socket, "")
		require.NoError(t, err)
		return svc, c
	}
	far, there := open("stonewick")
	svc, here := open("larkfield")
	ctx := t.Context()
	ask := func(c *client.Client, path string, body, into any) {
		require.NoError(t, c.Post(ctx, path, body, into), path)
	}
	var inv api.Invitation
	ask(there, "/sites/invitations", map[string]any{}, &inv)
	ask(here, "/sites", map[string]any{"invitation": inv.Text}, nil)
	ask(here, "/volumes", api.VolumeAdd{Name: "letters", Path: filepath.Join(share, "letters")}, nil)
	require.NoError(t, here.Put(ctx, "/places/disk", map[string]any{"path": filepath.Join(share, "disk")}, nil))
	for _, to := range []string{"stonewick", "disk"} {
		ask(here, "/routes", api.RouteAdd{Name: "to-" + to, To: to, Names: []string{"letters"}}, nil)
	}
	var run api.Run
	ask(here, "/volumes/letters/snapshots", map[string]any{}, &run)
	done, err := here.WaitRun(ctx, run.ID, nil)
	require.NoError(t, err)
	require.Equal(t, api.RunDone, done.State)
	ask(here, "/routes/to-stonewick/runs", map[string]any{}, &run)

	// One hears events.
	events, end := svc.Site.Run.Subscribe()
	defer end()
	stream, err := http.NewRequestWithContext(context.Background(), "GET", svc.URL+"/api/v1/events", nil)
	require.NoError(t, err)
	stream.Header.Set("Authorization", "Bearer "+svc.FirstToken.Text)
	resp, err := (&http.Client{Transport: tr}).Do(stream)
	require.NoError(t, err)
	defer resp.Body.Close()
	require.Equal(t, http.StatusOK, resp.StatusCode)
	<-events

	svc.Stop()
	far.Stop()
	tr.CloseIdleConnections()
	resp.Body.Close()
	goleak.VerifyNone(t, before, goleak.IgnoreAnyFunction("net/http.(*persistConn).readLoop"),
		goleak.IgnoreAnyFunction("net/http.(*persistConn).writeLoop"))
}
