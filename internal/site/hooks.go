package site

import (
	"bytes"
	"context"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"candidharbor/api"
	"candidharbor/core/retention"
	"candidharbor/internal/catalog"
	"candidharbor/internal/policy"
)

// hookTimeout is how long a hook may take that says nothing else.
const hookTimeout = 30 * time.Second

// hookSays is how much of a hook's output is logged, in bytes.
const hookSays = 4 << 10

func (h Hook) limit() (time.Duration, error) {
	if h.Timeout == "" {
		return hookTimeout, nil
	}
	return retention.ParseDuration(h.Timeout)
}

func (c Config) checkHooks(path string) error {
	for _, name := range slices.Sorted(maps.Keys(c.Hooks)) {
		h := c.Hooks[name]
		if err := policy.CheckName("hook", name); err != nil {
			return fmt.Errorf("%s: %w", path, err)
		}
		if len(h.Run) == 0 || !filepath.IsAbs(h.Run[0]) {
			return fmt.Errorf("%s: hook %s: run must begin with the program's whole path, such as [/usr/local/sbin/freeze-register]", path, name)
		}
		if _, err := h.limit(); err != nil {
			return fmt.Errorf("%s: hook %s: timeout: %w", path, name, err)
		}
	}
	return nil
}

// Hooks lists the hooks that site.yaml defines.
func (s *Site) Hooks() []api.Hook {
	out := []api.Hook{}
	for _, name := range slices.Sorted(maps.Keys(s.cfg.Hooks)) {
		h := s.cfg.Hooks[name]
		d, _ := h.limit() // checked when it was read
		out = append(out, api.Hook{Name: name, Command: strings.Join(h.Run, " "), TimeoutSeconds: int64(d.Seconds())})
	}
	return out
}

// knownHooks refuses names that site.yaml does not define.
func (s *Site) knownHooks(q policy.Quiesce) error {
	for _, name := range []string{q.Freeze, q.Thaw} {
		if _, ok := s.cfg.Hooks[name]; name != "" && !ok {
			known := "it defines none yet"
			if len(s.cfg.Hooks) > 0 {
				known = "it defines " + strings.Join(slices.Sorted(maps.Keys(s.cfg.Hooks)), ", ")
			}
			return bad("hook %q is not in site.yaml (%s): add it under hooks and restart the service, or name another", name, known)
		}
	}
	return nil
}

// runHook runs a hook to its end or its timeout, with all that it started.
func (s *Site) runHook(ctx context.Context, j *job, name string, vols []*catalog.Volume, group string) error {
	h, ok := s.cfg.Hooks[name]
	if !ok {
		return fmt.Errorf("hook %s is no longer in site.yaml", name)
	}
	limit, err := h.limit()
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
	cmd.Env = append(os.Environ(), "CANDID_HOOK="+name, "CANDID_GROUP="+group, "CANDID_VOLUMES="+strings.Join(names, "\n"), "CANDID_PATHS="+strings.Join(paths, "\n"))
	cmd.Stdout, cmd.Stderr = &limited{&out}, &limited{&out}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	cmd.WaitDelay = time.Second // something it started may hold its output open
	err = cmd.Run()
	if said := strings.TrimSpace(printable(out.Bytes())); said != "" {
		j.logf("hook %s said: %s", name, said)
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
func (s *Site) frozen(ctx context.Context, j *job, holds []policy.Quiesce, vols []*catalog.Volume, group string, read func() error) (quiet bool, err error) {
	var thaw []string
	defer func() {
		for _, name := range slices.Backward(thaw) {
			// Not by the run's own context: who cancels it wants the writers back.
			if terr := s.runHook(context.WithoutCancel(ctx), j, name, vols, group); terr != nil {
				j.logf("the writers may still be held, see to them: %s", terr)
				j.remark()
				s.log.Error("a thaw failed; the writers may still be held", "hook", name, "volumes", group+" "+vols[0].Name, "error", terr)
			}
		}
	}()
	quiet = len(holds) > 0
	for _, q := range holds {
		j.say("holding the writers: " + q.Freeze)
		if q.Thaw != "" {
			thaw = append(thaw, q.Thaw)
		}
		if ferr := s.runHook(ctx, j, q.Freeze, vols, group); ferr != nil {
			if q.Failing == policy.FailingStop || ctx.Err() != nil {
				return false, fmt.Errorf("the writers could not be held, so no snapshot was taken: %w", ferr)
			}
			j.logf("the writers could not be held; the snapshot is taken nevertheless, and is spread: %s", ferr)
			j.remark()
			quiet = false
		}
	}
	return quiet, read()
}
