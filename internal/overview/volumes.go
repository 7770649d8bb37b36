package overview

import (
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

func (s *Service) views(rows []*catalog.Volume) ([]api.Volume, error) {
	look, err := s.lookAt(rows, s.Clock.Now())
	if err != nil {
		return nil, err
	}
	out := make([]api.Volume, 0, len(rows))
	for _, v := range rows {
		view, err := s.volumeView(v, look)
		if err != nil {
			return nil, err
		}
		out = append(out, *view)
	}
	return out, nil
}
