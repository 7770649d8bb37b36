package clones

import (
	"errors"
	"path/filepath"
	"strconv"

	"candidharbor/api"
	"candidharbor/internal/refusal"
)

const mostAtOnce = 50

// MakeClones makes several clones of one snapshot: NAME-1, NAME-2 and so on, of files at DIR-1, DIR-2 and so on. When
// one cannot be made none stays.
func (s *Service) MakeClones(ask api.ClonesAsk, by string) (made []api.Clone, err error) {
	if ask.Count < 1 || ask.Count > mostAtOnce {
		return nil, refusal.Badf("%d clones at once: give 1 to %d", ask.Count, mostAtOnce)
	}
	defer func() {
		if err == nil {
			return
		}
		for _, c := range made {
			if _, derr := s.DiscardClone(c.Name, false); derr != nil {
				err = errors.Join(err, derr)
			}
		}
		made = nil
	}()
	one := ask.CloneAsk
	for i := 1; i <= ask.Count; i++ {
		one.Name = ask.Name + "-" + strconv.Itoa(i)
		if ask.Dir != "" {
			one.Dir = filepath.Clean(ask.Dir) + "-" + strconv.Itoa(i)
		}
		c, err := s.MakeClone(one, by)
		if err != nil {
			return made, err
		}
		made, one.At = append(made, *c), c.Snapshot // all of them are of one moment
	}
	return made, nil
}
