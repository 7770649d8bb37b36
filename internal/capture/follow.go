package capture

import (
	"fmt"
	"strings"
	"sync"
	"time"

	"candidharbor/core/cadence"
	"candidharbor/internal/catalog"
	"candidharbor/internal/rules"
	"candidharbor/internal/volume/journal"
	"candidharbor/internal/volume/tree"
)

// followers read each volume by its change journal where that can vouch.
type followers struct {
	mu   sync.Mutex
	all  map[string]*following // by lineage
	wake *time.Timer           // set while changes were told and the schedule was not woken yet
}

type following struct {
	*tree.Follower
	settings string
	how      string // the last reading found what changed
	snapshot string // that the last reading came to
}

func settingsOf(v *catalog.Volume, leave []string) string {
	return fmt.Sprintf("%s|%d|%s", v.Path, v.ChunkAvg, strings.Join(leave, "|"))
}

// follower returns the volume's follower, a new one when its settings changed.
func (s *Service) follower(v *catalog.Volume, root, dir string, leave []string) *tree.Follower {
	s.followers.mu.Lock()
	defer s.followers.mu.Unlock()
	settings := root + "|" + dir + "|" + settingsOf(v, leave)
	if f := s.followers.all[v.Lineage]; f != nil {
		if f.settings == settings {
			return f.Follower
		}
		f.Close()
	}
	if s.followers.all == nil {
		s.followers.all = map[string]*following{}
	}
	f := &following{Follower: tree.NewFollower(s.journal, root, dir, leave), settings: settings}
	s.followers.all[v.Lineage] = f
	return f.Follower
}

// Unfollow forgets what is known of a volume: the next reading looks at everything.
func (s *Service) Unfollow(lineage string) {
	s.followers.mu.Lock()
	defer s.followers.mu.Unlock()
	if f := s.followers.all[lineage]; f != nil {
		f.Close()
		delete(s.followers.all, lineage)
	}
}

func (fs *followers) note(lineage string, how *tree.Followed) {
	fs.mu.Lock()
	defer fs.mu.Unlock()
	f := fs.all[lineage]
	if f == nil {
		return
	}
	switch {
	case how.ByJournal:
		f.how = "by the change journal"
	case how.Why == "":
		f.how = "by looking at everything"
	default:
		f.how = "by looking at everything: " + how.Why
	}
}

// stands notes which snapshot holds what was read last.
func (fs *followers) stands(lineage, snapshot string) {
	fs.mu.Lock()
	defer fs.mu.Unlock()
	if f := fs.all[lineage]; f != nil {
		f.snapshot = snapshot
	}
}

func (fs *followers) standing(lineage string) string {
	fs.mu.Lock()
	defer fs.mu.Unlock()
	if f := fs.all[lineage]; f != nil {
		return f.snapshot
	}
	return ""
}

// Followed tells how the last reading of a volume found what changed.
func (s *Service) Followed(lineage string) string {
	s.followers.mu.Lock()
	defer s.followers.mu.Unlock()
	if f := s.followers.all[lineage]; f != nil {
		return f.how
	}
	return ""
}

// WhyNoJournal says why the journal does not speak for a volume.
func (s *Service) WhyNoJournal(v *catalog.Volume) string {
	if s.journal == nil {
		return "it is turned off in site.yaml"
	}
	if _, why, ok := strings.Cut(s.Followed(v.Lineage), ": "); ok {
		return why
	}
	return "its first snapshot since the service started is still to come"
}

// ChangedSince reports when first and last something changed since the volume was read, as far
// as its journal can vouch.
func (s *Service) ChangedSince(v *catalog.Volume) (first, last time.Time, ok bool) {
	s.followers.mu.Lock()
	f := s.followers.all[v.Lineage]
	s.followers.mu.Unlock()
	if f == nil {
		return first, last, false
	}
	return f.Changed()
}

// toldPause is how long told changes are gathered before the schedule looks at them, and
// toldShare how many times a look's own length, so that many volumes cost no more.
const (
	toldPause = time.Second
	toldShare = 50
)

// changeTold wakes the schedule some time after something changed.
func (s *Service) changeTold() {
	s.followers.mu.Lock()
	defer s.followers.mu.Unlock()
	if s.followers.wake != nil || !s.awaitsChanges.Load() {
		return
	}
	s.followers.wake = time.AfterFunc(max(toldPause, toldShare*time.Duration(s.lookTook.Load())), func() {
		s.followers.mu.Lock()
		s.followers.wake = nil
		s.followers.mu.Unlock()
		s.run.Wake()
	})
}

// restlessFor bounds how long a volume that never rests is waited for, in times of that rest.
const restlessFor = 5

// onChange reports when a snapshot is due because something changed. known is false when
// the volume has no such cadence or no journal speaks for it: then its cadences' own times
// count. A zero time with known says that nothing changed.
func (s *Service) onChange(v *catalog.Volume, rs *rules.Ruleset) (due time.Time, known bool, err error) {
	var mine []*cadence.Cadence
	for _, c := range rs.Take {
		if _, _, looks := c.OnChange(); looks {
			mine = append(mine, c)
		}
	}
	if len(mine) == 0 {
		return due, false, nil
	}
	s.awaitsChanges.Store(true)
	first, last, known := s.ChangedSince(v)
	if !known || last.IsZero() {
		return due, known, nil
	}
	newest, err := s.Catalog.LastSnapshot(s.Place(), v.Lineage)
	if err != nil {
		return due, known, err
	}
	for _, c := range mine {
		rest, least, _ := c.OnChange()
		at := last.Add(rest)
		if limit := first.Add(max(least, restlessFor*rest)); at.After(limit) {
			at = limit
		}
		if newest != nil && at.Before(newest.Began.Add(least)) {
			at = newest.Began.Add(least)
		}
		if at, ok := c.Open(at); ok && (due.IsZero() || at.Before(due)) {
			due = at
		}
	}
	return due, known, nil
}

// FollowChanges has the kernel tell what changes.
func (s *Service) FollowChanges() { s.journal = journal.New(s.Path, s.Clock.Now, s.changeTold) }

// EndFollowing ends what the kernel tells.
func (s *Service) EndFollowing() error {
	s.followers.mu.Lock()
	if s.followers.wake != nil {
		s.followers.wake.Stop()
	}
	s.followers.mu.Unlock()
	if s.journal == nil {
		return nil
	}
	return s.journal.Close()
}
