package clones

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"candidharbor/api"
	"candidharbor/internal/access"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/policy"
	"candidharbor/internal/recovery"
	"candidharbor/internal/refusal"
	"candidharbor/internal/run"
	shown "candidharbor/internal/views"
)

// CloneHome is where lies what was changed in a clone.
func (s *Service) CloneHome(name string) string { return filepath.Join(s.Path, "clones", name) }

func (s *Service) clone(name string) (*catalog.Clone, error) {
	c, err := s.Catalog.Clone(name)
	if errors.Is(err, catalog.ErrNone) {
		return nil, refusal.Missingf("there is no clone %s: candid clone list shows those there are", name)
	}
	return c, err
}

// usedBy names, by snapshot, the clones that stand on it.
func (s *Service) usedBy(string) (map[string][]string, error) {
	all, err := s.Catalog.Clones()
	out := map[string][]string{}
	for _, c := range all {
		if c.Drill == "" { // what drills stand on they say themselves
			out[c.Snapshot] = append(out[c.Snapshot], c.Name)
		}
	}
	return out, err
}

// MakeClone makes a writable copy of a volume as of a moment, which takes no time and no
// room but for what is changed in it.
func (s *Service) MakeClone(ask api.CloneAsk, by string) (*api.Clone, error) {
	c, err := s.makeClone(ask, by, "", "")
	if err != nil {
		return nil, err
	}
	s.run.Changed("snapshots", c.Volume)
	s.run.Tell("clones")
	return s.cloneView(c), nil
}

// makeClone makes a clone. That of a drill lies beneath a directory of the drill's.
func (s *Service) makeClone(ask api.CloneAsk, by, drill, beneath string) (*catalog.Clone, error) {
	if err := policy.CheckName("clone", ask.Name); err != nil {
		return nil, refusal.Wrap(refusal.Misuse, err)
	}
	release, err := s.run.Hold(s.run.Context(), run.KeyPrune.Of("")) // the snapshot must not be let go meanwhile
	if err != nil {
		return nil, err
	}
	defer release()
	s.mu.Lock()
	defer s.mu.Unlock()
	if _, err := s.clone(ask.Name); err == nil {
		return nil, refusal.Conflictf("there is a clone %s already: candid clone show %s tells of it", ask.Name, ask.Name)
	} else if refusal.ClassOf(err) != refusal.Missing {
		return nil, err
	}
	v, err := s.Catalog.Volume(ask.Volume)
	if err != nil {
		return nil, err
	}
	row, _, err := s.rules.Moment(v, ask.At)
	if err != nil {
		return nil, err
	}
	if !row.GraceUntil.IsZero() {
		return nil, refusal.Conflictf("snapshot %s is in grace: candid snapshot recall %s first, so that it stays",
			row.ID[:12], row.ID[:12])
	}
	now := s.Clock.Now()
	if !ask.Until.IsZero() && !ask.Until.After(now) {
		return nil, refusal.Badf("%s has passed: give a moment to come, or none", phrase.Stamp(ask.Until))
	}
	if v.IsDisk() {
		return s.makeDiskClone(ask, row, by, drill)
	}
	dir, root := ask.Dir, beneath
	if drill == "" {
		dir, root, err = s.UnderRoot(ask.Dir, false)
	}
	if err != nil {
		return nil, err
	}
	made, err := makeSpot(root, dir)
	if err != nil {
		return nil, err
	}
	mounted := false
	defer func() {
		if !mounted && made {
			removeSpot(root, dir)
		}
	}()
	spot, err := emptySpot(root, dir)
	if err != nil {
		return nil, err
	}
	defer func() {
		if !mounted {
			spot.Close()
		}
	}()
	home := s.CloneHome(ask.Name)
	if err := os.RemoveAll(home); err != nil { // of one that could not be made
		return nil, err
	}
	c := &catalog.Clone{Name: ask.Name, Volume: v.Name, Snapshot: row.ID, Taken: row.Began, Dir: dir,
		Made: catalog.At(now), MadeBy: by, Until: catalog.At(ask.Until), Drill: drill}
	if err := s.Catalog.PutClone(c); err != nil { // from here on the snapshot stays
		return nil, err
	}
	if err := s.mountClone(c, spot); err != nil {
		_ = os.RemoveAll(home)
		return nil, errors.Join(refusal.Conflictf("the clone cannot be made: %s. It needs FUSE, an overlay and the right "+
			"to mount, and a data directory on a filesystem that an overlay can write to, such as ext4 or XFS", err),
			s.Catalog.RemoveClone(ask.Name))
	}
	mounted = true
	return c, nil
}

func (s *Service) mountClone(c *catalog.Clone, at *shown.Spot) error {
	m, err := shown.MountClone(s.recovery.Views(), c.Volume, c.Snapshot, s.CloneHome(c.Name), at, s.staging(), s.Log)
	if err == nil {
		s.cloned[c.Name] = m
	}
	return err
}

// ClonesAgain mounts the clones that there were when the service ended, and ends what it was
// about to discard.
func (s *Service) ClonesAgain() error {
	all, err := s.Catalog.Clones()
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, c := range all {
		if isDisk(c) {
			if c.Ending {
				err = s.endDiskClone(c, true)
			}
			if err != nil {
				s.Log.Warn("a clone could not be discarded", "clone", c.Name, "error", err)
			}
			continue
		}
		spot, err := s.spotAgain(c.Dir)
		if c.Ending {
			if err == nil {
				err = shown.ClearClone(s.CloneHome(c.Name), spot)
				spot.Close()
			}
			if err == nil || errors.Is(err, fs.ErrNotExist) {
				err = s.forgetClone(c.Name)
			}
			if err != nil {
				s.Log.Warn("a clone could not be discarded", "clone", c.Name, "error", err)
			}
			continue
		}
		if err == nil {
			if err = s.mountClone(c, spot); err != nil {
				spot.Close()
			}
		}
		if err != nil {
			s.Log.Warn("a clone is not there at present; what was changed in it is kept", "clone", c.Name, "directory", c.Dir,
				"error", err)
		}
	}
	return nil
}

// EndClones takes the clones' filesystems away when the service ends.
func (s *Service) EndClones() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for name, m := range s.cloned {
		if err := m.End(true); err != nil {
			s.Log.Warn("a clone could not be taken away", "clone", name, "error", err)
		}
		delete(s.cloned, name)
	}
}

// cloneUse is what was changed in a clone.
type cloneUse struct {
	changed, bytes int64
	last           time.Time
	looked         time.Time     // by the host's clock
	took           time.Duration // to look
}

// cheapLook is how long a look may take that is taken anew each time.
const cheapLook = 200 * time.Millisecond

// useOf looks through what was changed in a clone, of which only that lies in the upper layer.
// It may be very much: a look that was not cheap is relied on for fifty times as long as it
// took.
func (s *Service) useOf(name string) cloneUse {
	s.usesMu.Lock()
	use, ok := s.cloneUses[name]
	s.usesMu.Unlock()
	if ok && use.took > cheapLook && time.Since(use.looked) < 50*use.took {
		return use
	}
	use = cloneUse{looked: time.Now()}
	filepath.WalkDir(filepath.Join(s.CloneHome(name), "upper"), func(_ string, d fs.DirEntry, err error) error {
		if err != nil {
			return nil
		}
		if info, err := d.Info(); err == nil {
			if st, ok := info.Sys().(*syscall.Stat_t); ok {
				use.bytes += st.Blocks * 512
			}
			if use.changed++; info.ModTime().After(use.last) {
				use.last = info.ModTime()
			}
		}
		return nil
	})
	use.changed = max(0, use.changed-1) // its top
	use.took = time.Since(use.looked)
	s.usesMu.Lock()
	defer s.usesMu.Unlock()
	s.cloneUses[name] = use
	return use
}

func (s *Service) cloneView(c *catalog.Clone) *api.Clone {
	if isDisk(c) {
		return s.diskCloneView(c)
	}
	use := s.useOf(c.Name)
	s.mu.Lock()
	there := s.cloned[c.Name] != nil
	s.mu.Unlock()
	out := &api.Clone{Name: c.Name, Volume: c.Volume, Snapshot: c.Snapshot, Taken: c.Taken.Time, Dir: c.Dir,
		Made: c.Made.Time, By: c.MadeBy, Drill: c.Drill, There: there, Changed: use.changed, Bytes: use.bytes, Used: use.last}
	out.Until = c.Until.Ptr()
	out.Sentence = fmt.Sprintf("%s as of %s, writable at %s; %s changed, %s of its own", c.Volume,
		phrase.Stamp(c.Taken.Time), c.Dir, phrase.Many(int(out.Changed), "name"), phrase.Size(out.Bytes))
	if out.Until != nil {
		out.Sentence += "; discarded " + phrase.Stamp(c.Until.Time)
	}
	if !out.There {
		out.Sentence += ". It is not mounted at present: the service's log says why"
	}
	out.Sentence += "."
	return out
}

// Clones lists the clones by name.
func (s *Service) Clones() ([]api.Clone, error) {
	all, err := s.Catalog.Clones()
	if err != nil {
		return nil, err
	}
	out := []api.Clone{}
	for _, c := range all {
		out = append(out, *s.cloneView(c))
	}
	return out, nil
}

// Clone returns one clone.
func (s *Service) Clone(name string) (*api.Clone, error) {
	c, err := s.clone(name)
	if err != nil {
		return nil, err
	}
	return s.cloneView(c), nil
}

// DiscardClone takes a clone away, with everything that was changed in it.
func (s *Service) DiscardClone(name string, anyway bool) (string, error) {
	c, err := s.free(name)
	if err != nil {
		return "", err
	}
	if isDisk(c) {
		return s.discardDiskClone(name, anyway)
	}
	if v, err := s.cloneVolume(c); err != nil {
		return "", err
	} else if v != nil && v.Protected {
		return "", refusal.Conflictf("the volume %s is protected where the clone is: candid clone make-volume %s --to DIR "+
			"moves it to a directory of its own, or candid volume remove %s stops protecting it", v.Name, name, v.Name)
	}
	if err := s.endClone(c, anyway); err != nil {
		return "", err
	}
	if err := s.forgetClone(name); err != nil { // it may be much; nobody waits for it
		return "", err
	}
	s.run.Changed("snapshots", c.Volume)
	s.run.Tell("clones")
	return fmt.Sprintf("The clone %s is gone with what was changed in it; the snapshot of %s that it stood on goes as "+
		"the rules say.", name, c.Volume), nil
}

// endClone takes a clone's filesystem away for good: from here on a start goes on discarding it.
func (s *Service) endClone(c *catalog.Clone, anyway bool) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if m := s.cloned[c.Name]; m != nil {
		if err := m.End(anyway); err != nil {
			return refusal.Conflictf("%s is in use: someone has a file or directory in it open (%s); --anyway takes "+
				"it from them", c.Dir, err)
		}
		delete(s.cloned, c.Name)
	}
	c.Ending = true
	return s.Catalog.PutClone(c)
}

func (s *Service) forgetClone(name string) error {
	if err := os.RemoveAll(s.CloneHome(name)); err != nil {
		return err
	}
	s.usesMu.Lock()
	delete(s.cloneUses, name)
	s.usesMu.Unlock()
	return s.Catalog.RemoveClone(name)
}

// cloneTasks are the ends that were set for clones.
func (s *Service) cloneTasks() ([]*recovery.ScheduledTask, error) {
	all, err := s.Catalog.Clones()
	if err != nil {
		return nil, err
	}
	var out []*recovery.ScheduledTask
	for _, c := range all {
		if c.Until.IsZero() {
			continue
		}
		out = append(out, &recovery.ScheduledTask{Key: catalog.CloneTask + c.Name, What: "clone " + c.Name,
			Once: c.Until.Time,
			Do: func() ([]*run.Job, error) {
				if _, err := s.access.Record(access.ByService, "discardClone", c.Name, ""); err != nil {
					return nil, err
				}
				said, err := s.DiscardClone(c.Name, true)
				if err == nil {
					s.Log.Info("a clone has come to its end", "clone", c.Name, "said", said)
				}
				return nil, err
			}})
	}
	return out, nil
}
