package nbd

import (
	"fmt"
	"net"
	"net/url"
	"strings"
)

// Address says where an export is, as the protocol's document on addresses (doc/uri.md) has it.
type Address struct {
	Network string // unix or tcp
	At      string // the path of a socket, or host and port
	Export  string
}

// defaultPort is the port that the protocol has.
const defaultPort = "10809"

// IsAddress reports whether a text is meant as one.
func IsAddress(text string) bool {
	scheme, _, is := strings.Cut(text, ":")
	scheme, _, _ = strings.Cut(strings.ToLower(scheme), "+")
	return is && (scheme == "nbd" || scheme == "nbds")
}

// ParseAddress reads nbd://HOST[:PORT]/EXPORT and nbd+unix:///EXPORT?socket=PATH.
func ParseAddress(text string) (Address, error) {
	u, err := url.Parse(text)
	if err != nil {
		return Address{}, fmt.Errorf("the address cannot be read: %w", err)
	}
	a := Address{Export: strings.TrimPrefix(u.Path, "/")}
	query, err := url.ParseQuery(u.RawQuery)
	if err != nil {
		return Address{}, fmt.Errorf("the address cannot be read: %w", err)
	}
	socket := query.Get("socket")
	for key, values := range query {
		if key != "socket" || len(values) > 1 {
			return Address{}, fmt.Errorf("the address has %s=%s, which means nothing here", key, values[0])
		}
	}
	switch {
	case u.User != nil || u.Fragment != "" || u.Opaque != "":
		return Address{}, fmt.Errorf("the address has more than host, port, export and socket")
	case checkName(a.Export) != nil:
		return Address{}, fmt.Errorf("the name of the export is no text of at most %d bytes", maxName)
	case u.Scheme == "nbd+unix":
		if u.Host != "" || socket == "" {
			return Address{}, fmt.Errorf("the address of a socket is nbd+unix:///EXPORT?socket=PATH")
		}
		a.Network, a.At = "unix", socket
	case u.Scheme == "nbd":
		if u.Hostname() == "" || socket != "" {
			return Address{}, fmt.Errorf("the address of a host is nbd://HOST[:PORT]/EXPORT")
		}
		port := u.Port()
		if port == "" {
			port = defaultPort
		}
		a.Network, a.At = "tcp", net.JoinHostPort(u.Hostname(), port)
	default:
		return Address{}, fmt.Errorf("%s is not spoken here, nbd and nbd+unix are", u.Scheme)
	}
	return a, nil
}
