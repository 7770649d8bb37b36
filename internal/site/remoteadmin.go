package site

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"sync"
	"time"

	"candidharbor/internal/catalog"
	"candidharbor/internal/transfer"
)

// DeskCaller is who asks over a line from another site, and what that site may.
type DeskCaller struct {
	Site      string
	Configure bool
}

// DeskHeader names the person at the other site for whom a request is made.
const DeskHeader = "Candid-Desk-For"

// DeskRoleHeader names the role of that person there.
const DeskRoleHeader = "Candid-Desk-Role"

type deskKey struct{}

// DeskCallerOf tells whether a request came over a line from another site.
func DeskCallerOf(ctx context.Context) (DeskCaller, bool) {
	c, ok := ctx.Value(deskKey{}).(DeskCaller)
	return c, ok
}

// deskConn is a stream on which another site speaks HTTP.
type deskConn struct {
	net.Conn
	caller DeskCaller
	once   sync.Once
	ended  chan struct{}
}

func (c *deskConn) Close() error {
	c.once.Do(func() { close(c.ended) })
	return c.Conn.Close()
}

// deskListener gives streams to an HTTP server.
type deskListener struct {
	conns chan net.Conn
	ctx   context.Context
}

func (l *deskListener) Accept() (net.Conn, error) {
	select {
	case c := <-l.conns:
		return c, nil
	case <-l.ctx.Done():
		return nil, net.ErrClosed
	}
}
func (l *deskListener) Close() error   { return nil }
func (l *deskListener) Addr() net.Addr { return &net.UnixAddr{Name: "desk", Net: "unix"} }

// ServeDesk answers what other sites that were granted to see or configure ask over their
// lines, with the same API that people use, until the site closes.
func (s *Site) ServeDesk(h http.Handler) {
	l := &deskListener{conns: make(chan net.Conn), ctx: s.closing()}
	s.linesMu.Lock()
	s.desk = l
	s.linesMu.Unlock()
	srv := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 90 * time.Second,
		ConnContext: func(ctx context.Context, c net.Conn) context.Context {
			return context.WithValue(ctx, deskKey{}, c.(*deskConn).caller)
		}}
	stop := context.AfterFunc(s.closing(), func() { srv.Close() })
	defer stop()
	if err := srv.Serve(l); !errors.Is(err, http.ErrServerClosed) && !errors.Is(err, net.ErrClosed) {
		s.log.Error("other sites are not answered any more", "error", err)
	}
}

// serveDesk hands a stream to the API.
func (s *Site) serveDesk(ctx context.Context, peer *catalog.Peer, st *transfer.Stream) error {
	s.linesMu.Lock()
	l := s.desk
	s.linesMu.Unlock()
	if l == nil {
		return &transfer.Refusal{What: fmt.Sprintf("%s answers no requests of this kind at present", s.Name())}
	}
	if err := st.Reply(struct{}{}); err != nil {
		return err
	}
	c := &deskConn{Conn: st.Conn(), caller: DeskCaller{Site: peer.Name, Configure: peer.Grants.V.Configure}, ended: make(chan struct{})}
	select {
	case l.conns <- c:
	case <-ctx.Done():
		return nil
	}
	select {
	case <-c.ended:
	case <-ctx.Done():
	}
	return nil
}

// DialDesk opens a stream on which a paired site answers HTTP.
func (s *Site) DialDesk(ctx context.Context, name string) (net.Conn, error) {
	p, err := s.cat.Peer(name)
	if err != nil {
		return nil, err
	}
	link, _, err := s.link(ctx, p)
	if err != nil {
		return nil, err
	}
	st, err := link.Open("desk", struct{}{})
	if err != nil {
		return nil, err
	}
	if err := st.Answer(&struct{}{}); err != nil {
		st.Close()
		return nil, &Error{Elsewhere, fmt.Errorf("site %s: %w", name, err)}
	}
	return st.Conn(), nil
}
