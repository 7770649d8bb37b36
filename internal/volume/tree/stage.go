package tree

import (
	"os"
	"sync"

	"golang.org/x/sys/unix"
)

// place is an open directory that something is restored into. Its owner may change names in
// it at any time, so what is new is made in a directory below it that only whoever restores
// may enter, and moved to its name when it is finished.
type place struct {
	r       *restorer
	fd      int
	private bool // nobody else may enter it as it is

	mu    sync.Mutex
	stage int // open directory; 0: none yet
	name  string
}

// staging returns the open directory in which what is new is made.
func (p *place) staging() (int, error) {
	if p.private {
		return p.fd, nil
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.stage > 0 {
		return p.stage, nil
	}
	name := tempName()
	fd, err := p.r.newDir(p.fd, name)
	if err != nil {
		return -1, err
	}
	p.stage, p.name = fd, name
	return fd, nil
}

// end takes the directory away again, before the place gets its times.
func (p *place) end() {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.stage == 0 {
		return
	}
	unix.Close(p.stage)
	p.stage = 0
	_ = removeAll(p.fd, p.name)
}

// newDir makes a directory that only whoever restores may enter, and opens it. One that
// somebody else put under its name meanwhile is refused.
func (r *restorer) newDir(at int, name string) (int, error) {
	if err := unix.Mkdirat(at, name, 0o700); err != nil {
		return -1, err
	}
	fd, err := openDirAt(at, name)
	if err != nil {
		return -1, err
	}
	uid := uint32(os.Geteuid())
	if r.opt.As != nil {
		uid = r.opt.As.UID
	}
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil || st.Uid != uid || st.Mode&0o077 != 0 {
		unix.Close(fd)
		if err == nil {
			err = errSwapped
		}
		return -1, err
	}
	unix.Fremovexattr(fd, "system.posix_acl_default") // inherited, and not to be passed on
	return fd, nil
}
