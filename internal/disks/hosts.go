package disks

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"os"
	"slices"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/nbd"
	"candidharbor/internal/policy"
	"candidharbor/internal/refusal"
)

// errStranger ends the connection of who shows no certificate of a host that is let in.
var errStranger = errors.New("the certificate is of no host that is let in")

// ServeHosts serves the hosts that connect to a listener, until the context ends. Nothing is said to who
// shows no certificate.
func (s *Service) ServeHosts(ctx context.Context, l net.Listener) error {
	a, err := s.authority()
	if err != nil {
		return err
	}
	config := s.config(a)
	return s.accept(ctx, l, func(ctx context.Context, conn net.Conn) { s.serveHost(ctx, conn, config) })
}

func (s *Service) serveHost(ctx context.Context, conn net.Conn, config *tls.Config) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	addr, _, _ := net.SplitHostPort(conn.RemoteAddr().String())
	var by *client
	err := nbd.Serve(ctx, conn, nbd.Options{TLS: config, OnlyTLS: true,
		Exports: func(state *tls.ConnectionState) (nbd.Exports, error) {
			h, err := s.Catalog.DiskHostOf(sumOf(state.PeerCertificates[0].Raw))
			if errors.Is(err, catalog.ErrNone) {
				return nil, errStranger
			}
			if err != nil {
				return nil, err
			}
			by = &client{host: h.Name, addr: addr}
			conn, err := s.enterHost(ctx, h, cancel)
			return &exports{s, by, cancel, conn}, err
		}})
	switch {
	case err == nil || ctx.Err() != nil:
	case by == nil: // whoever it is, there may be any number
		s.Log.Debug("a connection to disks was refused", "from", addr, "error", err)
	default:
		s.Log.Info("a connection to a disk broke", "client", by.words(), "error", err)
	}
}

// hostConnection is a connection of a host, which ends when the host may have it no more.
type hostConnection struct {
	cancel context.CancelFunc
	disk   string // that it opens; empty: none yet. Guarded by the service's mu
}

// enterHost notes a connection of a host, until its context ends.
func (s *Service) enterHost(ctx context.Context, h *catalog.DiskHost, cancel context.CancelFunc) (*hostConnection,
	error) {
	c := &hostConnection{cancel: cancel}
	s.mu.Lock()
	if s.hosts[h.Name] == nil {
		s.hosts[h.Name] = map[*hostConnection]struct{}{}
	}
	s.hosts[h.Name][c] = struct{}{}
	s.mu.Unlock()
	context.AfterFunc(ctx, func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		delete(s.hosts[h.Name], c)
	})
	// What was changed before this was noted is seen here; what is changed later cuts it.
	if now, err := s.Catalog.DiskHost(h.Name); err != nil || now.Certificate != h.Certificate {
		return c, errStranger
	}
	return c, nil
}

// opens notes which disk a connection is about to open. Whether it may is asked after that: what is taken from the
// host before then is seen, and what is taken later cuts the connection.
func (e *exports) opens(name string) {
	if e.conn == nil {
		return
	}
	disk, _, _ := strings.Cut(name, ":")
	e.s.mu.Lock()
	defer e.s.mu.Unlock()
	e.conn.disk = disk
}

// cut ends the connections of a host to disks that it may open no more, or all of them, and its hold of those disks:
// it writes nothing over what others do.
func (s *Service) cut(host string, may []string, all bool) {
	for _, v := range s.all() {
		v.mu.Lock()
		if v.holder != nil && v.holder.host == host && !slices.Contains(may, v.name) {
			v.holder.barred.Store(true)
		}
		v.mu.Unlock()
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for c := range s.hosts[host] {
		if all || c.disk != "" && !slices.Contains(may, c.disk) {
			c.cancel()
		}
	}
}

// may tells which disks a client may open, or know that they are there.
func (e *exports) may() func(disk string) bool {
	if e.by.host == "" {
		return func(string) bool { return true }
	}
	h, err := e.s.Catalog.DiskHost(e.by.host)
	return func(disk string) bool { return err == nil && slices.Contains(h.Disks.V, disk) }
}

// Hosts lists the hosts that open disks over the network.
func (s *Service) Hosts() ([]api.DiskHost, error) {
	all, err := s.Catalog.DiskHosts()
	if err != nil {
		return nil, err
	}
	out := []api.DiskHost{}
	for _, h := range all {
		out = append(out, s.hostView(h))
	}
	return out, nil
}

func (s *Service) hostView(h *catalog.DiskHost) api.DiskHost {
	s.mu.Lock()
	n := len(s.hosts[h.Name])
	s.mu.Unlock()
	return api.DiskHost{Name: h.Name, Disks: append([]string{}, h.Disks.V...), Until: h.Until.Time, Made: h.Made.Time,
		MadeBy: h.MadeBy, Connections: n, Address: s.network()}
}

// network is where hosts reach the disks; empty: nowhere.
func (s *Service) network() string {
	host, port, err := net.SplitHostPort(s.Conf.DiskListen)
	if ip := net.ParseIP(host); err != nil || host != "" && (ip == nil || !ip.IsUnspecified()) {
		return s.Conf.DiskListen
	}
	if host, err = os.Hostname(); err != nil {
		return s.Conf.DiskListen
	}
	return net.JoinHostPort(host, port)
}

// LetIn says which disks a host may open, and makes its certificate when it has none, or is to have another.
// What it has open and may not any more is cut; with another certificate, everything.
func (s *Service) LetIn(host string, ask api.DiskAccess, by string) (*api.DiskAccessGiven, error) {
	if err := policy.CheckName("host", host); err != nil {
		return nil, refusal.Wrap(refusal.Misuse, err)
	}
	if s.network() == "" {
		return nil, refusal.Conflictf("this site serves no disks over the network: set disk_listen in site.yaml, such as " +
			"disk_listen: 0.0.0.0:10809, and restart the service")
	}
	s.hostsMu.Lock()
	defer s.hostsMu.Unlock()
	for _, name := range ask.Disks {
		if v, err := s.Catalog.Volume(name); err == nil && s.isCopy(v) {
			continue
		}
		if _, err := s.named(name); err != nil {
			return nil, err
		}
	}
	disks := slices.Compact(slices.Sorted(slices.Values(ask.Disks)))
	h, err := s.Catalog.DiskHost(host)
	fresh := errors.Is(err, catalog.ErrNone)
	if err != nil && !fresh {
		return nil, err
	}
	if fresh {
		h = &catalog.DiskHost{Name: host, Made: catalog.At(s.Clock.Now()), MadeBy: by}
	}
	if fresh || ask.Disks != nil {
		h.Disks.V = disks
	}
	out := &api.DiskAccessGiven{}
	if fresh || ask.Renew {
		a, err := s.authority()
		if err != nil {
			return nil, err
		}
		cert, key, sum, until, err := a.issue(host)
		if err != nil {
			return nil, err
		}
		h.Certificate, h.Until = sum, catalog.At(until)
		out.Authority, out.Certificate, out.Key = string(a.pem), string(cert), string(key)
	}
	if err := s.Catalog.PutDiskHost(h); err != nil {
		return nil, err
	}
	s.cut(host, h.Disks.V, out.Key != "")
	out.Host = s.hostView(h)
	return out, nil
}

// TurnAway lets a host in no more. What it has open is cut.
func (s *Service) TurnAway(host string) (string, error) {
	s.hostsMu.Lock()
	defer s.hostsMu.Unlock()
	if _, err := s.Catalog.DiskHost(host); err != nil {
		return "", err
	}
	if err := s.Catalog.RemoveDiskHost(host); err != nil {
		return "", err
	}
	s.cut(host, nil, true)
	return fmt.Sprintf("%s opens no disks any more: its certificate is worth nothing.", host), nil
}

// hostSoon is how long before its certificate ends a host is told of.
const hostSoon = 30 * 24 * time.Hour

// hostSentences tell of hosts whose certificates end.
func (s *Service) hostSentences(add func(api.Sentence)) error {
	all, err := s.Catalog.DiskHosts()
	if err != nil {
		return err
	}
	for _, h := range all {
		if left := time.Until(h.Until.Time); left < hostSoon {
			add(api.Sentence{Weight: "act", About: "host " + h.Name, Next: "Give it another",
				Command: "candid disk access " + h.Name + " --renew", Text: fmt.Sprintf("The certificate with which the host "+
					"%s opens disks ends on %s.", h.Name, h.Until.Time.Format(time.DateOnly))})
		}
	}
	return nil
}
