package demo

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"candidharbor/api"
)

// fireDay is the day of the fire: the day after it nothing else happens. In a long story it is a Tuesday.
func (s *story) fireDay(events []event) int {
	d := s.opt.Days
	busy := map[int]bool{d / 3: true, d / 2: true, d/2 + 2: true, s.groupDay(): true, s.groupDay() + 1: true,
		d * 3 / 4: true, d - 8: true, d * 8 / 9: true}
	for _, e := range events {
		busy[e.day] = true
	}
	fire := max(d*5/8, s.groupDay()+2)
	for busy[fire+1] || d >= 60 && s.begin.AddDate(0, 0, fire).Weekday() != time.Tuesday {
		fire++
	}
	return fire
}

// fire is the day on which Larkfield burns, the two days at Stonewick, and the way home.
func (s *story) fire() error {
	lost, good, err := s.burns()
	if err != nil {
		return err
	}
	if err := s.takesOver(lost, good); err != nil {
		return err
	}
	if err := s.worksAtStonewick(); err != nil {
		return err
	}
	if err := s.comesBack(lost); err != nil {
		return err
	}
	return s.comesHome()
}

// burns has Larkfield go down, in the middle of work that no snapshot has. It returns a note that was lost, and what
// the disk was before.
func (s *story) burns() (lost string, good [][]byte, err error) {
	y, m, d := s.clock.Now().Date()
	if err := s.advance(time.Date(y, m, d, 14, 5, 0, 0, s.begin.Location())); err != nil {
		return "", nil, err
	}
	if err := s.files.note(s.clock.Now(), 5); err != nil {
		return "", nil, err
	}
	lost = filepath.Join(s.clock.Now().Format("2006"), "transect-5", s.clock.Now().Format("01-02")+".txt")
	disk, err := s.larkfield.Site.Disks.Disk(diskName)
	if err != nil {
		return "", nil, err
	}
	h := s.host
	good = slices.Clone(h.pages)
	for i := range 5 {
		h.pages[i] = h.page(i, s.clock.Now())
	}
	if err := h.write(s.ctx, disk, 0, 5); err != nil {
		return "", nil, err
	}
	h.pages = good
	s.clock.Set(s.clock.Now().Add(15 * time.Minute))
	s.larkfield.Stop()
	s.larkfield = nil
	s.clock.Set(s.clock.Now().Add(10 * time.Minute))
	return lost, good, s.step("The server room at Larkfield burns. Nothing answers there any more.", "", nil)
}

// takesOver has Stonewick take over by its runbook.
func (s *story) takesOver(lost string, good [][]byte) error {
	f := s.stonewick.Site.Failover
	would, err := f.Failover(s.ctx, "field-station", api.FailoverAsk{Unplanned: true, DryRun: true}, "marta")
	out := ""
	if err == nil {
		out = would.Sentence
	}
	if err := s.step("Marta asks what taking over would mean.", out, err); err != nil {
		return err
	}
	done, err := s.begins(s.stonewick, "failover", api.FailoverAsk{Unplanned: true})
	if err == nil {
		done, err = s.goesThrough(func() (*api.Failover, error) { return f.Show(done.ID) })
	}
	if err == nil {
		out = done.Sentence
	}
	if err := s.step("Stonewick takes over by the runbook field-station.", out, err); err != nil {
		return err
	}
	was, err := sum(s.files.path("herbarium-scans"))
	if err != nil {
		return err
	}
	s.files.dir = s.stationDir()
	is, err := sum(s.files.path("herbarium-scans"))
	if err != nil {
		return err
	}
	_, nerr := os.Stat(s.files.path("field-notebooks", lost))
	disk, err := s.stonewick.Site.Disks.Disk(diskName + "@larkfield")
	if err != nil {
		return err
	}
	s.host.pages = good
	return s.check(was == is && os.IsNotExist(nerr) && s.host.is(disk),
		"Stonewick serves what had arrived, and not what had not")
}

// worksAtStonewick is two days of work there.
func (s *story) worksAtStonewick() error {
	y, m, d := s.clock.Now().Date()
	for day := range 2 {
		if err := s.advanceAt(s.stonewick, time.Date(y, m, d+day+1, 9, 0, 0, 0, s.begin.Location())); err != nil {
			return err
		}
		now := s.clock.Now()
		for t := range 3 {
			if err := s.files.note(now, t+1); err != nil {
				return err
			}
		}
		if err := s.files.register(now, 5); err != nil {
			return err
		}
		if err := s.files.sheet(now, 1950, 900+day); err != nil {
			return err
		}
		disk, err := s.stonewick.Site.Disks.Disk(diskName + "@larkfield")
		if err != nil {
			return err
		}
		h := s.host
		for range 20 {
			i := h.rng.IntN(diskPages)
			h.pages[i] = h.page(i, now)
			if err := h.write(s.ctx, disk, i, i+1); err != nil {
				return err
			}
		}
		h.days[now.Format("2006-01-02")] = h.sum()
	}
	if err := s.advanceAt(s.stonewick, s.clock.Now().Add(time.Hour)); err != nil {
		return err
	}
	a, err := s.stonewick.Site.Failover.Authority("field-notebooks@larkfield")
	out := ""
	if err == nil {
		out = a.Sentence
	}
	return s.step("Two days of work happen at Stonewick.", out, err)
}

// comesBack has Larkfield run again: it stands back, and keeps what nobody else has.
func (s *story) comesBack(lost string) (err error) {
	if s.larkfield, err = s.open("larkfield", s.opt.Listen); err != nil {
		return err
	}
	site := s.larkfield.Site
	for _, p := range []string{"stonewick", "mereside"} {
		if _, err := site.Pairing.CheckPeer(s.ctx, p); err != nil {
			return err
		}
	}
	for { // it is certain that nobody writes there once nothing has changed for half a minute
		a, err := site.Failover.Authority("field-notebooks")
		if err != nil {
			return err
		}
		if err := s.check(a.Active == "stonewick", "Larkfield has learnt who is active, and not "+a.Active); err != nil {
			return err
		}
		if a.Back != nil && a.Back.Confirmed != nil {
			break
		}
		s.clock.Set(s.clock.Now().Add(31 * time.Second))
		select {
		case <-time.After(20 * time.Millisecond):
		case <-s.ctx.Done():
			return s.ctx.Err()
		}
	}
	left, err := site.Failover.LeftBehind("")
	if err != nil {
		return err
	}
	i := slices.IndexFunc(left, func(l api.LeftBehind) bool { return l.Volume == "field-notebooks" })
	if err := s.step("Larkfield's machine runs again. It stands back, and keeps what never arrived.",
		fmt.Sprintf("%d snapshots were left behind", len(left)), s.check(i >= 0, "the lost note was kept")); err != nil {
		return err
	}
	to := filepath.Join(s.opt.Data, "restored", "left-behind")
	out, err := s.run(s.larkfield)(site.Recovery.Restore(s.ctx, api.RestoreAsk{Volume: "field-notebooks",
		Paths: []string{lost}, At: left[i].Snapshot, To: to}, "marta"))
	if err := s.step("The note of the afternoon of the fire is taken from there, and put where work goes on.", out,
		err); err != nil {
		return err
	}
	note, err := os.ReadFile(filepath.Join(to, lost))
	if err != nil {
		note, err = os.ReadFile(filepath.Join(to, filepath.Base(lost)))
	}
	if err != nil {
		return err
	}
	return s.files.write(s.clock.Now(), note, "field-notebooks", lost)
}

// comesHome brings all home again.
func (s *story) comesHome() error {
	out, err := s.run(s.stonewick)(s.stonewick.Site.Routes.RunRoute("back-to-larkfield", "the demo"))
	if err := s.step("Stonewick carries the two days home, while it serves.", out, err); err != nil {
		return err
	}
	f := s.larkfield.Site.Failover
	done, err := s.begins(s.larkfield, "failback", api.FailoverAsk{})
	if err == nil {
		done, err = s.goesThrough(func() (*api.Failover, error) { return f.Show(done.ID) })
	}
	if err == nil {
		out = done.Sentence
	}
	if err := s.step("Larkfield takes all of it home.", out, err); err != nil {
		return err
	}
	station, err := sum(s.files.path("field-notebooks"))
	if err != nil {
		return err
	}
	s.files.dir = filepath.Join(s.opt.Data, "shares")
	home, err := sum(s.files.path("field-notebooks"))
	if err != nil {
		return err
	}
	disk, err := s.larkfield.Site.Disks.Disk(diskName)
	if err != nil {
		return err
	}
	left, err := f.LeftBehind("")
	if err != nil {
		return err
	}
	return s.check(station == home && s.host.is(disk) && len(left) > 0,
		"at home all is as it was at Stonewick, and what was left behind is still there")
}
