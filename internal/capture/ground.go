package capture

import (
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"time"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
	"candidharbor/internal/volume/tree"
)

// Settings of a volume, by lineage: where it stood at its last snapshot, why nothing is taken
// of it at present, and that a person said that what it is now is meant.
const (
	groundSetting = "ground "
	doubtSetting  = "doubt "
	meantSetting  = "meant "
)

// The reasons for which a volume is not taken to be itself.
const (
	doubtGround = "other-filesystem"
	doubtEmpty  = "nearly-empty"
)

// doubt is why nothing is taken of a volume until a person says that it is meant.
type doubt struct {
	Code  string    `json:"code"`
	Since time.Time `json:"since"`
	Was   int64     `json:"was,omitempty"` // files
	Is    int64     `json:"is,omitempty"`
}

func (d *doubt) sentence(path string) string {
	switch d.Code {
	case doubtGround:
		return fmt.Sprintf("%s is on another filesystem than at its last snapshot, or its directory is another one: "+
			"perhaps a disk is not mounted", path)
	default:
		return fmt.Sprintf("%s has %s, and %d at its last snapshot: nearly everything vanished", path,
			phrase.Many(int(d.Is), "file"), d.Was)
	}
}

// leastToVanish is how many files a volume has at least before it counts as nearly emptied,
// and vanishedShare how many of them are gone then.
const (
	leastToVanish = 10
	vanishedShare = 20
)

// standing returns the ground that a volume must be on; empty when any will do.
func (s *Service) standing(v *catalog.Volume) (ground string, meant bool, err error) {
	m, err := s.Catalog.Setting(meantSetting + v.Lineage)
	if err != nil || m != "" {
		return "", true, err
	}
	ground, err = s.Catalog.Setting(groundSetting + v.Lineage)
	return ground, false, err
}

// doubted fails when a reading does not look like the volume, and notes why.
func (s *Service) doubted(r *reading, meant bool, scanErr error) error {
	d := doubt{Since: s.Clock.Now()}
	var other *tree.OtherGround
	switch {
	case errors.As(scanErr, &other):
		d.Code = doubtGround
	case scanErr != nil:
		return scanErr
	case !meant && r.last != nil && r.last.Files >= leastToVanish && r.res.Files*vanishedShare < r.last.Files:
		d.Code, d.Was, d.Is = doubtEmpty, r.last.Files, r.res.Files
	default:
		return nil
	}
	old, err := s.Catalog.Setting(doubtSetting + r.v.Lineage)
	if err != nil {
		return err
	}
	if was := (doubt{}); old == "" || json.Unmarshal([]byte(old), &was) != nil || was.Code != d.Code {
		text, err := json.Marshal(d)
		if err != nil {
			return err
		}
		if err := s.Catalog.Set(doubtSetting+r.v.Lineage, string(text)); err != nil {
			return err
		}
		s.run.Tell("volumes")
	}
	return refusal.Conflictf("nothing was taken of %s: %s. What is kept of it stays. If this is meant: candid "+
		"volume confirm %s", r.v.Name, d.sentence(r.v.Path), r.v.Name)
}

// believed notes where a volume stood when it was taken, and ends doubts.
func (s *Service) believed(r *reading) error {
	for key, want := range map[string]string{groundSetting: r.res.Ground, doubtSetting: "", meantSetting: ""} {
		if is, err := s.Catalog.Setting(key + r.v.Lineage); err != nil || is == want {
			if err != nil {
				return err
			}
			continue
		}
		if err := s.Catalog.Set(key+r.v.Lineage, want); err != nil {
			return err
		}
	}
	return nil
}

// ConfirmVolume says that a volume is meant to be as it is now: on another filesystem, or with
// nearly nothing left. It holds for its next snapshot.
func (s *Service) ConfirmVolume(name string) (string, error) {
	v, err := s.Catalog.Volume(name)
	if err != nil {
		return "", err
	}
	raw, err := s.Catalog.Setting(doubtSetting + v.Lineage)
	if err != nil {
		return "", err
	}
	if raw == "" {
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
	return c.SetAll(map[string]string{meantSetting + v.Lineage: strconv.FormatInt(s.Clock.Now().Unix(), 10),
		doubtSetting + v.Lineage: ""})
}

// DoubtOf says why nothing is taken of a volume; empty when nothing is in doubt.
func (s *Service) DoubtOf(v *catalog.Volume) (string, error) {
	raw, err := s.Catalog.Setting(doubtSetting + v.Lineage)
	var d doubt
	if err != nil || raw == "" || !v.Protected || json.Unmarshal([]byte(raw), &d) != nil {
		return "", err
	}
	return d.sentence(v.Path), nil
}

// Doubts are the sentences about volumes of which nothing is taken; it returns which.
func (s *Service) Doubts(vols []api.Volume, add func(api.Sentence)) (in map[string]bool, err error) {
	all, err := s.Catalog.Settings(doubtSetting)
	if err != nil || len(all) == 0 {
		return nil, err
	}
	in = map[string]bool{}
	for _, v := range vols {
		row, err := s.Catalog.Volume(v.Name)
		if errors.Is(err, catalog.ErrNone) {
			continue
		}
		if err != nil {
			return in, err
		}
		in[v.Name] = true
		var d doubt
		if raw := all[doubtSetting+row.Lineage]; raw == "" || json.Unmarshal([]byte(raw), &d) != nil || !row.Protected {
			delete(in, v.Name)
			continue
		}
		add(api.Sentence{Text: fmt.Sprintf("Nothing is taken of %s since %s: %s. What is kept of it stays.", v.Name,
			phrase.Stamp(d.Since), d.sentence(row.Path)),
			Weight: "act", About: "identity of volume " + v.Name, Next: "Mount it; or, if this is meant, say so",
			Command: "candid volume confirm " + v.Name, Link: "/volumes/" + v.Name})
	}
	return in, nil
}
