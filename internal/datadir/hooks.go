package datadir

import (
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"candidharbor/core/retention"
	"candidharbor/internal/policy"
	"candidharbor/internal/refusal"
)

// hookTimeout is how long a hook may take that says nothing else.
const hookTimeout = 30 * time.Second

func (h Hook) Limit() (time.Duration, error) {
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
		if _, err := h.Limit(); err != nil {
			return fmt.Errorf("%s: hook %s: timeout: %w", path, name, err)
		}
	}
	return nil
}

// KnownHooks refuses names that site.yaml does not define.
func (s *Dir) KnownHooks(q policy.Quiesce) error {
	for _, name := range []string{q.Freeze, q.Thaw} {
		if _, ok := s.Conf.Hooks[name]; name != "" && !ok {
			known := "it defines none yet"
			if len(s.Conf.Hooks) > 0 {
				known = "it defines " + strings.Join(slices.Sorted(maps.Keys(s.Conf.Hooks)), ", ")
			}
			return refusal.Badf("hook %q is not in site.yaml (%s): add it under hooks and restart the service, or name another", name, known)
		}
	}
	return nil
}
