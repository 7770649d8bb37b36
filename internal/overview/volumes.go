package overview

import (
	"runtime"

	"golang.org/x/sync/errgroup"

	"candidharbor/api"
	"candidharbor/internal/catalog"
)

// Volume returns one volume with its state.
func (s *Service) Volume(name string) (*api.Volume, error) {
	v, err := s.Catalog.Volume(name)
	if err != nil {
		return nil, err
	}
	look, err := s.Catalog.Look(s.Place(), s.Clock.Now(), v)
	if err != nil {
		return nil, err
	}
	out, err := s.volumeView(v, look)
	if err != nil {
		return nil, err
	}
	out.Doubt, err = s.capture.DoubtOf(v)
	return out, err
}

// Volumes lists all volumes with their states.
func (s *Service) Volumes() ([]api.Volume, error) {
	rows, err := s.Catalog.Volumes()
	if err != nil {
		return nil, err
	}
	return s.views(rows)
}

// minPart is how many volumes are worth a goroutine of their own.
const minPart = 256

func (s *Service) views(rows []*catalog.Volume) ([]api.Volume, error) {
	look, err := s.lookAt(rows, s.Clock.Now())
	if err != nil {
		return nil, err
	}
	out := make([]api.Volume, len(rows))
	var g errgroup.Group
	part := max(minPart, (len(rows)+runtime.GOMAXPROCS(0)-1)/runtime.GOMAXPROCS(0))
	for from := 0; from < len(rows); from += part {
		g.Go(func() error {
			for i := from; i < min(from+part, len(rows)); i++ {
				view, err := s.volumeView(rows[i], look)
				if err != nil {
					return err
				}
				out[i] = *view
			}
			return nil
		})
	}
	return out, g.Wait()
}
