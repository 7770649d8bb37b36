package tree

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"

	"candidharbor/core/chunker"
	"candidharbor/core/object"
	"candidharbor/core/rights"
	"candidharbor/internal/beneath"

	"golang.org/x/sys/unix"
)

// Conflict says what happens to something that is there already and differs.
type Conflict string

// The conflict choices.
const (
	Skip     Conflict = "skip"
	Replace  Conflict = "replace"
	Older    Conflict = "older"     // replace only what is older than the snapshot's
	KeepBoth Conflict = "keep-both" // the restored one gets a suffix
)

// ParseConflict reads a conflict choice.
func ParseConflict(s string) (Conflict, error) {
	switch c := Conflict(s); c {
	case Skip, Replace, Older, KeepBoth:
		return c, nil
	}
	return "", fmt.Errorf("conflict choice %q: it must be skip, replace, older or keep-both", s)
}

// Source is where a restore reads from; *store.Store is one.
type Source interface {
	Get(id object.ID) (object.Envelope, error)
}

// RestoreOptions say what to restore where.
type RestoreOptions struct {
	Source     Source
	Root       *object.Root
	Paths      []string // from the volume's top; none: the whole tree
	Target     string   // resolved directory that stands for the volume's top
	Beneath    string   // a root of the site; nothing outside it is touched
	OnConflict Conflict
	// Exact removes what the snapshot does not have, below the paths when there are any. A
	// path that the snapshot does not have goes then, and the directories above it that it
	// left empty.
	Exact bool
	// Safety is the snapshot taken right before, when the target is the volume itself.
	// Nothing is removed or replaced that is not in it as it is.
	Safety *object.Root
	// Left tells what the run that is taken back left at a path of the target, nil for nothing.
	// Only what is still so is changed; what others changed since stays, and the result
	// counts it. Nil: it is no undo, or nobody knows any more what it left.
	Left func(rel string) (*object.Entry, error)
	// OwnCopy says that the target is a copy that restores made: with Exact what the snapshot
	// does not have goes from there, kept nowhere.
	OwnCopy bool
	Live    bool // the target is the volume itself: its directory stays the one it is
	// As is for whom is restored into a live volume: the kernel lets be written what that
	// person may write, and nothing else. Nil: the service itself.
	As       *rights.Person
	Excludes []string // what snapshots leave out is left alone
	Plan     bool     // change nothing, only tell
	Suffix   string   // for KeepBoth
	Cache    *Cache   // when the target is the volume itself: saves reading what is known
	Chunker  *chunker.Chunker
	Progress *Progress
}

// Restored tells what a restore did, or would do.
type Restored struct {
	Created  int64 `json:"created"`
	Replaced int64 `json:"replaced"`
	Removed  int64 `json:"removed"`
	Skipped  int64 `json:"skipped"`
	Kept     int64 `json:"kept"`     // the same already
	Adjusted int64 `json:"adjusted"` // only metadata differed
	Failed   int64 `json:"failed"`   // could not be restored; a remark says why
	Bytes    int64 `json:"bytes"`    // content written, or to be written
	Others   int64 `json:"-"`        // left as others made them since, by an undo
	// Samples are the first few acts, for people.
	Samples     []Act           `json:"samples"`
	Remarks     []object.Remark `json:"-"`
	RemarkCount int64           `json:"remarks"`
	// Beside are the paths of what was put beside what was there, the first of them.
	Beside []string `json:"beside"`
}

// Act is one thing that a restore does.
type Act struct {
	Path string `json:"path"`
	What string `json:"what"` // create, replace, remove, skip, adjust, fail
}

const (
	samplesKept = 200
	besideKept  = 10_000
	tempPrefix  = ".candid-part-"

	// unfinished is the mode of a directory that is being restored, and unfinishedBits are those
	// that no other has together, so that a restore which goes on knows it for its own. An ACL that
	// is set on it changes the other bits.
	unfinished     = 0o5700
	unfinishedBits = 0o5000
)

type restorer struct {
	opt    RestoreOptions
	ctx    context.Context
	tokens chan struct{}
	picked *picker

	mu    sync.Mutex
	res   Restored
	links map[string]*linkSet // path → set, for the paths being restored
	later []pendingLink
	top   int               // the target while an existing one is gone through
	moved map[string]string // path in the snapshot → path in the target, of what was put beside
	fresh bool              // the target is empty: names are written directly
	whole bool              // the target was empty and gets all: its own metadata comes back too
}

// linkSet is one file with several names. The first of them is written, or found as it
// should be; the others become names of what stands at its place.
type linkSet struct {
	first string
	at    string   // path in the target; "": the first was left as it was
	paths []string // those being restored, the first included
}

type pendingLink struct {
	path  string
	entry object.Entry
	what  string // as what it was counted; "": it stands in the target already, with the right content
}

// Restore writes the tree, or tells what it would write.
func Restore(ctx context.Context, opt RestoreOptions) (*Restored, error) {
	if opt.Progress == nil {
		opt.Progress = &Progress{}
	}
	r := &restorer{opt: opt, ctx: ctx, tokens: make(chan struct{}, 2*runtime.NumCPU()), links: map[string]*linkSet{},
		moved: map[string]string{}}
	if opt.As != nil {
		r.opt.Source = serviceSource{r, opt.Source}
	}
	var err error
	if r.picked, err = newPicker(opt.Source.Get, opt.Root, opt.Paths, opt.Exact); err != nil {
		return nil, err
	}
	if err := r.loadLinks(); err != nil {
		return nil, err
	}
	missing, empty, err := missingOrEmpty(opt.Target)
	if err != nil {
		return nil, err
	}
	top := opt.Root.Top
	r.whole = empty && len(opt.Paths) == 0
	if opt.As != nil && !opt.Live {
		return nil, errors.New("for a person is restored in place alone")
	}
	if missing || (empty && !opt.Live && !mountPoint(opt.Target)) {
		r.fresh = true
		if opt.Plan {
			err = r.listed("", r.planAll(top.Content, ""))
		} else {
			err = r.intoEmpty(top)
		}
	} else {
		err = r.intoExisting(top)
	}
	slices.SortFunc(r.res.Samples, func(a, b Act) int { return strings.Compare(a.Path, b.Path) })
	return &r.res, err
}

func missingOrEmpty(dir string) (missing, empty bool, err error) {
	entries, err := os.ReadDir(dir)
	if errors.Is(err, os.ErrNotExist) {
		return true, true, nil
	}
	return false, len(entries) == 0, err
}

// ReadOnly reports whether a directory, or the nearest above it that is there, lies on a
// filesystem that takes no writes.
func ReadOnly(dir string) bool {
	err := unix.Access(dir, unix.W_OK)
	for errors.Is(err, unix.ENOENT) && dir != "/" {
		dir = filepath.Dir(dir)
		err = unix.Access(dir, unix.W_OK)
	}
	return errors.Is(err, unix.EROFS)
}

// mountPoint reports whether a filesystem is mounted on dir: it cannot be renamed over.
func mountPoint(dir string) bool {
	var here, above unix.Stat_t
	return unix.Stat(dir, &here) != nil || unix.Stat(filepath.Dir(dir), &above) != nil || here.Dev != above.Dev
}

// intoEmpty builds the tree beside the target and renames it into place once.
func (r *restorer) intoEmpty(top object.Entry) error {
	parent, err := beneath.Open(r.opt.Beneath, filepath.Dir(r.opt.Target))
	if err != nil {
		return err
	}
	defer unix.Close(parent)
	name, aside := filepath.Base(r.opt.Target), tempName()
	fd, err := r.newDir(parent, aside)
	if err != nil {
		return &os.PathError{Op: "create", Path: r.opt.Target, Err: err}
	}
	if err = r.dir(&place{r: r, fd: fd, private: true}, "", top.Content, nil); r.res.Created > 0 {
		err = r.listed("", err)
	}
	if err == nil {
		err = r.finishLinks(fd)
	}
	if err == nil && len(r.opt.Paths) == 0 {
		err = r.applyMeta(fd, "", &top)
	} else if err == nil {
		err = unix.Fchmod(fd, 0o755)
	}
	if err == nil {
		// One flush of the filesystem makes the whole tree durable before its name appears.
		if _, _, errno := unix.Syscall(unix.SYS_SYNCFS, uintptr(fd), 0, 0); errno != 0 {
			err = errno
		}
	}
	unix.Close(fd)
	if err == nil {
		_ = unix.Unlinkat(parent, name, unix.AT_REMOVEDIR) // an empty one may stand there
		err = unix.Renameat2(parent, aside, parent, name, unix.RENAME_NOREPLACE)
		if err == nil {
			err = unix.Fsync(parent)
		}
	}
	if err != nil {
		removeAll(parent, aside)
		if damaged(err) {
			err = fmt.Errorf("nothing was restored: %w", err)
		}
		return err
	}
	return nil
}

// intoExisting goes through the target side by side with the tree.
func (r *restorer) intoExisting(top object.Entry) error {
	fd, err := beneath.Open(r.opt.Beneath, r.opt.Target)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	r.top = fd
	var known *cacheDir
	if r.opt.Cache != nil {
		known = r.opt.Cache.readDir(r.opt.Cache.head.Top)
	}
	err = r.inPerson(func() error {
		if err := r.listed("", r.dir(&place{r: r, fd: fd}, "", top.Content, known)); err != nil || r.opt.Plan {
			return err
		}
		if err := r.finishLinks(fd); err != nil {
			return err
		}
		if r.opt.Exact && !r.picked.all {
			r.timeBack(fd, "", top.Content, &top)
		} else if r.opt.Exact || r.whole {
			return r.applyMeta(fd, "", &top)
		}
		return nil
	})
	if err != nil || r.opt.Plan {
		return err
	}
	if _, _, errno := unix.Syscall(unix.SYS_SYNCFS, uintptr(fd), 0, 0); errno != 0 {
		return errno
	}
	return nil
}

func tempName() string {
	var b [8]byte
	rand.Read(b[:])
	return tempPrefix + hex.EncodeToString(b[:])
}

// OnlyMetadata reports whether a plan would write no content.
func (r *Restored) OnlyMetadata() bool { return r.Created+r.Replaced+r.Removed+r.Failed == 0 }
