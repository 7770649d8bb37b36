package capture

import (
	"bytes"
	"context"
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

// RunHook runs a hook to its end or its timeout, with all that it started.
func (s *Service) RunHook(ctx context.Context, j *run.Job, name string, vols []*catalog.Volume, group string,
	env ...string) error {
	h, ok := s.Conf.Hooks[name]
	if !ok {
		return fmt.Errorf("hook %s is no longer in site.yaml", name)
	}
	limit, err := h.Limit()
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	var names, paths []string
	for _, v := range vols {
		names, paths = append(names, v.Name), append(paths, v.Path)
	}
	var out bytes.Buffer
	cmd := exec.CommandContext(ctx, h.Run[0], h.Run[1:]...)
	cmd.Dir = "/"
	cmd.Env = append(os.Environ(), "CANDID_HOOK="+name, "CANDID_GROUP="+group, "CANDID_VOLUMES="+strings.Join(names, "\n"),
		"CANDID_PATHS="+strings.Join(paths, "\n"))
	cmd.Env = append(cmd.Env, env...)
	cmd.Stdout, cmd.Stderr = &limited{&out}, &limited{&out}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	cmd.WaitDelay = time.Second // something it started may hold its output open
	err = cmd.Run()
	if said := strings.TrimSpace(phrase.Printable(out.Bytes())); said != "" {
		j.Logf("hook %s said: %s", name, said)
	}
	switch {
	case ctx.Err() == context.DeadlineExceeded:
		return fmt.Errorf("hook %s did not end within %s and was stopped", name, retention.Words(limit))
	case err != nil:
		return fmt.Errorf("hook %s failed: %w", name, err)
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
			if terr := s.RunHook(context.WithoutCancel(ctx), j, name, vols, group); terr != nil {
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
		if ferr := s.RunHook(ctx, j, q.Freeze, vols, group); ferr != nil {
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
