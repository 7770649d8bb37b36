package site

import (
	"errors"
	"net"
	"sync"
	"time"
)

// strangers counts the lines of those who are not known yet: of all, and of each address.
type strangers struct {
	mu   sync.Mutex
	all  int
	from map[string]int
}

// peerLines counts the lines that each paired site has opened to here.
type peerLines struct {
	mu sync.Mutex
	of map[string]int
}

// mostLines is how many a site may have open: after a cut the old one may take its time to end.
const mostLines = 8

func (s *peerLines) enter(peer string) (leave func(), ok bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.of[peer] >= mostLines {
		return nil, false
	}
	if s.of == nil {
		s.of = map[string]int{}
	}
	s.of[peer]++
	return sync.OnceFunc(func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.of[peer]--; s.of[peer] == 0 {
			delete(s.of, peer)
		}
	}), true
}

const (
	mostStrangers     = 64
	mostStrangersFrom = 8
	strangerStays     = 30 * time.Second
)

var errTooManyStrangers = errors.New("too many lines of sites that are not known are open")

// enter lets a line in while there are few. leave may be called more than once.
func (s *strangers) enter(addr net.Addr) (leave func(), ok bool) {
	host, _, err := net.SplitHostPort(addr.String())
	if err != nil { // within the site
		return func() {}, true
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.all >= mostStrangers || s.from[host] >= mostStrangersFrom {
		return nil, false
	}
	if s.from == nil {
		s.from = map[string]int{}
	}
	s.all++
	s.from[host]++
	return sync.OnceFunc(func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.all--
		if s.from[host]--; s.from[host] == 0 {
			delete(s.from, host)
		}
	}), true
}
