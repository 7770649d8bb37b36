package pairing

import (
	"errors"
	"net"
	"time"
)

// What other sites may have open to here: strangers lines, in all and from one address, for as
// long as pairing takes; a paired site lines, of which the old one may take its time to end
// after a cut.
const (
	mostStrangers     = 64
	mostStrangersFrom = 8
	strangerStays     = 30 * time.Second
	mostLines         = 8
)

var errTooManyStrangers = errors.New("too many lines of sites that are not known are open")

// stranger takes a place for a line of one who is not known yet.
func (s *Service) stranger(addr net.Addr) (leave func(), ok bool) {
	host, _, err := net.SplitHostPort(addr.String())
	if err != nil { // within the site
		return func() {}, true
	}
	return s.strangers.Enter(host)
}
