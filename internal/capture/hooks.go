package capture

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"slices"
	"strings"
	"syscall"
	"time"

	"candidharbor/api"
	"candidharbor/core/retention"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/policy"
	"candidharbor/internal/run"
)

// hookSays is how much of a hook's output is logged, in bytes.
const hookSays = 4 << 10

// Hooks lists the hooks that site.yaml defines.
func (s *Service) Hooks() []api.Hook {
	out := []api.Hook{}
	for _, name := range slices.Sorted(maps.Keys(s.Conf.Hooks)) {
		h := s.Conf.Hooks[name]
		d, _ := h.Limit() // checked when it was read
		out = append(out, api.Hook{Name: name, Command: strings.Join(h.Run, " "), TimeoutSeconds: int64(d.Seconds())})
	}
	return out
}

// HookRun is a hook and what it is told.
type HookRun struct {
	Name    string
	Volumes []*catalog.Volume
	Group   string
	Env     []string
	Start   func(start func() error) error // where the process begins; nil: as the service runs
}

// RunHook runs a hook to its end or its timeout, with all that it started.
func (s *Service) RunHook(ctx context.Context, j *run.Job, h HookRun) error {
	conf, ok := s.Conf.Hooks[h.Name]
	if !ok {
		return fmt.Errorf("hook %s is no longer in site.yaml", h.Name)
	}
	limit, err := conf.Limit()
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	var names, paths []string
	for _, v := range h.Volumes {
		names, paths = append(names, v.Name), append(paths, v.Path)
	}
	var out bytes.Buffer
	cmd := exec.CommandContext(ctx, conf.Run[0], conf.Run[1:]...)
	cmd.Dir = "/"
	cmd.Env = append(os.Environ(), "CANDID_HOOK="+h.Name, "CANDID_GROUP="+h.Group,
		"CANDID_VOLUMES="+strings.Join(names, "\n"), "CANDID_PATHS="+strings.Join(paths, "\n"))
	cmd.Env = append(cmd.Env, h.Env...)
	cmd.Stdout, cmd.Stderr = &limited{&out}, &limited{&out}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	cmd.WaitDelay = time.Second // something it started may hold its output open
	start := cmd.Start
	if h.Start != nil {
		start = func() error { return h.Start(cmd.Start) }
	}
	if err = start(); err == nil {
		err = cmd.Wait()
	}
	if errors.Is(err, exec.ErrWaitDelay) { // it ended well; what goes on is what it started
		err = nil
	}
	if said := strings.TrimSpace(phrase.Printable(out.Bytes())); said != "" {
		j.Logf("hook %s said: %s", h.Name, said)
	}
	switch {
	case ctx.Err() == context.DeadlineExceeded:
		return fmt.Errorf("hook %s did not end within %s and was stopped", h.Name, retention.Words(limit))
	case err != nil:
		return fmt.Errorf("hook %s failed: %w", h.Name, err)
	}
	return nil
}

// limited keeps the first of what is written to it.
type limited struct{ to *bytes.Buffer }

func (l *limited) Write(b []byte) (int, error) {
	if room := hookSays - l.to.Len(); room > 0 {
		l.to.Write(b[:min(room, len(b))])
	}
	return len(b), nil
}

// frozen holds the writers of volumes by the hooks of all that ask for it, calls read, and
// lets them go again whatever happened. quiet reports whether all were held throughout.
func (s *Service) frozen(ctx context.Context, j *run.Job, holds []policy.Quiesce, vols []*catalog.Volume, group string,
	read func() error) (quiet bool, err error) {
	var thaw []string
	defer func() {
		for _, name := range slices.Backward(thaw) {
			// Not by the run's own context: who cancels it wants the writers back.
			if terr := s.RunHook(context.WithoutCancel(ctx), j, HookRun{Name: name, Volumes: vols, Group: group}); terr != nil {
				j.Logf("the writers may still be held, see to them: %s", terr)
				j.Remark()
				s.Log.Error("a thaw failed; the writers may still be held", "hook", name, "volumes", group+" "+vols[0].Name,
					"error", terr)
			}
		}
	}()
	quiet = len(holds) > 0
	for _, q := range holds {
		j.Say("holding the writers: " + q.Freeze)
		if q.Thaw != "" {
			thaw = append(thaw, q.Thaw)
		}
		if ferr := s.RunHook(ctx, j, HookRun{Name: q.Freeze, Volumes: vols, Group: group}); ferr != nil {
			if q.Failing == policy.FailingStop || ctx.Err() != nil {
				return false, fmt.Errorf("the writers could not be held, so no snapshot was taken: %w", ferr)
			}
			j.Logf("the writers could not be held; the snapshot is taken nevertheless, and is spread: %s", ferr)
			j.Remark()
			quiet = false
		}
	}
	return quiet, read()
}
