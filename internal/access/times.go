package access

import (
	"errors"

	"candidharbor/api"
	"candidharbor/core/cadence"
	"candidharbor/internal/catalog"
	"candidharbor/internal/moment"
	"candidharbor/internal/refusal"
)

func (c *Caller) timesKey() string {
	if c.Person != "" {
		return "person " + c.Person
	}
	return "caller " + c.Name
}

// Times is how times are shown to a caller.
func (s *Service) Times(c *Caller) (api.Times, error) {
	zone, dates, err := s.Catalog.Times(c.timesKey())
	if errors.Is(err, catalog.ErrNone) {
		return api.Times{Dates: string(moment.YearFirst)}, nil
	}
	return api.Times{Zone: zone, Dates: dates}, err
}

// SetTimes chooses how times are shown to a caller.
func (s *Service) SetTimes(c *Caller, t api.Times) error {
	if _, err := cadence.LoadZone(t.Zone); err != nil && t.Zone != "" {
		return refusal.Badf("%q is no time zone: name one such as Europe/Lisbon, or none for that of the machine that "+
			"shows the times", t.Zone)
	}
	return s.Catalog.SetTimes(c.timesKey(), t.Zone, t.Dates)
}
