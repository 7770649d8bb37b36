package capture

import (
	"errors"
	"fmt"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
	"candidharbor/internal/volume/tree"
)

// The reasons for which a volume is not taken to be itself.
const (
	doubtGround = "other-filesystem"
	doubtEmpty  = "nearly-empty"
)

// doubtSentence says why nothing is taken of a volume until a person says that it is meant.
func doubtSentence(h *catalog.History, path string) string {
	if h.Doubt == doubtGround {
		return fmt.Sprintf("%s is on another filesystem than at its last snapshot, or its directory is another one: "+
			"perhaps a disk is not mounted", path)
	}
	return fmt.Sprintf("%s has %s, and %d at its last snapshot: nearly everything vanished", path,
		phrase.Many(int(h.FilesNow), "file"), h.FilesBefore)
}

// leastToVanish is how many files a volume has at least before it counts as nearly emptied,
// and vanishedShare how many of them are gone then.
const (
	leastToVanish = 10
	vanishedShare = 20
)

// standing returns the ground that a volume must be on; empty when any will do.
func (s *Service) standing(v *catalog.Volume) (ground string, meant bool, err error) {
	h, err := s.Catalog.History(v.Lineage)
	if err != nil || !h.Meant.IsZero() {
		return "", true, err
	}
	return h.Ground, false, nil
}

// doubted fails when a reading does not look like the volume, and notes why.
func (s *Service) doubted(r *reading, meant bool, scanErr error) error {
	d := catalog.History{Lineage: r.v.Lineage, DoubtSince: catalog.At(s.Clock.Now())}
	var other *tree.OtherGround
	switch {
	case errors.As(scanErr, &other):
		d.Doubt = doubtGround
	case scanErr != nil:
		return scanErr
	case !meant && r.last != nil && r.last.Files >= leastToVanish && r.res.Files*vanishedShare < r.last.Files:
		d.Doubt, d.FilesBefore, d.FilesNow = doubtEmpty, r.last.Files, r.res.Files
	default:
		return nil
	}
	old, err := s.Catalog.History(r.v.Lineage)
	if err != nil {
		return err
	}
	if old.Doubt != d.Doubt {
		if err := s.Catalog.PutDoubt(&d); err != nil {
			return err
		}
		s.run.Tell("volumes")
	}
	return refusal.Conflictf("nothing was taken of %s: %s. What is kept of it stays. If this is meant: candid "+
		"volume confirm %s", r.v.Name, doubtSentence(&d, r.v.Path), r.v.Name)
}

// believed notes where a volume stood when it was taken, and ends doubts.
func (s *Service) believed(r *reading) error {
	h, err := s.Catalog.History(r.v.Lineage)
	if err != nil || h.Ground == r.res.Ground && h.Doubt == "" && h.Meant.IsZero() {
		return err
	}
	return s.Catalog.SetGround(r.v.Lineage, r.res.Ground)
}

// ConfirmVolume says that a volume is meant to be as it is now: on another filesystem, or with
// nearly nothing left. It holds for its next snapshot.
func (s *Service) ConfirmVolume(name string) (string, error) {
	v, err := s.Catalog.Volume(name)
	if err != nil {
		return "", err
	}
	h, err := s.Catalog.History(v.Lineage)
	if err != nil {
		return "", err
	}
	if h.Doubt == "" {
		return "", refusal.Conflictf("nothing about %s is in doubt", name)
	}
	if err := s.Meant(v); err != nil {
		return "", err
	}
	s.run.Changed("volumes", name)
	return fmt.Sprintf("%s is taken as it is now from its next snapshot on: candid snapshot take %s", name, name), nil
}

// Meant has the next snapshot of a volume taken whatever is there.
func (s *Service) Meant(v *catalog.Volume) error { return s.meant(s.Catalog, v) }

func (s *Service) meant(c *catalog.Catalog, v *catalog.Volume) error {
	return c.SetMeant(v.Lineage, catalog.At(s.Clock.Now()))
}

// DoubtOf says why nothing is taken of a volume; empty when nothing is in doubt.
func (s *Service) DoubtOf(v *catalog.Volume) (string, error) {
	h, err := s.Catalog.History(v.Lineage)
	if err != nil || h.Doubt == "" || !v.Protected {
		return "", err
	}
	return doubtSentence(&h, v.Path), nil
}

// Doubts are the sentences about volumes of which nothing is taken; it returns which.
func (s *Service) Doubts(vols []*catalog.Volume, add func(api.Sentence)) (in map[string]bool, err error) {
	all, err := s.Catalog.DoubtfulHistories()
	if err != nil || len(all) == 0 {
		return nil, err
	}
	in = map[string]bool{}
	for _, v := range vols {
		d, doubtful := all[v.Lineage]
		if !doubtful || !v.Protected {
			continue
		}
		in[v.Name] = true
		add(api.Sentence{Text: fmt.Sprintf("Nothing is taken of %s since %s: %s. What is kept of it stays.", v.Name,
			phrase.Stamp(d.DoubtSince.Time), doubtSentence(&d, v.Path)),
			Weight: "act", About: "identity of volume " + v.Name, Next: "Mount it; or, if this is meant, say so",
			Command: "candid volume confirm " + v.Name, Link: "/volumes/" + v.Name})
	}
	return in, nil
}
