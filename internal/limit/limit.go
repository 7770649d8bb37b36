// Package limit counts what callers hold, so that nobody takes all there is from others.
package limit

import "sync"

// Places are how many of something there may be at once: in all, and for each key. Zero is no
// bound.
type Places struct {
	All, Each int

	mu sync.Mutex
	n  int
	of map[string]int
}

// Enter takes a place for a key when there is one. leave gives it back; it may be called more
// than once.
func (p *Places) Enter(key string) (leave func(), ok bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.All > 0 && p.n >= p.All || p.Each > 0 && p.of[key] >= p.Each {
		return nil, false
	}
	if p.of == nil {
		p.of = map[string]int{}
	}
	p.n++
	p.of[key]++
	return sync.OnceFunc(func() {
		p.mu.Lock()
		defer p.mu.Unlock()
		p.n--
		if p.of[key]--; p.of[key] == 0 {
			delete(p.of, key)
		}
	}), true
}
