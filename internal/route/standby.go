package route

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/beneath"
	"candidharbor/internal/capture"
	"candidharbor/internal/catalog"
	"candidharbor/internal/datadir"
	"candidharbor/internal/pairing"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
	"candidharbor/internal/run"
	"candidharbor/internal/store"
	"candidharbor/internal/volume/tree"

	"golang.org/x/sys/unix"
)

const (
	standbyExact    = "exact"
	standbyAdditive = "additive"
	standbyNone     = "none"
)

func checkStandby(mode string) error {
	if mode != standbyExact && mode != standbyAdditive {
		return refusal.Badf("standby %q: write %s or %s", mode, standbyExact, standbyAdditive)
	}
	return nil
}

// SetStandby lays a copy of another site's volume out as a directory, or no longer.
func (s *Service) SetStandby(name string, ask api.StandbySet, by string) (string, error) {
	if s.IsPlace {
		return "", pairing.ErrPlaceHolds
	}
	v, err := s.Catalog.Volume(name)
	if err == nil && v.IsDisk() {
		err = refusal.Badf("volume %s is a disk: a copy of it is laid out as no directory", name)
	}
	if err != nil {
		return "", err
	}
	if v.ActiveAt(s.Name()) {
		return "", refusal.Conflictf("%s lives here: a standby is a copy of another site's volume. To have an older state "+
			"beside it, use candid restore --to", name)
	}
	if ask.Mode == standbyNone {
		if v.Standby == "" {
			return "", refusal.Conflictf("%s is not laid out", name)
		}
		if err := s.Catalog.SetStandby(name, "", "", ""); err != nil {
			return "", err
		}
		if err := s.removeIdle(v.StandbyDir); err != nil {
			return "", err
		}
		s.run.Changed("volumes")
		return fmt.Sprintf("%s is brought up to date no more; what is laid out stays in %s.", name, v.StandbyDir), nil
	}
	if err := checkStandby(ask.Mode); err != nil {
		return "", err
	}
	dir, err := s.standbyDir(v, ask.Dir)
	if err != nil {
		return "", err
	}
	if err := s.Catalog.SetStandby(name, ask.Mode, dir, ""); err != nil {
		return "", err
	}
	s.run.Changed("volumes")
	if _, err := s.StartStandby(name, by); err != nil {
		return "", err
	}
	return fmt.Sprintf("%s is being laid out in %s, and brought up to date with each arrival.", name, dir), nil
}

// standbyDir finds where a copy is laid out, and that nothing of others lies there.
func (s *Service) standbyDir(v *catalog.Volume, dir string) (string, error) {
	if dir == "" {
		if v.StandbyDir != "" {
			return v.StandbyDir, nil
		}
		if s.Conf.Standby == "" {
			return "", refusal.Badf("it is not known where to lay %s out: give a directory with --dir, or name one as "+
				"standby in site.yaml", v.Name)
		}
		dir = filepath.Join(s.Conf.Standby, v.Name)
	}
	dir, root, err := s.UnderRoot(dir, false)
	if err != nil {
		return "", err
	}
	parent, active, _, state := standbyNames(dir)
	at, err := os.OpenRoot(parent)
	if err != nil || dir == root {
		return "", refusal.Badf("%s is no directory below a root: make it first", parent)
	}
	defer at.Close()
	if _, err := at.Lstat(state); errors.Is(err, fs.ErrNotExist) {
		if entries, err := fs.ReadDir(at.FS(), active); err == nil && len(entries) > 0 {
			return "", refusal.Conflictf("%s holds something already: a standby needs a directory of its own", dir)
		} else if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return "", refusal.Badf("%s: %s", dir, datadir.Plain(err))
		}
	}
	vols, err := s.Catalog.Volumes()
	if err != nil {
		return "", err
	}
	for _, o := range vols {
		if o.Name != v.Name && o.StandbyDir == dir || o.ActiveAt(s.Name()) &&
			(dir == o.Path || strings.HasPrefix(dir, o.Path+"/") || strings.HasPrefix(o.Path, dir+"/")) {
			return "", refusal.Conflictf("%s is taken by %s", dir, o.Name)
		}
	}
	return dir, nil
}

// standbyArrived brings a copy that is laid out up to date after an arrival. asked is what
// the route says, for a copy of which nobody here has said anything.
func (s *Service) standbyArrived(lineage, asked string) error {
	if s.IsPlace {
		return nil
	}
	v, err := s.Catalog.VolumeOfLineage(lineage)
	if errors.Is(err, catalog.ErrNone) {
		return nil // the rest of its set is still to come
	} else if err != nil {
		return err
	}
	if v.IsDisk() {
		return nil
	}
	if v.StandbyDir == "" { // asked for by a route, now or before
		if asked == "" || checkStandby(asked) != nil {
			return nil
		}
		dir, err := s.standbyDir(v, "")
		failed := ""
		if err != nil {
			failed = strings.TrimSuffix(err.Error(), ".")
		}
		if v.Standby != asked || v.StandbyError != failed || dir != "" {
			if err := s.Catalog.SetStandby(v.Name, asked, dir, failed); err != nil {
				return err
			}
			s.run.Tell("volumes")
		}
		if err != nil {
			return nil // it is told on Today; the copy itself has arrived
		}
	}
	last, err := s.Catalog.LastSnapshot(s.Place(), v.Lineage)
	if err != nil || last == nil || s.lies(v) == last.ID {
		return err
	}
	_, err = s.StartStandby(v.Name, "an arrival")
	return err
}

// StartStandby lays the newest copy out, unless that is about to happen already.
func (s *Service) StartStandby(name, by string) (*run.Job, error) {
	if s.IsPlace {
		return nil, pairing.ErrPlaceHolds
	}
	if j := s.run.Waiting("standby", name); j != nil {
		return j, nil
	}
	return s.run.Start("standby", name, by, func(ctx context.Context, j *run.Job) (any, string, error) {
		j.SetWaits(true)
		j.Say("waiting for another run on the same directory")
		release, err := s.run.Hold(ctx, run.KeyStandby.Of(name))
		if err != nil {
			return nil, "", err
		}
		defer release()
		j.SetWaits(false)
		j.Begin(nil)
		res, words, err := s.layOut(ctx, j, name)
		if v, verr := s.Catalog.Volume(name); verr == nil && v.Standby != "" && ctx.Err() == nil {
			failed := ""
			if err != nil {
				failed = err.Error()
			}
			if failed != v.StandbyError {
				err = errors.Join(err, s.Catalog.SetStandby(name, v.Standby, v.StandbyDir, failed))
			}
		}
		s.run.Tell("volumes")
		return res, words, err
	})
}

func (s *Service) layOut(ctx context.Context, j *run.Job, name string) (any, string, error) {
	v, err := s.Catalog.Volume(name)
	if err != nil {
		return nil, "", err
	}
	if v.Standby == "" || v.StandbyDir == "" {
		return nil, "it is not to be laid out any more", nil
	}
	last, err := s.Catalog.LastSnapshot(s.Place(), v.Lineage)
	if err != nil {
		return nil, "", err
	}
	if last == nil {
		return nil, "no copy has arrived yet", nil
	}
	dir, root, err := s.Fixed(v.StandbyDir)
	if err != nil {
		return nil, "", err
	}
	parent, active, idle, _ := standbyNames(dir)
	at, err := beneath.Open(root, parent)
	if err != nil {
		return nil, "", err
	}
	defer unix.Close(at)
	state, err := readStandby(at, active)
	if err != nil {
		return nil, "", err
	}
	lease := s.Store.NewLease()
	defer lease.Release()
	opt := tree.StandbyOptions{Source: s.Store, Dir: at, Idle: idle, Active: active,
		Additive: v.Standby == standbyAdditive}
	id, err := object.ParseID(last.ID)
	if err != nil {
		return nil, "", err
	}
	if opt.Root = s.Leased(lease, last.ID); opt.Root == nil {
		return nil, "", refusal.Missingf("snapshot %s was removed before it could be laid out", last.ID[:12])
	}
	activeIno, err := inodeOf(at, active)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, "", err
	}
	if state[activeIno].is(id) {
		return nil, "it lies there already", nil
	}
	idleIno, err := inodeOf(at, idle)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, "", err
	}
	opt.Beside, opt.Was = s.Leased(lease, state[activeIno].id()), s.Leased(lease, state[idleIno].id())
	since, err := filesystemNow(at)
	if err != nil {
		return nil, "", err
	}
	var found, inIdle []tree.Stray
	if !opt.Additive {
		j.Say("looking for what others wrote there")
		ck, err := capture.ChunkerOf(v)
		if err != nil {
			return nil, "", err
		}
		look := tree.StraysOptions{Source: s.Store, Chunker: ck, Dir: at}
		if look.Root, look.Name, look.Since = opt.Beside, active, state[activeIno].since(); look.Root != nil {
			if found, err = tree.Strays(ctx, look); err != nil {
				return nil, "", err
			}
		}
		if look.Root, look.Name, look.Since = opt.Was, idle, state[idleIno].since(); look.Root != nil {
			if inIdle, err = tree.Strays(ctx, look); err != nil {
				return nil, "", err
			}
		}
	}
	// A tree that somebody else wrote into is nothing to build upon: what is made from it or
	// linked to it would have what was written. It is made anew when its turn comes.
	next := standbyState{}
	if opt.Beside != nil && len(found) == 0 {
		next[activeIno] = laidAs(state[activeIno].id(), since)
	} else {
		opt.Beside = nil
	}
	if len(inIdle) > 0 {
		opt.Was = nil
	}
	j.Say("laying it out")
	// From here on the idle tree is nothing until it is whole.
	if err := writeStandby(at, active, next); err != nil {
		return nil, "", err
	}
	res, err := tree.LayOut(ctx, opt)
	if err != nil {
		return nil, "", err
	}
	if idleIno, err = inodeOf(at, idle); err != nil {
		return nil, "", err
	}
	if since, err = filesystemNow(at); err != nil {
		return nil, "", err
	}
	next[idleIno] = laidAs(id.String(), since)
	if err := writeStandby(at, active, next); err != nil {
		return nil, "", err
	}
	if activeIno == "" {
		err = unix.Renameat2(at, idle, at, active, unix.RENAME_NOREPLACE)
	} else {
		err = unix.Renameat2(at, idle, at, active, unix.RENAME_EXCHANGE)
	}
	if err == nil {
		err = unix.Fsync(at)
	}
	if err != nil {
		return nil, "", &os.PathError{Op: "exchange", Path: dir, Err: err}
	}
	words := fmt.Sprintf("%s lies in %s as of %s; %s", name, dir, phrase.Stamp(last.Began.Time),
		phrase.CountWords([]phrase.Counted{{N: res.Created, What: "created"}, {N: res.Replaced, What: "replaced"},
			{N: res.Removed, What: "removed"}}))
	if res.RemarkCount > 0 {
		j.Remark()
		for _, m := range res.Remarks {
			j.Logf("%s: %s", phrase.Printable(m.Path), m.What)
		}
		words += fmt.Sprintf("; %d could not be made as they are, the log names them", res.RemarkCount)
	}
	words += tellStrays(j, found, ": the log names them, and until the next arrival they lie in "+filepath.Join(parent,
		idle))
	words += tellStrays(j, inIdle, ", in the tree that was not shown, and that are gone")
	return map[string]int64{"created": res.Created, "replaced": res.Replaced, "removed": res.Removed, "bytes": res.Bytes,
		"remarks": res.RemarkCount}, words, nil
}

// Leased returns a snapshot's root and keeps its objects readable; nil when it is gone.
func (s *Service) Leased(lease *store.Lease, id string) *object.Root {
	parsed, err := object.ParseID(id)
	if err != nil {
		return nil
	}
	set, err := s.Store.Census(parsed)
	if err != nil {
		return nil
	}
	lease.AcquireSet(set)
	if !s.Store.HasRoot(parsed) {
		return nil
	}
	root, _, err := s.Store.Root(parsed)
	if err != nil {
		return nil
	}
	return root
}

// StandbyView tells how a copy is laid out; nil: it is not.
func (s *Service) StandbyView(v *catalog.Volume) *api.Standby {
	if v.Standby == "" {
		return nil
	}
	out := &api.Standby{Mode: v.Standby, Dir: v.StandbyDir, Error: v.StandbyError}
	if id, err := object.ParseID(s.lies(v)); err == nil {
		if root, _, err := s.Store.Root(id); err == nil {
			at := root.BeganTime()
			out.AsOf = &at
		}
	}
	switch {
	case out.Error != "" && out.AsOf != nil:
		out.Sentence = fmt.Sprintf("It lies in %s as of %s, and was not brought up to date since: %s.", v.StandbyDir,
			phrase.Stamp(*out.AsOf), v.StandbyError)
	case out.Error != "" && out.Dir == "":
		out.Sentence = fmt.Sprintf("Its route asks for it to be laid out, and it is not: %s.", v.StandbyError)
	case out.Error != "":
		out.Sentence = fmt.Sprintf("It could not be laid out in %s: %s.", v.StandbyDir, v.StandbyError)
	case out.AsOf != nil:
		out.Sentence = fmt.Sprintf("It lies in %s as of %s, %s.", v.StandbyDir, phrase.Stamp(*out.AsOf), v.Standby)
	default:
		out.Sentence = fmt.Sprintf("It is being laid out in %s.", v.StandbyDir)
	}
	return out
}
