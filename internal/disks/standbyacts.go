package disks

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
	"candidharbor/internal/run"
	"candidharbor/internal/volume/disk"
)

// fillCopy gives a copy an image of its own, which follows each arrival from then on.
func (s *Service) fillCopy(v *catalog.Volume, by string) (api.Run, error) {
	b, err := s.begin(v)
	if err == nil {
		err = s.Catalog.SetFilledCopy(v.Lineage, true)
	}
	if err != nil {
		return api.Run{}, err
	}
	return s.once("fill", v.Name, by, func(ctx context.Context, j *run.Job) (string, error) {
		return s.fillOnce(ctx, j, b)
	})
}

// fillOnce fills the image of a copy as it is now.
func (s *Service) fillOnce(ctx context.Context, j *run.Job, b *standby) (string, error) {
	var done atomic.Int64
	j.Begin(func() api.Progress {
		p := api.Progress{DoneBytes: done.Load()}
		if d, _ := b.now(); d != nil {
			p.TotalBytes = p.DoneBytes + d.Unfilled()*int64(d.Block())
		}
		return p
	})
	j.Say("bringing the copy into an image")
	for more := true; more; {
		var err error
		more, err = s.advance(ctx, b, func(n int64) { done.Add(n) })
		switch {
		case ctx.Err() != nil:
			return "", &run.Partly{Leaves: "what was filled stays, and the image still follows each arrival; to end that: " +
				"candid disk fill " + b.v.Name + " --end"}
		case refusal.ClassOf(err) == refusal.Full:
			return "", refusal.Wrap(refusal.Full, fmt.Errorf("the image of %s is filled up to %s: %w. Make room, and it goes "+
				"on by itself; or end it: candid disk fill %s --end", b.v.Name, phrase.Size(done.Load()), err, b.v.Name))
		case err != nil:
			return "", err
		}
	}
	_, is := b.now()
	switch {
	case b.over():
		return "", refusal.Conflictf("that %s has an image was ended meanwhile", b.v.Name)
	case is == nil:
		return fmt.Sprintf("nothing of %s has arrived yet: its image is made when something does, and follows each arrival",
			b.v.Name), nil
	}
	return fmt.Sprintf("the image of %s holds all of it as of %s, and follows each arrival", b.v.Name,
		phrase.Stamp(is.Began.Time)), nil
}

// tell adds to what is said of a copy.
func (b *standby) tell(out *api.Disk) {
	b.mu.Lock()
	defer b.mu.Unlock()
	out.Image = b.v.Path
	if b.d != nil && b.is != nil {
		at := b.is.Began.Time
		out.FilledAsOf = &at
		out.UnfilledBytes = min(b.d.Unfilled()*int64(b.d.Block()), b.d.Size())
	}
	switch {
	case b.why != nil:
		out.Sentence += fmt.Sprintf(" Its image does not get on: %s. When that is mended it does by itself; or at once: "+
			"candid disk fill %s.", b.why, out.Name)
	case b.is == nil:
		out.Sentence += " Its image is about to be made."
	case out.UnfilledBytes > 0:
		out.Sentence += fmt.Sprintf(" Its image is being filled as of %s; up to %s come from the store until then.",
			phrase.Stamp(b.is.Began.Time), phrase.Size(out.UnfilledBytes))
	default:
		out.Sentence += fmt.Sprintf(" Its image is filled as of %s, and follows each arrival once nobody reads from it.",
			phrase.Stamp(b.is.Began.Time))
	}
}

// standbySentences tell of images of copies that do not get on.
func (s *Service) standbySentences(add func(api.Sentence)) {
	for _, b := range s.standbys() {
		b.mu.Lock()
		why, name, ended := b.why, b.v.Name, b.ended
		b.mu.Unlock()
		if why == nil || ended {
			continue
		}
		add(api.Sentence{Text: fmt.Sprintf("The image of %s does not follow what arrives: %s.", name, why), Weight: "act",
			About: "disk " + name, Next: "Try again", Command: "candid disk fill " + name, Link: "/volumes/" + name})
	}
}

// EndFilling has a copy be without an image again. Who reads from that goes on until leaving.
func (s *Service) EndFilling(ctx context.Context, name string) error {
	v, err := s.Catalog.Volume(name)
	if err != nil {
		return err
	}
	b := s.standby(v.Lineage)
	if b == nil || !s.isCopy(v) {
		return refusal.Conflictf("%s is no copy with an image of its own: candid disk show %s tells of it", name, name)
	}
	select {
	case b.turn <- struct{}{}:
	case <-ctx.Done():
		return ctx.Err()
	}
	defer func() { <-b.turn }()
	return s.endStandby(b)
}

// endStandby is EndFilling for who has the turn. Once the last reader has left, the image goes.
func (s *Service) endStandby(b *standby) error {
	if d, _ := b.now(); d != nil { // it may be read from for long, and the service end meanwhile
		if err := s.say(b.v.Lineage, about{Name: b.v.Name, Image: b.v.Path, Standby: true, Ended: true}); err != nil {
			return err
		}
	}
	if err := s.Catalog.SetFilledCopy(b.v.Lineage, false); err != nil {
		return err
	}
	b.mu.Lock()
	was := b.ended
	b.ended = true
	last := b.readers == 0 && !was
	b.mu.Unlock()
	s.run.Changed("volumes", b.v.Name)
	if !last {
		return nil
	}
	return s.removeStandby(b)
}

func (s *Service) removeStandby(b *standby) error {
	err := errors.Join(b.close(), s.destroy(b.v))
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.follow, b.v.Lineage)
	return err
}

// readStandby has a client read a snapshot from the image of its copy; nil: that is not it.
func (s *Service) readStandby(row *catalog.Snapshot) frozen {
	b := s.standby(row.Lineage)
	if b == nil {
		return nil
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.d == nil || b.is == nil || b.moving || b.ended || b.is.ID != row.ID {
		return nil
	}
	b.readers++
	return &standbyReader{Disk: b.d, s: s, b: b}
}

// standbyReader is a client that reads from the image of a copy.
type standbyReader struct {
	*disk.Disk
	s    *Service
	b    *standby
	once sync.Once
}

// Close lets the copy get on.
func (r *standbyReader) Close() {
	r.once.Do(func() {
		r.b.mu.Lock()
		r.b.readers--
		last := r.b.ended && r.b.readers == 0
		r.b.mu.Unlock()
		if !last {
			return
		}
		if err := r.s.removeStandby(r.b); err != nil {
			r.s.Log.Warn("the image of a copy could not be removed; the next start does", "volume", r.b.v.Name, "error", err)
		}
	})
}
