package disks

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"os"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"candidharbor/internal/access"
	"candidharbor/internal/nbd"
	"candidharbor/internal/volume/disk"

	"golang.org/x/sys/unix"
)

// client is who opens exports: a process of a user over the socket, or a host over the network, which its
// certificate tells.
type client struct {
	host   string // empty: over the socket
	addr   string
	barred atomic.Bool // the host may open the disk no more
	uid    uint32
	pid    int32
	began  string // when the process started, which no later one of that number shares
	name   string // of the program
}

func (c *client) words() string {
	if c.host != "" {
		return fmt.Sprintf("the host %s (%s)", c.host, c.addr)
	}
	return fmt.Sprintf("%s, process %d of user %d", c.name, c.pid, c.uid)
}

func (c *client) same(o *client) bool {
	return c.host == o.host && c.uid == o.uid && c.pid == o.pid && c.began == o.began
}

// alive reports whether the client may still come back: the process is there. Of a host that is not known.
func (c *client) alive() bool {
	if c.host != "" {
		return !c.barred.Load()
	}
	_, began := process(c.pid)
	return began == c.began && began != ""
}

// process tells the name and the start of a process; empty when there is none.
func process(pid int32) (name, began string) {
	raw, err := os.ReadFile("/proc/" + strconv.Itoa(int(pid)) + "/stat")
	open, end := bytes.IndexByte(raw, '('), bytes.LastIndexByte(raw, ')')
	if err != nil || open < 0 || end < open {
		return "", ""
	}
	fields := bytes.Fields(raw[end+1:])
	if len(fields) < 20 {
		return "", ""
	}
	if state := string(fields[0]); state == "Z" || state == "X" { // it has ended, and writes nothing more
		return "", ""
	}
	return string(raw[open+1 : end]), string(fields[19])
}

// Credentials are those of the process at the other end of a socket.
func Credentials(conn net.Conn) (cred *unix.Ucred, err error) {
	u, is := conn.(*net.UnixConn)
	if !is {
		return nil, errors.New("it is no socket of this host")
	}
	sys, err := u.SyscallConn()
	if err != nil {
		return nil, err
	}
	cerr := sys.Control(func(fd uintptr) {
		cred, err = unix.GetsockoptUcred(int(fd), unix.SOL_SOCKET, unix.SO_PEERCRED)
	})
	return cred, errors.Join(err, cerr)
}

// peerOf tells who is at the other end of a socket.
func peerOf(conn net.Conn) (*client, error) {
	cred, err := Credentials(conn)
	if err != nil {
		return nil, err
	}
	c := &client{uid: cred.Uid, pid: cred.Pid}
	if c.name, c.began = process(c.pid); c.began == "" {
		return nil, errors.New("its process has ended")
	}
	return c, nil
}

// connection is an export that a client has open. It stays what it was when it was opened.
type connection struct {
	s      *Service
	v      *served
	by     *client
	since  time.Time
	cancel context.CancelFunc
	gone   chan struct{} // closed when it is over
	size   int64

	wrote                  atomic.Bool
	read, written, flushes atomic.Int64 // bytes, bytes, number
	requests, waited       atomic.Int64 // number, and nanoseconds that they took together
}

// mostConnections bounds those of one site.
const mostConnections = 1024

// Serve serves the clients of this host that a listener accepts, until the context ends.
func (s *Service) Serve(ctx context.Context, l net.Listener) error {
	return s.accept(ctx, l, s.serve)
}

func (s *Service) accept(ctx context.Context, l net.Listener, serve func(context.Context, net.Conn)) error {
	stop := context.AfterFunc(ctx, func() { l.Close() })
	defer stop()
	var serving sync.WaitGroup
	defer serving.Wait()
	places := make(chan struct{}, mostConnections)
	for {
		conn, err := l.Accept()
		if ctx.Err() != nil {
			return nil
		}
		if err != nil {
			return err
		}
		select {
		case places <- struct{}{}:
			serving.Go(func() {
				defer func() { <-places }()
				serve(ctx, conn)
			})
		default:
			s.Log.Warn("a client was turned away: there are too many connections to disks", "most", mostConnections)
			conn.Close()
		}
	}
}

func (s *Service) serve(ctx context.Context, conn net.Conn) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	by, err := peerOf(conn)
	if err != nil {
		s.Log.Debug("a client of disks is not known", "error", err)
		conn.Close()
		return
	}
	err = nbd.Serve(ctx, conn, nbd.Options{Exports: func(*tls.ConnectionState) (nbd.Exports, error) {
		return &exports{s, by, cancel, nil}, nil
	}})
	if err != nil && ctx.Err() == nil {
		s.Log.Info("a connection to a disk broke", "client", by.words(), "error", err)
	}
}

// enter opens the disk for a client, which holds it from then on. fresh: it did not hold it before. A refusal
// is fresh when it is the first, the tenth, the hundredth and so on of this holder's time.
func (v *served) enter(s *Service, by *client, cancel context.CancelFunc) (c *connection, fresh bool, err error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	defer func() {
		if err != nil {
			v.refused++
			n := v.refused
			for n%10 == 0 {
				n /= 10
			}
			fresh = n == 1
		}
	}()
	switch {
	case v.closed:
		return nil, false, fmt.Errorf("the disk %s is closed to clients: candid disk open %s opens it", v.name, v.name)
	case v.away > 0:
		return nil, false, fmt.Errorf("the disk %s goes back to an earlier state, or is being closed: come again", v.name)
	case !v.shared && v.holder != nil && !v.holder.same(by) && v.held():
		return nil, false, fmt.Errorf("the disk %s is open already, by %s: two that write to one disk destroy it. If that "+
			"client does not come back: candid disk release %s", v.name, v.holder.words(), v.name)
	}
	if v.shared {
		v.holder, fresh = nil, !v.has(by)
	} else if v.holder == nil || !v.holder.same(by) {
		v.holder, v.wrote, v.refused, fresh = by, false, 0, true
	}
	c = &connection{s: s, v: v, by: by, since: s.Clock.Now(), cancel: cancel, gone: make(chan struct{}),
		size: v.d.Size()}
	v.clients[c] = struct{}{}
	return c, fresh, nil
}

// held reports whether the holder may still write. The caller holds mu.
func (v *served) held() bool {
	return v.has(v.holder) || v.holder.alive()
}

// has reports whether a client is connected. The caller holds mu.
func (v *served) has(by *client) bool {
	for c := range v.clients {
		if c.by.same(by) {
			return true
		}
	}
	return false
}

func (v *served) forgetTheDead() {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.holder != nil && !v.held() {
		v.holder = nil
	}
}

// someone names one of the clients. The caller holds mu.
func (v *served) someone() string {
	for c := range v.clients {
		return c.by.words()
	}
	return ""
}

// leave ends a connection. A client that said that it leaves, or never wrote, holds the disk no more once it
// has no other: it has nothing that it could still write over what others do.
func (c *connection) leave(left bool) {
	v := c.v
	v.mu.Lock()
	defer v.mu.Unlock()
	delete(v.clients, c)
	close(c.gone)
	v.wrote = v.wrote || c.wrote.Load()
	if v.holder == nil || !v.holder.same(c.by) || !left && v.wrote && v.holder.alive() {
		return
	}
	if !v.has(c.by) {
		v.holder = nil
	}
}

// Connected tells how many clients are connected to a disk.
func (s *Service) Connected(name string) int {
	s.mu.Lock()
	v := s.open[name]
	s.mu.Unlock()
	if v == nil {
		return 0
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	return len(v.clients)
}

// record puts into the ledger that a client opened something.
func (s *Service) record(by *client, act, about, outcome string) error {
	name := fmt.Sprintf("%s (process %d of user %d)", by.name, by.pid, by.uid)
	if by.host != "" {
		name = by.words()
	}
	_, err := s.access.Record(access.Caller{Name: name, Via: "nbd"}, act, about, outcome)
	return err
}

// The methods of an export that is a disk.

func (c *connection) Info() nbd.Info {
	return nbd.Info{Size: c.size, MultiConn: true, Description: "disk " + c.v.name}
}

// sample is of how many requests that wait for nothing one is measured.
const sample = 16

// quick does a request that waits for nothing, if it can be done so, and measures some of them.
func (c *connection) quick(do func() bool) bool {
	if c.requests.Load()%sample != 0 {
		ok := do()
		if ok {
			c.requests.Add(1)
		}
		return ok
	}
	began := time.Now()
	ok := do()
	if ok {
		c.requests.Add(1)
		c.waited.Add(sample * int64(time.Since(began)))
	}
	return ok
}

// took notes how long a request took.
func (c *connection) took(began time.Time) {
	c.requests.Add(1)
	c.waited.Add(int64(time.Since(began)))
}

func (c *connection) ReadAt(p []byte, off int64) error {
	defer c.took(time.Now())
	c.read.Add(int64(len(p)))
	return c.v.d.ReadAt(p, off)
}

func (c *connection) ReadNoWait(p []byte, off int64) bool {
	ok := c.quick(func() bool { return c.v.d.ReadNoWait(p, off) })
	if ok {
		c.read.Add(int64(len(p)))
	}
	return ok
}

func (c *connection) WriteAt(ctx context.Context, p []byte, off int64, fua bool) error {
	defer c.took(time.Now())
	c.wrote.Store(true)
	c.written.Add(int64(len(p)))
	return c.v.d.WriteAt(ctx, p, off, fua)
}

func (c *connection) WriteNoWait(p []byte, off int64) bool {
	ok := c.quick(func() bool { return c.v.d.WriteNoWait(p, off) })
	if ok {
		c.wrote.Store(true)
		c.written.Add(int64(len(p)))
	}
	return ok
}

func (c *connection) Trim(ctx context.Context, off, n int64, fua bool) error {
	defer c.took(time.Now())
	c.wrote.Store(true)
	return c.v.d.Trim(ctx, off, n, fua)
}

func (c *connection) Zero(ctx context.Context, off, n int64, allocate, fua bool) error {
	defer c.took(time.Now())
	c.wrote.Store(true)
	return c.v.d.Zero(ctx, off, n, allocate, fua)
}

func (c *connection) Flush(ctx context.Context) error {
	defer c.took(time.Now())
	c.flushes.Add(1)
	return c.v.d.Flush(ctx)
}

func (c *connection) Extents(off, n int64) ([]nbd.Extent, error) {
	return extentsOf(c.v.d.Extents(off, n))
}

func (c *connection) Close(left bool) { c.leave(left) }

func extentsOf(all []disk.Extent, err error) ([]nbd.Extent, error) {
	out := make([]nbd.Extent, len(all))
	for i, e := range all {
		out[i] = nbd.Extent{Length: e.Length, Zero: e.Zero, Hole: e.Zero}
	}
	return out, err
}
