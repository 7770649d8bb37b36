package limit

import (
	"net/http"
	"sync"
)

// Joined makes a handler whose requests can be waited for, which closing its server does not do.
// wait is called when no request can begin any more.
func Joined(h http.Handler) (joined http.Handler, wait func()) {
	var running sync.WaitGroup
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		running.Add(1)
		defer running.Done()
		h.ServeHTTP(w, r)
	}), running.Wait
}
