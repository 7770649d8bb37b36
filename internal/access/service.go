package access

import (
	"candidharbor/internal/datadir"
	"candidharbor/internal/run"
)

// Service knows who may do what.
type Service struct {
	*datadir.Dir
	run      *run.Engine
	throttle *loginThrottle
	links    links
}

// New works in a data directory.
func New(dir *datadir.Dir, run *run.Engine) *Service {
	return &Service{Dir: dir, run: run, throttle: newLoginThrottle()}
}
