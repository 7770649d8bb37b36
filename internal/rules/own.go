package rules

import (
	"context"
	"encoding/binary"
	"sync"
	"time"

	"golang.org/x/sync/singleflight"
)

// ownFresh is how long what was computed counts while no snapshot comes or goes; packing anew changes little.
const ownFresh = 10 * time.Minute

// ownBytes keeps what each snapshot alone needs, for a list in that order is read page by page.
type ownBytes struct {
	once   singleflight.Group
	mu     sync.Mutex
	at     time.Time
	of     uint64 // which snapshots there were
	figure map[string]int64
}

// OwnBytes returns, for each snapshot here, the stored bytes that come back if it alone goes.
func (s *Service) OwnBytes(ctx context.Context) (map[string]int64, error) {
	var of uint64 // a sum, whatever their order
	for _, id := range s.Store.Roots() {
		of += binary.BigEndian.Uint64(id[:8])
	}
	now := s.Clock.Now()
	s.own.mu.Lock()
	figure, age := s.own.figure, now.Sub(s.own.at)
	if s.own.of != of || age > ownFresh || age < 0 {
		figure = nil
	}
	s.own.mu.Unlock()
	if figure != nil {
		return figure, nil
	}
	done := s.own.once.DoChan("", func() (any, error) {
		own, err := s.Store.Own()
		if err != nil {
			return nil, err
		}
		figure := make(map[string]int64, len(own))
		for id, n := range own {
			figure[id.String()] = n
		}
		s.own.mu.Lock()
		defer s.own.mu.Unlock()
		s.own.at, s.own.of, s.own.figure = now, of, figure
		return figure, nil
	})
	select {
	case r := <-done:
		if r.Err != nil {
			return nil, r.Err
		}
		return r.Val.(map[string]int64), nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}
