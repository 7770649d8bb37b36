package tree

import (
	"fmt"
	"runtime"
	"unsafe"

	"candidharbor/core/object"
	"candidharbor/core/rights"

	"golang.org/x/sys/unix"
)

// become makes this thread one of a person's as far as files go, for as long as the thread
// lives: the kernel judges what it does by that user and those groups.
func become(p *rights.Person) error {
	groups := p.GIDs
	if len(groups) == 0 {
		return fmt.Errorf("user %d is in no group", p.UID)
	}
	// The raw calls are this thread's alone; those of package syscall are for all threads.
	if _, _, errno := unix.RawSyscall(unix.SYS_SETGROUPS, uintptr(len(groups)), uintptr(unsafe.Pointer(&groups[0])),
		0); errno != 0 {
		return fmt.Errorf("the service cannot act as user %d: %w; it must run as root to restore for file owners", p.UID,
			errno)
	}
	for call, id := range map[uintptr]uint32{unix.SYS_SETFSGID: groups[0], unix.SYS_SETFSUID: p.UID} {
		unix.RawSyscall(call, uintptr(id), 0, 0)
		if now, _, _ := unix.RawSyscall(call, ^uintptr(0), 0, 0); uint32(now) != id {
			return fmt.Errorf("the service cannot act as user %d: it must run as root to restore for file owners", p.UID)
		}
	}
	// Without these the kernel grants nothing that the ids do not: no file capabilities, no
	// attributes of the system's, no set-group-id bits for groups of others.
	head := unix.CapUserHeader{Version: unix.LINUX_CAPABILITY_VERSION_3}
	var none [2]unix.CapUserData
	if _, _, errno := unix.RawSyscall(unix.SYS_CAPSET, uintptr(unsafe.Pointer(&head)), uintptr(unsafe.Pointer(&none[0])),
		0); errno != 0 {
		return fmt.Errorf("the service cannot give up its capabilities for user %d: %w", p.UID, errno)
	}
	if _, _, errno := unix.RawSyscall6(unix.SYS_PRCTL, unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0, 0); errno != 0 {
		return fmt.Errorf("the service cannot rule out new rights for user %d: %w", p.UID, errno)
	}
	return nil
}

// inPerson calls do on a thread of its own that acts as the person for whom is restored.
func (r *restorer) inPerson(do func() error) error {
	if r.opt.As == nil {
		return do()
	}
	done := make(chan error, 1)
	go func() {
		runtime.LockOSThread() // never unlocked: the thread ends with this goroutine
		if err := become(r.opt.As); err != nil {
			done <- err
			return
		}
		done <- do()
	}()
	return <-done
}

// asService calls do with the service's own rights, which what is the service's own needs.
func (r *restorer) asService(do func()) {
	if r.opt.As == nil {
		do()
		return
	}
	done := make(chan struct{})
	go func() {
		defer close(done)
		do()
	}()
	<-done
}

// serviceSource reads a source with the service's own rights.
type serviceSource struct {
	r   *restorer
	src Source
}

func (s serviceSource) Get(id object.ID) (env object.Envelope, err error) {
	s.r.asService(func() { env, err = s.src.Get(id) })
	return env, err
}
