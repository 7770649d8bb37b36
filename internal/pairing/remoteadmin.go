package pairing

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"sync"
	"time"

	"candidharbor/internal/catalog"
	"candidharbor/internal/limit"
	"candidharbor/internal/refusal"
	"candidharbor/internal/transfer"
)

// RemoteCaller is who asks over a line from another site, and what that site may.
type RemoteCaller struct {
	Site      string
	Configure bool
}

// RemoteHeader names the person at the other site for whom a request is made.
const RemoteHeader = "Candid-Desk-For"

// RemoteRoleHeader names the role of that person there.
const RemoteRoleHeader = "Candid-Desk-Role"

type remoteKey struct{}

// RemoteCallerOf tells whether a request came over a line from another site.
func RemoteCallerOf(ctx context.Context) (RemoteCaller, bool) {
	c, ok := ctx.Value(remoteKey{}).(RemoteCaller)
	return c, ok
}

// remoteConn is a stream on which another site speaks HTTP.
type remoteConn struct {
	net.Conn
	caller RemoteCaller
	once   sync.Once
	ended  chan struct{}
}

func (c *remoteConn) Close() error {
	c.once.Do(func() { close(c.ended) })
	return c.Conn.Close()
}

// remoteListener gives streams to an HTTP server.
type remoteListener struct {
	conns chan net.Conn
	ctx   context.Context
}

func (l *remoteListener) Accept() (net.Conn, error) {
	select {
	case c := <-l.conns:
		return c, nil
	case <-l.ctx.Done():
		return nil, net.ErrClosed
	}
}

func (l *remoteListener) Close() error { return nil }

func (l *remoteListener) Addr() net.Addr { return &net.UnixAddr{Name: "desk", Net: "unix"} }

// AnswerRemote takes what other sites that were granted to see or configure ask over their
// lines, from now on; the returned function answers it, with the same API that people use, until the
// site closes.
func (s *Service) AnswerRemote(h http.Handler) (serve func()) {
	l := &remoteListener{conns: make(chan net.Conn), ctx: s.run.Context()}
	s.mu.Lock()
	s.remote = l
	s.mu.Unlock()
	return func() {
		h, wait := limit.Joined(h)
		defer wait()
		srv := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 90 * time.Second,
			ConnContext: func(ctx context.Context, c net.Conn) context.Context {
				return context.WithValue(ctx, remoteKey{}, c.(*remoteConn).caller)
			}}
		stop := context.AfterFunc(s.run.Context(), func() { srv.Close() })
		defer stop()
		if err := srv.Serve(l); !errors.Is(err, http.ErrServerClosed) && !errors.Is(err, net.ErrClosed) {
			s.Log.Error("other sites are not answered any more", "error", err)
		}
	}
}

// serveRemote hands a stream to the API.
func (s *Service) serveRemote(ctx context.Context, peer *catalog.Peer, st *transfer.Stream) error {
	s.mu.Lock()
	l := s.remote
	s.mu.Unlock()
	if l == nil {
		return &transfer.Refusal{What: fmt.Sprintf("%s answers no requests of this kind at present", s.Name())}
	}
	if err := st.Reply(struct{}{}); err != nil {
		return err
	}
	c := &remoteConn{Conn: st.Conn(), caller: RemoteCaller{Site: peer.Name, Configure: peer.Grants.V.Configure},
		ended: make(chan struct{})}
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

// DialRemote opens a stream on which a paired site answers HTTP.
func (s *Service) DialRemote(ctx context.Context, name string) (net.Conn, error) {
	p, err := s.Catalog.Peer(name)
	if err != nil {
		return nil, err
	}
	link, _, err := s.Link(ctx, p)
	if err != nil {
		return nil, err
	}
	st, err := link.Open("desk", struct{}{})
	if err != nil {
		return nil, err
	}
	if err := st.Answer(&struct{}{}); err != nil {
		st.Close()
		return nil, refusal.Wrap(refusal.Elsewhere, fmt.Errorf("site %s: %w", name, err))
	}
	return st.Conn(), nil
}
