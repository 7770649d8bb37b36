package transfer

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"candidharbor/core/object"
	"candidharbor/internal/store"

	"github.com/stretchr/testify/require"
)

func key(n byte) ed25519.PrivateKey {
	seed := make([]byte, 32)
	seed[0] = n
	return ed25519.NewKeyFromSeed(seed)
}

func openStore(t testing.TB, n byte) *store.Store {
	dir := ""
	if _, err := os.Stat("/dev/shm"); err == nil {
		dir = "/dev/shm"
	}
	dir, err := os.MkdirTemp(dir, "carry")
	require.NoError(t, err)
	s, err := store.Open(filepath.Join(dir, "s"), store.Options{Key: key(n)})
	require.NoError(t, err)
	t.Cleanup(func() { s.Close(); os.RemoveAll(dir) })
	return s
}

// commit stores files under names and returns the snapshot.
func commit(t testing.TB, s *store.Store, seq uint64, files map[int][]byte, n int) object.ID {
	w := s.NewWriter(s.NewLease())
	defer w.Close()
	d := object.NewDirBuilder(w.Put)
	for i := range n {
		data := files[i]
		id, err := w.PutChunk(append(make([]byte, object.Headroom), data...))
		require.NoError(t, err)
		require.NoError(t, d.Add(object.Entry{Name: fmt.Appendf(nil, "%05d", i), Kind: object.File, Size: int64(len(data)),
			HasContent: true, Content: id}))
	}
	top, err := d.Finish()
	require.NoError(t, err)
	id, err := w.Commit(&object.Root{Lineage: object.LineageID{9}, Volume: "v", Origin: "a", Term: 1, Sequence: seq,
		Top: object.Entry{Kind: object.Dir, HasContent: true, Content: top}})
	require.NoError(t, err)
	return id
}

func noise(rng *rand.Rand, n int) []byte {
	b := make([]byte, n)
	for i := range b {
		b[i] = byte(rng.Uint32())
	}
	return b
}

// far is a receiving site on loopback; its connections can be cut after some bytes.
type far struct {
	t       testing.TB
	st      *store.Store
	id      *Identity
	addr    string
	cut     atomic.Int64 // bytes towards the receiver until the line is cut; negative: never
	through atomic.Int64
	handle  func(ctx context.Context, s *Stream, q *CarryRequest) error
}

func newFar(t testing.TB, trusted ed25519.PublicKey) *far {
	f := &far{t: t, st: openStore(t, 2)}
	f.cut.Store(-1)
	var err error
	f.id, err = NewIdentity(key(2))
	require.NoError(t, err)
	f.handle = func(ctx context.Context, s *Stream, q *CarryRequest) error {
		r := &Receiver{Store: f.st, Peer: trusted, Meter: &Meter{}, Knows: func(object.ID) bool {
			return true
		}, Sees: func(uint32) bool { return true }, Arrived: func(object.ID, int64) (int64, error) { return 1, nil },
			MayMark: func(*object.Mark, ed25519.PublicKey) bool { return true },
			Trusted: func(_ *object.Root, signer ed25519.PublicKey) error {
				if !signer.Equal(trusted) {
					return fmt.Errorf("signed by another")
				}
				return nil
			}}
		return r.Run(ctx, s, q)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				link, err := Accept(context.Background(), c, f.id, func(ed25519.PublicKey) bool { return true })
				if err != nil {
					return
				}
				_ = link.Serve(context.Background(), func(ctx context.Context, _ *Link, s *Stream) {
					_, body, err := s.Request()
					if err != nil {
						return
					}
					var q CarryRequest
					if err = Decode(body, &q); err == nil {
						err = f.handle(ctx, s, &q)
					}
					if err != nil {
						s.Refuse(err)
					}
				})
			}()
		}
	}()
	f.addr = f.proxy(l.Addr().String())
	return f
}

// proxy forwards to the receiver and cuts the line when its allowance is used up.
func (f *far) proxy(to string) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(f.t, err)
	f.t.Cleanup(func() { l.Close() })
	go func() {
		for {
			in, err := l.Accept()
			if err != nil {
				return
			}
			out, err := net.Dial("tcp", to)
			if err != nil {
				in.Close()
				continue
			}
			go func() { io.Copy(in, out); in.Close() }()
			go func() {
				defer in.Close()
				defer out.Close()
				buf := make([]byte, 4096)
				for {
					n, err := in.Read(buf)
					f.through.Add(int64(n))
					if left := f.cut.Load(); left >= 0 {
						if int64(n) >= left {
							f.cut.Store(-1)
							out.Write(buf[:left])
							return
						}
						f.cut.Add(int64(-n))
					}
					if err != nil {
						return
					}
					if _, err := out.Write(buf[:n]); err != nil {
						return
					}
				}
			}()
		}
	}()
	return l.Addr().String()
}

func (f *far) carry(st *store.Store, id object.ID, bases ...object.ID) (*Meter, error) {
	me, err := NewIdentity(key(1))
	require.NoError(f.t, err)
	ctx, cancel := context.WithTimeout(context.Background(), 60*time.Second)
	defer cancel()
	l, err := Dial(ctx, f.addr, me, f.id.Public())
	if err != nil {
		return nil, err
	}
	defer l.Close()
	c := &Sender{Store: st, Meter: &Meter{}, Request: CarryRequest{Lineage: object.LineageID{9}, Volume: "v", Origin: "a",
		Root: id, Bases: bases}}
	return c.Meter, c.Run(ctx, l)
}

func publicOf(n byte) ed25519.PublicKey { return key(n).Public().(ed25519.PublicKey) }

func requireWhole(t testing.TB, st *store.Store, id object.ID) {
	root, _, err := st.Root(id)
	require.NoError(t, err)
	n := 0
	require.NoError(t, object.WalkDir(st.Get, root.Tree(), nil, func(e object.Entry) error {
		n++
		return object.WalkContent(st.Get, e.Content, 0, func(object.Span) error { return nil })
	}))
	require.Positive(t, n)
}

func TestCarryOnlyWhatIsMissing(t *testing.T) {
	src := openStore(t, 1)
	f := newFar(t, publicOf(1))
	rng := rand.New(rand.NewPCG(1, 1))
	files := map[int][]byte{}
	for i := range 1000 {
		files[i] = noise(rng, 4000)
	}
	a := commit(t, src, 1, files, 1000)
	m, err := f.carry(src, a)
	require.NoError(t, err)
	requireWhole(t, f.st, a)
	require.Equal(t, m.TotalBytes.Load(), m.ThereBytes.Load(), "all of it is durable there")
	first := m.SentBytes.Load()
	var changed int64
	for i := 0; i < 1000; i += 100 {
		files[i] = noise(rng, 4000)
		changed += 4000
	}
	b := commit(t, src, 2, files, 1000)
	m, err = f.carry(src, b, a)
	require.NoError(t, err)
	requireWhole(t, f.st, b)
	require.Less(t, m.WireBytes.Load(), first/20)
	require.Greater(t, m.SentBytes.Load(), changed)
	m, err = f.carry(src, b, a)
	require.NoError(t, err)
	require.Zero(t, m.SentBytes.Load())
	require.Less(t, m.WireBytes.Load(), int64(1000), "nothing changed: one small exchange")
	// What the receiver has from another lineage counts, although no base is common.
	require.NoError(t, f.st.RemoveRoots(a))
	m, err = f.carry(src, commit(t, src, 3, files, 900))
	require.NoError(t, err)
	require.Less(t, m.SentBytes.Load(), first/20)
}

// Cut at any byte, a carry leaves no half snapshot, goes on where it was, and never
// sends again what arrived.
func TestCutAndResume(t *testing.T) {
	src := openStore(t, 1)
	rng := rand.New(rand.NewPCG(2, 2))
	files := map[int][]byte{}
	for i := range 300 {
		files[i] = noise(rng, 30_000)
	}
	id := commit(t, src, 1, files, 300)
	f := newFar(t, publicOf(1))
	cuts, sent := 0, int64(0)
	for {
		f.cut.Store(rng.Int64N(3 << 20))
		m, err := f.carry(src, id)
		if m != nil {
			sent += m.SentBytes.Load()
		}
		if err == nil {
			require.Equal(t, m.TotalBytes.Load(), m.ThereBytes.Load())
			break
		}
		if m != nil {
			have := f.st.Usage().StoredBytes
			require.LessOrEqual(t, m.ThereBytes.Load(), have, "no more counts as there than is durable there")
		}
		cuts++
		require.False(t, f.st.HasRoot(id), "a half-carried snapshot is not visible")
		require.Less(t, cuts, 100)
		// Whatever a sweep does meanwhile, the pieces stay.
		if cuts%3 == 0 {
			_, err := f.st.Sweep(context.Background(), store.SweepOptions{MinDead: 0.0001})
			require.NoError(t, err)
		}
	}
	f.cut.Store(-1)
	requireWhole(t, f.st, id)
	require.Greater(t, cuts, 2)
	needs, err := src.Referenced(id)
	require.NoError(t, err)
	// A cut loses what was on its way: at most the frames in flight each time.
	require.Less(t, sent, needs+int64(cuts)*(5<<20))
	res, err := f.st.Verify(context.Background(), store.VerifyOptions{})
	require.NoError(t, err)
	require.Empty(t, res.Damage)
}

func TestOtherKeyIsRefused(t *testing.T) {
	src := openStore(t, 1)
	f := newFar(t, publicOf(1))
	commit(t, src, 1, map[int][]byte{0: []byte("x")}, 1)
	me, err := NewIdentity(key(1))
	require.NoError(t, err)
	_, err = Dial(context.Background(), f.addr, me, publicOf(7))
	var ke *KeyError
	require.ErrorAs(t, err, &ke)
	require.Zero(t, f.st.Usage().Objects)
	// A root signed by anyone but the paired site does not enter.
	other := openStore(t, 5)
	id := commit(t, other, 1, map[int][]byte{0: []byte("x")}, 1)
	_, err = f.carry(other, id)
	require.ErrorContains(t, err, "signed by another")
	require.False(t, f.st.HasRoot(id))
}

// Peers that lie get nowhere: nothing becomes visible.
func TestLyingSender(t *testing.T) {
	src := openStore(t, 1)
	id := commit(t, src, 1, map[int][]byte{0: []byte("honest"), 1: []byte("bytes")}, 2)
	record, err := src.RootRecord(id)
	require.NoError(t, err)
	root, _, err := src.Root(id)
	require.NoError(t, err)
	dir, err := src.Record(root.Tree(), nil)
	require.NoError(t, err)
	for name, lie := range map[string]func(s *Stream) error{
		"withholds the objects": func(s *Stream) error { return s.send(frameCommit, carryCommit{Root: record}) },
		"sends a parent without its children": func(s *Stream) error {
			return s.raw(frameRecords, dir)
		},
		"sends a record with another content": func(s *Stream) error {
			bad := append([]byte(nil), dir...)
			bad[len(bad)-1] ^= 1
			return s.raw(frameRecords, bad)
		},
		"sends rubbish": func(s *Stream) error {
			return s.raw(frameRecords, []byte("rubbish that is no record at all, and long enough"))
		},
		"offers a broken list":   func(s *Stream) error { return s.raw(frameOffer, make([]byte, 33)) },
		"offers without end":     func(s *Stream) error { return s.raw(frameOffer, make([]byte, 32*(offerSize+1))) },
		"sends an unknown frame": func(s *Stream) error { return s.raw(99, nil) },
		"commits somebody's record": func(s *Stream) error {
			return s.send(frameCommit, carryCommit{Root: []byte("no record")})
		},
		"announces a giant frame": func(s *Stream) error {
			_, err := s.w.Write([]byte{byte(frameRecords), 0xff, 0xff, 0xff, 0xff})
			return err
		},
	} {
		f := newFar(t, publicOf(1))
		me, err := NewIdentity(key(1))
		require.NoError(t, err)
		l, err := Dial(context.Background(), f.addr, me, f.id.Public())
		require.NoError(t, err)
		s, err := l.Open(OpCarry, CarryRequest{Lineage: object.LineageID{9}, Volume: "v", Origin: "a", Root: id})
		require.NoError(t, err)
		var begin carryBegin
		require.NoError(t, s.Answer(&begin))
		require.NoError(t, lie(s))
		require.NoError(t, s.flush())
		_, _, err = s.read()
		var refusal *Refusal
		require.ErrorAs(t, err, &refusal, name)
		require.Empty(t, f.st.Roots(), name)
		l.Close()
	}
}

func FuzzFrames(f *testing.F) {
	f.Add([]byte{byte(frameRequest), 0, 0, 0, 1, 0xa0})
	f.Fuzz(func(t *testing.T, b []byte) {
		a, c := net.Pipe()
		go func() { c.Write(b); c.Close() }()
		s := newStream(a)
		for {
			if _, _, err := s.read(); err != nil {
				break
			}
		}
		a.Close()
	})
}

// What lies in bundles travels as records, and is counted as what went: nothing is said to have been there that was
// not.
func TestCarryOfBundles(t *testing.T) {
	src := openStore(t, 1)
	files := map[int][]byte{}
	for i := range 300 {
		files[i] = bytes.Repeat(fmt.Appendf(nil, "note %d of the fen, ", i), 1+i%200)
	}
	first := commit(t, src, 1, files, 200)
	_, err := src.Sweep(context.Background(), store.SweepOptions{Settle: true})
	require.NoError(t, err)
	f := newFar(t, publicOf(1))
	m, err := f.carry(src, first)
	require.NoError(t, err)
	require.Equal(t, m.OfferedObjects.Load(), m.SentObjects.Load())
	require.Equal(t, m.OfferedBytes.Load(), m.SentBytes.Load())
	require.Equal(t, m.TotalBytes.Load(), m.SentBytes.Load())
	require.Greater(t, m.SentBytes.Load(), src.Usage().StoredBytes, "each for itself they are larger")
	requireWhole(t, f.st, first)
	second := commit(t, src, 2, files, 300)
	_, err = src.Sweep(context.Background(), store.SweepOptions{Settle: true})
	require.NoError(t, err)
	m, err = f.carry(src, second) // nobody says that the first is there
	require.NoError(t, err)
	require.Greater(t, m.OfferedObjects.Load(), m.SentObjects.Load()+150)
	require.Greater(t, m.OfferedBytes.Load(), m.SentBytes.Load())
	require.Equal(t, m.OfferedBytes.Load(), m.TotalBytes.Load())
	requireWhole(t, f.st, second)
}

// BenchmarkCarry carries a first snapshot of text-like files over loopback, both ends in
// this process: what a CPU profile of it shows is what a carry costs.
func BenchmarkCarry(b *testing.B) {
	src := openStore(b, 1)
	rng := rand.New(rand.NewPCG(5, 5))
	words := make([][]byte, 4000)
	for i := range words {
		words[i] = fmt.Appendf(nil, "w%x ", rng.Uint32()>>uint(rng.IntN(28)))
	}
	files := map[int][]byte{}
	var total int64
	for i := range 6000 {
		for len(files[i]) < 14_000 {
			files[i] = append(files[i], words[rng.IntN(len(words))]...)
		}
		total += int64(len(files[i]))
	}
	id := commit(b, src, 1, files, 6000)
	b.SetBytes(total)
	for b.Loop() {
		f := newFar(b, publicOf(1))
		_, err := f.carry(src, id)
		require.NoError(b, err)
	}
}

// Marks that come along are those that travel, of the announced snapshot, of known
// kinds: a peer expires nothing here and names no file.
func TestLyingMarks(t *testing.T) {
	src := openStore(t, 1)
	id := commit(t, src, 1, map[int][]byte{0: []byte("bytes")}, 1)
	f := newFar(t, publicOf(1))
	_, err := f.carry(src, id)
	require.NoError(t, err)
	me, err := NewIdentity(key(1))
	require.NoError(t, err)
	before, err := filepath.Glob(filepath.Join(f.st.Dir(), "..", "*"))
	require.NoError(t, err)
	send := func(m object.Mark) error {
		body, err := encode(m)
		require.NoError(t, err)
		record, err := object.SignRecord(key(1), "mark", body)
		require.NoError(t, err)
		l, err := Dial(context.Background(), f.addr, me, f.id.Public())
		require.NoError(t, err)
		defer l.Close()
		s, err := l.Open(OpCarry, CarryRequest{Lineage: object.LineageID{9}, Volume: "v", Origin: "a", Root: id})
		require.NoError(t, err)
		var begin carryBegin
		require.NoError(t, s.Answer(&begin))
		require.NoError(t, s.send(frameCommit, carryCommit{Marks: [][]byte{record}}))
		require.NoError(t, s.flush())
		var done carryDone
		return s.Answer(&done)
	}
	for say, m := range map[string]object.Mark{
		"for this place alone":     {Kind: object.MarkExpiry, Root: id, Until: 1, Place: "b"},
		"mark of kind recall":      {Kind: object.MarkRecall, Root: id},
		"mark of kind arrival":     {Kind: object.MarkArrival, Root: id, At: 1},
		"unknown kind":             {Kind: "../../../stray", Root: id},
		"another snapshot":         {Kind: object.MarkNote, Root: object.ID{1}, Text: "x"},
		`unknown kind ""`:          {Root: id},
		`unknown kind "sightings"`: {Kind: "sightings", Root: id},
	} {
		require.ErrorContains(t, send(m), say)
	}
	marks, _, err := f.st.Marks(id)
	require.NoError(t, err)
	require.Empty(t, marks)
	after, err := filepath.Glob(filepath.Join(f.st.Dir(), "..", "*"))
	require.NoError(t, err)
	require.Equal(t, before, after)
	require.NoError(t, send(object.Mark{Kind: object.MarkKeep, Root: id, Text: "audit"}))
	marks, _, err = f.st.Marks(id)
	require.NoError(t, err)
	require.Equal(t, "audit", marks[0].Text)
}
