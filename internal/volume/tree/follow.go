package tree

import (
	"context"
	"fmt"
	"slices"
	"sync/atomic"
	"time"

	"candidharbor/internal/beneath"
	"candidharbor/internal/moment"
	"candidharbor/internal/volume/journal"

	"golang.org/x/sys/unix"
)

// auditEvery is how often a followed volume is looked at as a whole nevertheless.
const auditEvery = 24 * time.Hour

// Follower reads one volume again and again, by its journal where that can vouch.
type Follower struct {
	root    string
	path    string
	watch   *journal.Watch
	names   *Names
	audited time.Time
	// exact says that nothing changed since the last snapshot began, up to the last look.
	exact   bool
	refused atomic.Pointer[string] // why the journal is trusted no more
}

// NewFollower returns a follower of a directory below root. With a journal of nil every reading
// looks at everything.
func NewFollower(j *journal.Journal, root, path string, excludes []string) *Follower {
	f := &Follower{root: root, path: path}
	if j != nil {
		f.watch = j.Watch(path, f.open, func(rel string) bool { return excluded(excludes, rel) })
	}
	return f
}

// Close ends the watching.
func (f *Follower) Close() {
	if f.watch != nil {
		f.watch.Forget()
	}
}

// Changed reports when first and last something changed since the last reading; zero when
// nothing did. ok is false when that is not known.
func (f *Follower) Changed() (first, last time.Time, ok bool) {
	if f.watch == nil || f.refused.Load() != nil {
		return first, last, false
	}
	return f.watch.Peek()
}

// Followed is what a reading was based on.
type Followed struct {
	ByJournal bool
	Why       string // everything was looked at, when not by journal
	Audited   bool
	// Still says that nothing changed while reading. Watched says that, in an unchanged
	// volume, nothing changed for a moment since its last snapshot began.
	Still, Watched bool
	// Untold are directories in which an audit found what the journal had not told.
	Untold []string

	f       *Follower
	reading *journal.Reading
	names   *Names
	now     time.Time
}

func (f *Follower) open() (int, error) { return beneath.Open(f.root, f.path) }

// Read scans the volume, looking only where the journal says so when it can say.
func (f *Follower) Read(ctx context.Context, opt ScanOptions, now time.Time) (*Scanned, *Followed, error) {
	how := &Followed{f: f, now: now}
	fd, err := f.open() // once, so that the journal speaks of what is read
	if err != nil {
		return nil, how, err
	}
	defer unix.Close(fd)
	opt.Path, opt.Beneath = f.path, f.root
	if why := f.refused.Load(); why != nil {
		how.Why = *why
	} else if f.watch != nil {
		if how.reading, err = f.watch.Begin(fd); err != nil {
			how.Why = err.Error()
		} else {
			how.Why = how.reading.Why
		}
	}
	r := how.reading
	if r != nil && r.Told && f.names != nil {
		opt.Changes = &Changes{Dirs: r.Dirs, Below: r.Below, Inodes: r.Inodes, Touched: r.Touched, Always: r.Always}
		opt.Names = f.names
		opt.Audit = now.Sub(f.audited) >= auditEvery
		how.ByJournal, how.Audited = !opt.Audit, opt.Audit
		if opt.Audit {
			how.Why = "as once a day, to check the journal"
		}
	}
	res, err := scan(ctx, fd, opt)
	if err != nil || r == nil {
		return res, how, err
	}
	still, anew := r.End(res.Names.Outside)
	if anew != "" && how.ByJournal {
		res.Forget()
		how.ByJournal, how.Why = false, anew
		// Everything below the top is looked at; what was written is still known.
		opt.Changes = &Changes{Below: []string{""}, Touched: r.Touched, Always: r.Always}
		if res, err = scan(ctx, fd, opt); err != nil {
			return nil, how, err
		}
		still, _ = r.End(res.Names.Outside)
	}
	how.Still, how.names = still, res.Names
	how.Watched = f.exact && opt.Changes != nil && !r.Any(res.Names.Outside)
	if len(res.Untold) > 0 {
		if err := how.explain(res.Untold); err != nil {
			how.Why = err.Error()
		}
	}
	return res, how, nil
}

// explain takes off an audit's findings what changed only after the changes were asked
// for.
func (h *Followed) explain(untold []string) error {
	later, err := h.reading.Later()
	if err != nil {
		return err
	}
	h.Untold = slices.DeleteFunc(untold, func(dir string) bool { return later[dir] })
	return nil
}

// Done notes that the reading was committed, as a snapshot or as the sighting of one.
func (h *Followed) Done(snapshot bool) {
	h.f.exact = snapshot || h.Watched
	if h.reading == nil {
		h.f.exact = false
		return
	}
	if len(h.Untold) > 0 {
		why := fmt.Sprintf("on %s a change was found in %q that had not been told", moment.Say(h.now),
			h.Untold[0])
		h.f.refused.Store(&why)
		h.f.exact = false
		return
	}
	h.reading.Done()
	h.f.names = h.names
	if !h.ByJournal {
		h.f.audited = h.now
	}
}
