package site

import (
	"time"

	"candidharbor/api"
	"candidharbor/core/cadence"
	"candidharbor/core/pace"
	"candidharbor/internal/catalog"
	"candidharbor/internal/transfer"
)

// paced is the pace towards one peer.
type paced struct {
	pacer *transfer.Pacer
	lines *pace.Calendar
}

func paceCalendar(p catalog.Pace) (*pace.Calendar, error) {
	zone := time.UTC
	if p.Zone != "" {
		var err error
		if zone, err = cadence.LoadZone(p.Zone); err != nil {
			return nil, bad("%w", err)
		}
	}
	c, err := pace.Parse(p.Lines, zone)
	if err != nil {
		return nil, &Error{Misuse, err}
	}
	return c, nil
}

// paceTo returns the pace towards a peer, which all that is sent there shares.
func (s *Site) paceTo(p *catalog.Peer) (*paced, error) {
	s.linesMu.Lock()
	defer s.linesMu.Unlock()
	if have := s.paces[p.Name]; have != nil {
		return have, nil
	}
	lines, err := paceCalendar(p.Pace.V)
	if err != nil {
		return nil, err
	}
	have := &paced{lines: lines, pacer: &transfer.Pacer{}}
	have.pacer.Rate = func() (int64, time.Time) {
		s.linesMu.Lock()
		lines := have.lines
		s.linesMu.Unlock()
		now := s.clock.Now()
		rate := lines.At(now)
		if rate != 0 {
			return rate, time.Time{}
		}
		until, ok := lines.Next(now)
		if !ok {
			until = now.Add(7 * 24 * time.Hour)
		}
		return 0, until
	}
	s.paces[p.Name] = have
	return have, nil
}

// flow is one user of the pace towards a peer.
func (s *Site) flow(p *catalog.Peer, terms catalog.Terms) (transfer.Limit, error) {
	have, err := s.paceTo(p)
	if err != nil {
		return nil, err
	}
	weight := terms.Priority
	if weight == 0 {
		weight = 5
	}
	return &transfer.Flow{Pacer: have.pacer, Weight: float64(weight), Cap: terms.Cap}, nil
}

func (s *Site) paceView(p *catalog.Peer) api.Pace {
	out := api.Pace{Lines: []string{}, Zone: p.Pace.V.Zone, NowBytes: pace.Unlimited, Now: pace.RateWords(pace.Unlimited)}
	have, err := s.paceTo(p)
	if err != nil {
		return out
	}
	s.linesMu.Lock()
	lines := have.lines
	s.linesMu.Unlock()
	now := s.clock.Now()
	out.Lines, out.SentBytes, out.NowBytes = lines.Lines(), have.pacer.Sent.Load(), lines.At(now)
	out.Now = pace.RateWords(out.NowBytes)
	if next, ok := lines.Next(now); ok {
		out.Next = &next
	}
	return out
}

// SetPace replaces the weekly calendar of limits towards a peer. It holds at once, also
// for what is on its way.
func (s *Site) SetPace(name string, ask api.PaceSet) (*api.Peer, error) {
	p, err := s.cat.Peer(name)
	if err != nil {
		return nil, err
	}
	p.Pace.V = catalog.Pace{Lines: ask.Lines, Zone: ask.Zone}
	lines, err := paceCalendar(p.Pace.V)
	if err != nil {
		return nil, err
	}
	if err := s.cat.SetPace(name, p.Pace.V); err != nil {
		return nil, err
	}
	have, err := s.paceTo(p)
	if err != nil {
		return nil, err
	}
	s.linesMu.Lock()
	have.lines = lines
	s.linesMu.Unlock()
	if err := s.onPace(name); err != nil {
		return nil, err
	}
	s.tell("sites")
	view := s.peerView(p)
	return &view, nil
}

// PaceWeek returns the limit towards a peer at each hour of a week.
func (s *Site) PaceWeek(name string) (*api.PaceWeek, error) {
	p, err := s.cat.Peer(name)
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
