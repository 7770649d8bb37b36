package nbd

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
)

// memory is an export that lies in memory.
type memory struct {
	mu     sync.Mutex
	info   Info
	bytes  []byte
	slow   bool // nothing is done without waiting
	fails  error
	synced int
	closed int
}

func (m *memory) Info() Info { return m.info }

func (m *memory) ReadAt(p []byte, off int64) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	copy(p, m.bytes[off:])
	return m.fails
}

func (m *memory) ReadNoWait(p []byte, off int64) bool { return !m.slow && m.ReadAt(p, off) == nil }

func (m *memory) WriteAt(_ context.Context, p []byte, off int64, fua bool) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	copy(m.bytes[off:], p)
	if fua {
		m.synced++
	}
	return m.fails
}

func (m *memory) WriteNoWait(p []byte, off int64) bool {
	return !m.slow && m.WriteAt(context.Background(), p, off, false) == nil
}

func (m *memory) Trim(ctx context.Context, off, n int64, fua bool) error {
	return m.WriteAt(ctx, make([]byte, n), off, fua)
}

func (m *memory) Zero(ctx context.Context, off, n int64, _, fua bool) error {
	return m.WriteAt(ctx, make([]byte, n), off, fua)
}

func (m *memory) Flush(context.Context) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.synced++
	return m.fails
}

func (m *memory) Extents(off, n int64) (out []Extent, err error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for ; n > 0; off, n = off+min(n, 4096), n-min(n, 4096) {
		zero := len(bytes.Trim(m.bytes[off:off+min(n, 4096)], "\x00")) == 0
		if k := len(out) - 1; k >= 0 && out[k].Zero == zero {
			out[k].Length += min(n, 4096)
			continue
		}
		out = append(out, Extent{min(n, 4096), zero, zero})
	}
	return out, m.fails
}

func (m *memory) Close(left bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if left {
		m.closed++
	}
}

type shelf map[string]*memory

func (s shelf) List() (names []string) {
	for n := range s {
		names = append(names, n)
	}
	return names
}

func (s shelf) Describe(name string) (Info, error) {
	if s[name] == nil {
		return Info{}, ErrUnknown
	}
	return s[name].info, nil
}

func (s shelf) Open(name string) (Export, error) {
	if s[name] == nil {
		return nil, ErrUnknown
	}
	if name == "held" {
		return nil, errors.New("another host holds it")
	}
	return s[name], nil
}

func (s shelf) Errno(err error) uint32 {
	if errors.Is(err, io.ErrShortWrite) {
		return ENOSPC
	}
	return EIO
}

func (s shelf) options() Options {
	return Options{Exports: func(*tls.ConnectionState) (Exports, error) { return s, nil }}
}

func newShelf() shelf {
	s := shelf{}
	for _, name := range []string{"disk", "held", "fixed"} {
		s[name] = &memory{info: Info{Size: 1 << 20, MultiConn: true, ReadOnly: name == "fixed"}, bytes: make([]byte, 1<<20)}
	}
	s["disk"].info.Description = "a disk"
	return s
}

// talk is one client by bytes.
type talk struct {
	t *testing.T
	net.Conn
	done chan error
}

func dial(t *testing.T, s shelf, opt Options) *talk {
	a, b := net.Pipe()
	if opt.Exports == nil {
		opt.Exports = s.options().Exports
	}
	k := &talk{t, a, make(chan error, 1)}
	go func() { k.done <- Serve(context.Background(), b, opt) }()
	t.Cleanup(func() { a.Close() })
	return k
}

// say sends bytes that are written in hexadecimal, with spaces and quoted text.
func (k *talk) say(parts ...string) {
	k.t.Helper()
	_, err := k.Write(raw(k.t, parts...))
	require.NoError(k.t, err)
}

func (k *talk) hear(parts ...string) {
	k.t.Helper()
	want := raw(k.t, parts...)
	got := make([]byte, len(want))
	n, err := io.ReadFull(k, got)
	require.NoError(k.t, err, "%x", got[:n])
	require.Equal(k.t, hex.EncodeToString(want), hex.EncodeToString(got))
}

func raw(t testing.TB, parts ...string) (out []byte) {
	for _, p := range parts {
		if text, is := strings.CutPrefix(p, "'"); is {
			out = append(out, text...)
			continue
		}
		b, err := hex.DecodeString(strings.ReplaceAll(p, " ", ""))
		require.NoError(t, err)
		out = append(out, b...)
	}
	return out
}

const (
	opt    = "49484156454f5054"
	rep    = "0003e889045565a9"
	hello  = "4e42444d41474943 49484156454f5054 0003"
	client = "00000003"
)

func ask(flags, kind uint16, cookie, off uint64, n uint32) string {
	return fmt.Sprintf("25609513 %04x %04x %016x %016x %08x", flags, kind, cookie, off, n)
}

// The bytes of a whole conversation, as the protocol's document has them.
func TestConversation(t *testing.T) {
	s := newShelf()
	k := dial(t, s, Options{})
	k.hear(hello)
	k.say(client)
	k.say(opt, "00000063 00000002 abcd") // an option that nobody knows
	k.hear(rep, "00000063 80000001 00000000")
	k.say(opt, "00000005 00000000") // STARTTLS, where there is none
	k.hear(rep, "00000005 80000002 00000015", "'no TLS is spoken here")
	k.say(opt, "0000000a 00000018 00000004", "'disk", "00000001 00000008", "'whatever") // a context before its time
	k.hear(rep, "0000000a 80000003 0000001d", "'structured replies come first")
	k.say(opt, "00000008 00000000")
	k.hear(rep, "00000008 00000001 00000000")
	k.say(opt, "0000000a 0000001f 00000004", "'disk", "00000001 0000000f", "'base:allocation")
	k.hear(rep, "0000000a 00000004 00000013 00000001", "'base:allocation")
	k.hear(rep, "0000000a 00000001 00000000")
	k.say(opt, "00000007 0000000a 00000004", "'none", "0000")
	k.hear(rep, "00000007 80000006 00000027", "'there is no export of that name for you")
	k.say(opt, "00000007 0000000a 00000004", "'held", "0000")
	k.hear(rep, "00000007 80000002 00000015", "'another host holds it")
	k.say(opt, "00000006 0000000e 00000004", "'disk", "0002 0001 0002") // INFO, with name and description
	k.hear(rep, "00000006 00000003 0000000c 0000 0000000000100000", fmt.Sprintf("%04x", flagsOf(s["disk"].info)))
	k.hear(rep, "00000006 00000003 00000006 0001", "'disk")
	k.hear(rep, "00000006 00000003 00000008 0002", "'a disk")
	k.hear(rep, "00000006 00000003 0000000e 0003 00000001 00001000 02000000")
	k.hear(rep, "00000006 00000001 00000000")
	k.say(opt, "00000006 00000004 00000009") // a name longer than the option
	k.hear(rep, "00000006 80000003 00000000")
	k.say(opt, "00000002 00000000")
	k.hear(rep, "00000002 00000001 00000000")
	require.NoError(t, <-k.done)
}

// Requests and their replies, simple and structured, with every refusal.
func TestRequests(t *testing.T) {
	for _, slow := range []bool{false, true} {
		s := newShelf()
		s["disk"].slow = slow
		k := dial(t, s, Options{})
		k.hear(hello)
		k.say(client)
		k.say(opt, "00000001 00000004", "'disk") // EXPORT_NAME
		k.hear("0000000000100000", fmt.Sprintf("%04x", sendsFlags|sendsFlush|sendsFUA|sendsDF|sendsTrim|sendsWriteZeroes|
			sendsMultiConn))
		k.say(ask(0, cmdWrite, 7, 0x1000, 5), "'hello")
		k.hear("67446698 00000000 0000000000000007")
		k.say(ask(0, cmdRead, 8, 0xfff, 7))
		k.hear("67446698 00000000 0000000000000008", "00", "'hello", "00")
		k.say(ask(cmdFlagFUA, cmdWriteZeroes, 9, 0x1001, 3))
		k.hear("67446698 00000000 0000000000000009")
		k.say(ask(0, cmdFlush, 10, 0, 0))
		k.hear("67446698 00000000 000000000000000a")
		require.Equal(t, 2, s["disk"].synced)
		k.say(ask(0, cmdRead, 11, 0x1000, 5))
		k.hear("67446698 00000000 000000000000000b", "'h", "000000", "'o")
		for _, refused := range []struct {
			r    string
			code uint32
		}{{ask(0, cmdRead, 1, 1<<20, 1), EINVAL}, {ask(0, cmdRead, 1, 1<<63, 1<<20), EINVAL},
			{ask(0, cmdRead, 1, 0, 0), EINVAL}, {ask(0, cmdRead, 1, 0, MaxPayload+1), EOVERFLOW},
			{ask(0, cmdTrim, 1, 1, 1<<20), EINVAL}, {ask(0, cmdWriteZeroes, 1, 1, 1<<20), ENOSPC},
			{ask(0, 99, 1, 0, 0), EINVAL}, {ask(cmdFlagNoHole, cmdTrim, 1, 0, 1), EINVAL},
			{ask(0, cmdBlockStatus, 1, 0, 1), EINVAL}} {
			k.say(refused.r)
			k.hear(fmt.Sprintf("67446698 %08x 0000000000000001", refused.code))
		}
		k.say(ask(0, cmdWrite, 1, 1<<20-1, 2), "'xy") // its bytes are read all the same
		k.hear("67446698 0000001c 0000000000000001")
		s["disk"].fails = io.ErrShortWrite
		k.say(ask(cmdFlagFUA, cmdWrite, 2, 0, 1), "'x")
		k.hear("67446698 0000001c 0000000000000002")
		s["disk"].fails = nil
		k.say(ask(0, cmdDisconnect, 3, 0, 0))
		require.NoError(t, <-k.done)
		require.Equal(t, 1, s["disk"].closed)
	}
}

func TestStructuredReplies(t *testing.T) {
	s := newShelf()
	copy(s["fixed"].bytes[4096:], "data")
	k := dial(t, s, Options{})
	k.hear(hello)
	k.say(client)
	k.say(opt, "00000008 00000000")
	k.hear(rep, "00000008 00000001 00000000")
	k.say(opt, "0000000a 00000020 00000005", "'fixed", "00000001 0000000f", "'base:allocation")
	k.hear(rep, "0000000a 00000004 00000013 00000001", "'base:allocation")
	k.hear(rep, "0000000a 00000001 00000000")
	k.say(opt, "00000007 0000000b 00000005", "'fixed", "0000")
	k.hear(rep, "00000007 00000003 0000000c 0000 0000000000100000", fmt.Sprintf("%04x",
		sendsFlags|sendsFlush|sendsFUA|sendsDF|sendsReadOnly|sendsMultiConn))
	k.hear(rep, "00000007 00000003 0000000e 0003 00000001 00001000 02000000")
	k.hear(rep, "00000007 00000001 00000000")
	k.say(ask(cmdFlagDF, cmdRead, 5, 4095, 5))
	k.hear("668e33ef 0001 0001 0000000000000005 0000000d 0000000000000fff 00", "'data")
	k.say(ask(0, cmdBlockStatus, 6, 0, 16384))
	k.hear("668e33ef 0001 0005 0000000000000006 0000001c 00000001 00001000 00000003 00001000 00000000 00002000 00000003")
	k.say(ask(cmdFlagReqOne, cmdBlockStatus, 6, 0, 16384))
	k.hear("668e33ef 0001 0005 0000000000000006 0000000c 00000001 00001000 00000003")
	k.say(ask(0, cmdWrite, 7, 0, 1), "'x")
	k.hear("67446698 00000001 0000000000000007")
	s["fixed"].fails = errors.New("unreadable")
	k.say(ask(0, cmdRead, 8, 0, 1))
	k.hear("668e33ef 0001 8001 0000000000000008 00000010 00000005 000a", "'unreadable")
}

// Many requests in one packet have their replies, and a large write among them.
func TestManyAtOnce(t *testing.T) {
	s := newShelf()
	a, b := net.Pipe()
	done := make(chan error, 1)
	go func() {
		done <- Serve(context.Background(), b, s.options())
	}()
	k := &talk{t, a, done}
	k.hear(hello)
	k.say(client)
	k.say(opt, "00000001 00000004", "'disk")
	k.hear("0000000000100000", fmt.Sprintf("%04x", flagsOf(s["disk"].info)))
	var all []byte
	large := bytes.Repeat([]byte("0123456789abcdef"), 20_000)
	for i := range 2000 {
		all = append(all, raw(t, ask(0, cmdWrite, uint64(i), uint64(i*8), 8))...)
		all = binary.BigEndian.AppendUint64(all, uint64(i))
	}
	all = append(all, raw(t, ask(0, cmdWrite, 2000, 1<<19, uint32(len(large))))...)
	all = append(all, large...)
	for i := range 2000 {
		all = append(all, raw(t, ask(0, cmdRead, uint64(3000+i), uint64(i*8), 8))...)
	}
	go func() { _, _ = a.Write(all) }()
	seen := map[uint64]bool{}
	for range 4001 {
		head := make([]byte, 16)
		_, err := io.ReadFull(a, head)
		require.NoError(t, err)
		require.Zero(t, binary.BigEndian.Uint32(head[4:]))
		c := binary.BigEndian.Uint64(head[8:])
		require.False(t, seen[c])
		seen[c] = true
		if c >= 3000 {
			p := make([]byte, 8)
			_, err := io.ReadFull(a, p)
			require.NoError(t, err)
			require.Equal(t, c-3000, binary.BigEndian.Uint64(p))
		}
	}
	require.Equal(t, large, s["disk"].bytes[1<<19:][:len(large)])
	a.Close()
	<-done
}

// Whatever a client says, the server ends or goes on, and leaves nothing behind.
func FuzzClient(f *testing.F) {
	for _, parts := range [][]string{{client, opt, "00000001 00000004", "'disk", ask(0, cmdRead, 1, 0, 10)},
		{client, opt, "00000008 00000000", opt, "00000007 0000000a 00000004", "'disk", "0000",
			ask(0, cmdWrite, 1, 0, 3),
			"'abc"},
		{client, opt, "00000003 00000000", opt, "00000002 00000000"}} {
		f.Add(raw(f, parts...))
	}
	f.Fuzz(func(t *testing.T, said []byte) {
		s := newShelf()
		a, b := net.Pipe()
		done := make(chan error, 1)
		go func() {
			done <- Serve(context.Background(), b, s.options())
		}()
		go func() { _, _ = io.Copy(io.Discard, a) }()
		_, _ = a.Write(said)
		a.Close()
		<-done
	})
}

// A client that nobody here wrote reads what it wrote.
func TestForeignClient(t *testing.T) {
	if _, err := exec.LookPath("/usr/bin/nbdsh"); err != nil {
		t.Skip("nbdsh is not installed")
	}
	s := newShelf()
	path := filepath.Join(t.TempDir(), "s")
	l, err := net.Listen("unix", path)
	require.NoError(t, err)
	var wg sync.WaitGroup
	wg.Go(func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			wg.Go(func() {
				_ = Serve(context.Background(), c, s.options())
			})
		}
	})
	script := `
h.add_meta_context("base:allocation")
h.set_export_name("disk")
h.connect_unix("` + path + `")
assert h.get_size() == 1 << 20
assert h.can_multi_conn() and h.can_fua() and h.can_trim() and h.can_zero() and h.can_df()
h.pwrite(b"hello", 4096)
assert h.pread(7, 4095) == b"\0hello\0"
h.pwrite(b"x" * 300000, 500000, nbd.CMD_FLAG_FUA)
assert h.pread(300000, 500000) == b"x" * 300000
h.trim(4096, 4096); h.zero(100, 500000); h.flush()
seen = []
h.block_status(1 << 20, 0, lambda c, off, e, err: seen.append((c, off, list(e))))
assert seen[0][0] == "base:allocation" and sum(seen[0][2][0::2]) == 1 << 20, seen
try:
    h.pread(10, (1 << 20) - 5)
    assert False
except nbd.Error as e:
    assert e.errnum == 22, e
h.shutdown()
`
	shell := exec.Command("/usr/bin/nbdsh", "-c", script)
	shell.Env = append(os.Environ(), "PATH=/usr/bin:/bin") // with the Python that the library is installed for
	out, err := shell.CombinedOutput()
	require.NoError(t, err, "%s", out)
	out, err = exec.Command("nbdinfo", "--list", "nbd+unix:///?socket="+path).CombinedOutput()
	require.NoError(t, err, "%s", out)
	require.Contains(t, string(out), `export="fixed"`)
	require.NoError(t, l.Close())
	wg.Wait()
}
