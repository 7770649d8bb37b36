package nbd

import (
	"bytes"
	"context"
	"errors"
	"io"
	"math/rand/v2"
	"net"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// remote opens an export of a shelf that is served over a socket.
func remote(ctx context.Context, t *testing.T, s shelf, export string) (*Remote, error) {
	l, err := net.Listen("unix", filepath.Join(t.TempDir(), "s"))
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	done := make(chan error, 1)
	go func() {
		c, err := l.Accept()
		if err == nil {
			err = Serve(context.Background(), c, s.options())
		}
		done <- err
	}()
	t.Cleanup(func() { <-done })
	conn, err := net.Dial("unix", l.Addr().String())
	require.NoError(t, err)
	return OpenRemote(ctx, conn, export)
}

// What is copied is what there is, and holes are left out; what cannot be copied is told.
func TestRemote(t *testing.T) {
	s := newShelf()
	r := rand.New(rand.NewPCG(7, 7))
	for range 40 {
		at := r.IntN(1<<20 - 20_000)
		copy(s["fixed"].bytes[at:], bytes.Repeat([]byte{byte(1 + r.IntN(255))}, r.IntN(20_000)))
	}
	from, err := remote(t.Context(), t, s, "fixed")
	require.NoError(t, err)
	require.EqualValues(t, 1<<20, from.Size())
	for _, most := range []int64{1 << 20, 4096} {
		from.most = most
		got, sum := make([]byte, 1<<20), 0
		require.NoError(t, from.Copy(t.Context(), func(p []byte, off int64) error {
			sum += copy(got[off:], p)
			return nil
		}))
		require.True(t, bytes.Equal(s["fixed"].bytes, got))
		require.Less(t, sum, 1<<20, "holes are left out")
	}
	full := errors.New("no room")
	require.ErrorIs(t, from.Copy(t.Context(), func([]byte, int64) error { return full }), full)
	require.NoError(t, from.Close())

	_, err = remote(t.Context(), t, s, "none")
	require.ErrorContains(t, err, "it has no export of that name")
	_, err = remote(t.Context(), t, s, "held")
	require.ErrorContains(t, err, `its rules do not allow it (it says: "another host holds it")`)
	ctx, cancel := context.WithCancel(t.Context())
	from, err = remote(ctx, t, s, "fixed")
	require.NoError(t, err)
	err = from.Copy(ctx, func([]byte, int64) error { cancel(); return nil })
	require.ErrorIs(t, err, context.Canceled)
	from, err = remote(t.Context(), t, s, "disk")
	require.NoError(t, err)
	s["disk"].mu.Lock()
	s["disk"].fails = io.ErrUnexpectedEOF
	s["disk"].mu.Unlock()
	require.ErrorContains(t, from.Copy(t.Context(), func([]byte, int64) error { return nil }), "error 5")
	require.NoError(t, from.Close())
}

const (
	acked  = "0003e889045565a9 00000008 00000001 00000000"
	told   = "0003e889045565a9 0000000a 00000004 00000013 00000001"
	agreed = "0003e889045565a9 0000000a 00000001 00000000"
	info   = "0003e889045565a9 00000007 00000003 "
	sized  = info + "0000000c 0000 0000000000002000 0001"
	opened = "0003e889045565a9 00000007 00000001 00000000"
)

// scripted is a connection to a server that says what it says, whatever it is told, and leaves.
type scripted struct {
	net.Conn
	*bytes.Reader
}

func (s scripted) Read(p []byte) (int, error)  { return s.Reader.Read(p) }
func (s scripted) Write(p []byte) (int, error) { return len(p), nil }
func (s scripted) SetDeadline(time.Time) error { return nil }
func (s scripted) Close() error                { return nil }

func readFrom(said []byte) error {
	r, err := OpenRemote(context.Background(), scripted{Reader: bytes.NewReader(said)}, "x")
	if err == nil {
		err = r.Copy(context.Background(), func(p []byte, off int64) error {
			if off < 0 || off+int64(len(p)) > r.size {
				panic("bytes that nobody asked for")
			}
			return nil
		})
	}
	return err
}

// upTo is what an honest server says until it is asked to read, without and with what holes there are.
var (
	upTo      = strings.Join([]string{hello, acked, agreed, sized, opened}, " ")
	upToHoles = []string{hello, acked, told, "'base:allocation", agreed, sized, opened}
)

var servers = map[string][]string{
	"it begins with":               {"'HTTP/1.1 400 Bad Request"},
	"the old form":                 {"4e42444d41474943 00420281861253 0000000000"},
	"an old form":                  {"4e42444d41474943 49484156454f5054 0002"},
	"it wants TLS":                 {hello, "0003e889045565a9 00000008 80000005 00000000"},
	"ended the connection":         {hello, acked},
	"is none":                      {hello, acked, agreed, info + "7fffffff"},
	"how large the export is":      {hello, acked, told, "'base:allocation", agreed, opened},
	"describes the export wrongly": {hello, acked, agreed, info + "0000000c 0000 ffffffffffffffff 0001"},
	"requests of 33554432 to":      {hello, acked, agreed, info + "0000000e 0003 02000000 02000000 02000000"},
	"a reply with magic":           {upTo, "'GARBAGEGARBAGEGARBAGE"},
	"what nobody asked for":        {upTo, "67446698 00000000 0000000000000063"},
	"bytes that nobody":            {upTo, "668e33ef 0001 0001 0000000000000001 0000000a 0000000000002000 0000"},
	"too few or":                   {upTo, "668e33ef 0001 0001 0000000000000001 0000000a 0000000000000000 0000"},
	"a part of a reply of kind 9":  {upTo, "668e33ef 0001 0009 0000000000000001 00000000"},
	"a stretch of nothing": {upTo,
		"668e33ef 0000 0002 0000000000000001 0000000c 0000000000000000 00000000"},
	"error 28":                      {upTo, "668e33ef 0001 8001 0000000000000001 00000006 0000001c 0000"},
	"an error of 2147483648 bytes":  {upTo, "668e33ef 0001 8001 0000000000000001 80000000"},
	"cannot read it: error 5":       {upTo, "67446698 00000005 0000000000000001"},
	"it tells nothing of a stretch": append(upToHoles[:7:7], "668e33ef 0001 0000 0000000000000001 00000000"),
	"another context": append(upToHoles[:7:7],
		"668e33ef 0001 0005 0000000000000001 0000000c 00000009 00002000 00000000"),
}

// Whatever a server says, there is an end and a reason.
func TestStrangeServers(t *testing.T) {
	for say, parts := range servers {
		require.ErrorContains(t, readFrom(raw(t, parts...)), say)
	}
	// One of before structured replies, of 8 KiB.
	plain := []string{hello, "0003e889045565a9 00000008 80000001 00000000", sized, opened,
		"67446698 00000000 0000000000000001"}
	require.NoError(t, readFrom(append(raw(t, plain...), make([]byte, 8192)...)))
}

func FuzzServer(f *testing.F) {
	for _, parts := range servers {
		f.Add(raw(f, parts...))
	}
	f.Fuzz(func(_ *testing.T, said []byte) { _ = readFrom(said) })
}

func TestAddresses(t *testing.T) {
	for text, want := range map[string]Address{
		"nbd://vm-host/disk":                      {"tcp", "vm-host:10809", "disk"},
		"nbd://[::1]:99/a%2Fb%20c":                {"tcp", "[::1]:99", "a/b c"},
		"nbd://vm-host":                           {"tcp", "vm-host:10809", ""},
		"nbd+unix:///db?socket=/run/db%20one.nbd": {"unix", "/run/db one.nbd", "db"},
	} {
		got, err := ParseAddress(text)
		require.NoError(t, err, text)
		require.Equal(t, want, got)
	}
	for text, say := range map[string]string{
		"nbds://vm-host/disk":             "nbds is not spoken here",
		"nbd:///disk":                     "nbd://HOST[:PORT]/EXPORT",
		"nbd+unix://host/d?socket=/s":     "nbd+unix:///EXPORT?socket=PATH",
		"nbd+unix:///disk":                "nbd+unix:///EXPORT?socket=PATH",
		"nbd://h/d?socket=/s":             "nbd://HOST[:PORT]/EXPORT",
		"nbd://h/d?tls-certificates=/etc": "tls-certificates=/etc, which means nothing here",
		"nbd://me@h/d":                    "more than host, port",
		"nbd:h":                           "more than host, port",
		"nbd://h/%ff":                     "no text",
		"nbd://%":                         "cannot be read",
	} {
		require.True(t, IsAddress(text))
		_, err := ParseAddress(text)
		require.ErrorContains(t, err, say, text)
	}
	require.False(t, IsAddress("/srv/nbd://x"))
	require.False(t, IsAddress("nbd"))
}
