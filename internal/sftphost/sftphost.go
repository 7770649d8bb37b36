// Package sftphost is a machine that is reached by SFTP, for demos and tests: it serves its files on loopback to
// whoever has one key.
package sftphost

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"net"
	"sync"
	"sync/atomic"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
)

// Host serves files.
type Host struct {
	Address string // host:port
	Key     ssh.PublicKey

	l    net.Listener
	conf *ssh.ServerConfig
	all  sync.WaitGroup

	sessions sync.WaitGroup

	armed atomic.Bool
	left  atomic.Int64

	mu    sync.Mutex
	conns map[net.Conn]struct{}
}

// Start serves its files on loopback to whoever shows the key of a line of authorized_keys, until End.
func Start(address, authorized string) (*Host, error) {
	allowed, _, _, _, err := ssh.ParseAuthorizedKey([]byte(authorized))
	if err != nil {
		return nil, err
	}
	_, own, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	signer, err := ssh.NewSignerFromKey(own)
	if err != nil {
		return nil, err
	}
	conf := &ssh.ServerConfig{PublicKeyCallback: func(_ ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
		if string(key.Marshal()) != string(allowed.Marshal()) {
			return nil, errors.New("this key is not let in")
		}
		return nil, nil
	}}
	conf.AddHostKey(signer)
	l, err := (&net.ListenConfig{}).Listen(context.Background(), "tcp", address)
	if err != nil {
		return nil, err
	}
	h := &Host{Address: l.Addr().String(), Key: signer.PublicKey(), l: l, conf: conf, conns: map[net.Conn]struct{}{}}
	h.all.Go(h.accept)
	return h, nil
}

// End closes all connections and waits for them.
func (h *Host) End() {
	h.l.Close()
	h.Cut()
	h.all.Wait()
}

// CutAfter closes all connections once, after so many more bytes came over them, unless it is spared before. spare is
// called when whoever used them is done: it waits for what was asked before a line was cut, which is still carried out.
func (h *Host) CutAfter(bytes int64) (spare func()) {
	h.left.Store(bytes)
	h.armed.Store(true)
	return func() {
		h.armed.Store(false)
		h.sessions.Wait()
	}
}

// counted is a connection that is cut after a while.
type counted struct {
	net.Conn
	h *Host
}

func (c counted) Read(p []byte) (int, error) {
	n, err := c.Conn.Read(p)
	if c.h.armed.Load() && c.h.left.Add(-int64(n)) < 0 && c.h.armed.CompareAndSwap(true, false) {
		c.h.Cut()
	}
	return n, err
}

// Cut closes all connections; new ones are served.
func (h *Host) Cut() {
	h.mu.Lock()
	defer h.mu.Unlock()
	for c := range h.conns {
		c.Close()
	}
}

func (h *Host) accept() {
	for {
		c, err := h.l.Accept()
		if err != nil {
			return
		}
		h.mu.Lock()
		h.conns[c] = struct{}{}
		h.mu.Unlock()
		h.all.Go(func() {
			h.serve(counted{c, h})
			c.Close()
			h.mu.Lock()
			delete(h.conns, c)
			h.mu.Unlock()
		})
	}
}

func (h *Host) serve(c net.Conn) {
	_, channels, requests, err := ssh.NewServerConn(c, h.conf)
	if err != nil {
		return
	}
	go ssh.DiscardRequests(requests) // ends with the connection
	for nc := range channels {
		if nc.ChannelType() != "session" {
			_ = nc.Reject(ssh.UnknownChannelType, "sessions only")
			continue
		}
		ch, asked, err := nc.Accept()
		if err != nil {
			return
		}
		h.sessions.Add(1)
		h.all.Go(func() {
			defer h.sessions.Done()
			h.session(ch, asked)
		})
	}
}

func (h *Host) session(ch ssh.Channel, asked <-chan *ssh.Request) {
	defer ch.Close()
	for r := range asked {
		is := r.Type == "subsystem" && len(r.Payload) > 4 && string(r.Payload[4:]) == "sftp"
		_ = r.Reply(is, nil)
		if !is {
			continue
		}
		s, err := sftp.NewServer(ch)
		if err == nil {
			_ = s.Serve()
		}
		return
	}
}
