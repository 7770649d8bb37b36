package pairing

import (
	"time"

	"candidharbor/api"
	"candidharbor/core/cadence"
	"candidharbor/core/pace"
	"candidharbor/internal/catalog"
	"candidharbor/internal/refusal"
	"candidharbor/internal/transfer"
)

// Paced is the pace towards one peer.
type Paced struct {
	pacer *transfer.Pacer
	Lines *pace.Calendar
}

func paceCalendar(p catalog.Pace) (*pace.Calendar, error) {
	zone := time.UTC
	if p.Zone != "" {
		var err error
		if zone, err = cadence.LoadZone(p.Zone); err != nil {
			return nil, refusal.Badf("%w", err)
		}
	}
	c, err := pace.Parse(p.Lines, zone)
	if err != nil {
		return nil, refusal.Wrap(refusal.Misuse, err)
	}
	return c, nil
}

// PaceTo returns the pace towards a peer, which all that is sent there shares.
func (s *Service) PaceTo(p *catalog.Peer) (*Paced, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if have := s.paces[p.Name]; have != nil {
		return have, nil
	}
	lines, err := paceCalendar(p.Pace.V)
	if err != nil {
		return nil, err
	}
	have := &Paced{Lines: lines, pacer: &transfer.Pacer{}}
	have.pacer.Rate = func() (int64, time.Time) {
		s.mu.Lock()
		lines := have.Lines
		s.mu.Unlock()
		return limitAt(lines, s.Clock.Now())
	}
	s.paces[p.Name] = have
	return have, nil
}

// Flow is one user of the pace towards a peer.
func (s *Service) Flow(p *catalog.Peer, terms catalog.Terms) (transfer.Limit, error) {
	have, err := s.PaceTo(p)
	if err != nil {
		return nil, err
	}
	weight := terms.Priority
	if weight == 0 {
		weight = 5
	}
	own, err := OwnPace(terms)
	if err != nil {
		return nil, err
	}
	flow := &transfer.Flow{Pacer: have.pacer, Weight: float64(weight)}
	if own != nil {
		flow.Own = func() (int64, time.Time) { return limitAt(own, s.Clock.Now()) }
	}
	return flow, nil
}

// OwnPace is the limit that a route has beside that of its site; nil: none.
func OwnPace(terms catalog.Terms) (*pace.Calendar, error) {
	lines := terms.Pace
	if terms.Cap > 0 {
		lines = []string{pace.RateWords(terms.Cap)}
	}
	if len(lines) == 0 {
		return nil, nil
	}
	return paceCalendar(catalog.Pace{Lines: lines, Zone: terms.Zone})
}

// limitAt is the limit that holds, and until when nothing may be sent.
func limitAt(c *pace.Calendar, now time.Time) (rate int64, until time.Time) {
	if rate = c.At(now); rate != 0 {
		return rate, time.Time{}
	}
	until, ok := c.Next(now)
	if !ok {
		until = now.Add(7 * 24 * time.Hour)
	}
	return 0, until
}

func (s *Service) paceView(p *catalog.Peer) api.Pace {
	out := api.Pace{Lines: []string{}, Zone: p.Pace.V.Zone, NowBytes: pace.Unlimited, Now: pace.RateWords(pace.Unlimited)}
	have, err := s.PaceTo(p)
	if err != nil {
		return out
	}
	s.mu.Lock()
	lines := have.Lines
	s.mu.Unlock()
	now := s.Clock.Now()
	out.Lines, out.SentBytes, out.NowBytes = lines.Lines(), have.pacer.Sent.Load(), lines.At(now)
	out.Now = pace.RateWords(out.NowBytes)
	if next, ok := lines.Next(now); ok {
		out.Next = &next
	}
	return out
}

// SetPace replaces the weekly calendar of limits towards a peer. It holds at once, also
// for what is on its way.
func (s *Service) SetPace(name string, ask api.PaceSet) (*api.Peer, error) {
	p, err := s.Catalog.Peer(name)
	if err != nil {
		return nil, err
	}
	p.Pace.V = catalog.Pace{Lines: ask.Lines, Zone: ask.Zone}
	lines, err := paceCalendar(p.Pace.V)
	if err != nil {
		return nil, err
	}
	if err := s.Catalog.SetPace(name, p.Pace.V); err != nil {
		return nil, err
	}
	have, err := s.PaceTo(p)
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	have.Lines = lines
	s.mu.Unlock()
	if err := s.onPace(name); err != nil {
		return nil, err
	}
	s.run.Tell("sites")
	view := s.peerView(p)
	return &view, nil
}

// PaceWeek returns the limit towards a peer at each hour of a week.
func (s *Service) PaceWeek(name string) (*api.PaceWeek, error) {
	p, err := s.Catalog.Peer(name)
	if err != nil {
		return nil, err
	}
	lines, err := paceCalendar(p.Pace.V)
	if err != nil {
		return nil, err
	}
	zone := time.UTC
	if p.Pace.V.Zone != "" {
		if zone, err = cadence.LoadZone(p.Pace.V.Zone); err != nil {
			return nil, err
		}
	}
	out := &api.PaceWeek{Hours: make([]int64, 7*24)}
	for i := range out.Hours { // a week without a change of clocks
		out.Hours[i] = lines.At(time.Date(2026, 1, 5+i/24, i%24, 0, 0, 0, zone))
	}
	return out, nil
}
