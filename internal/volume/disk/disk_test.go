package disk

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"sync/atomic"
	"testing"
	"time"

	"candidharbor/core/object"
	"candidharbor/internal/store"

	"github.com/stretchr/testify/require"
)

// model is a disk beside what it is to hold, in plain bytes.
type model struct {
	t     *testing.T
	r     *rand.Rand
	seed  uint64
	h     *host
	st    *store.Store
	far   *farSite
	d     *Disk
	now   time.Time
	block uint32
	n     int // disks made so far, for names

	bytes   []byte
	may     map[int64][][]byte // what a sector may be after a power cut: as at the last flush, or any later write
	taken   []snapshot
	trace   []string
	flushes int
	off     bool // the power is gone, and what is done fails
}

type snapshot struct {
	stored Stored
	bytes  []byte
}

func newModel(t *testing.T, seed uint64) *model {
	st, err := store.Open(filepath.Join(t.TempDir(), "store"),
		store.Options{Key: ed25519.NewKeyFromSeed(make([]byte, 32))})
	require.NoError(t, err)
	t.Cleanup(func() { st.Close() })
	m := &model{t: t, r: rand.New(rand.NewPCG(seed, 7)), seed: seed, h: newHost(seed), st: st, far: newFarSite(t, seed),
		block: []uint32{4096, 16384, 65536}[seed%3],
		now:   time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)}
	m.create(Shape{Size: int64(m.r.IntN(60)+1)*4096*int64(1+seed%3) + int64(m.r.IntN(8))*512,
		Block: m.block}, nil)
	return m
}

func (m *model) say(format string, args ...any) {
	m.trace = append(m.trace, fmt.Sprintf(format, args...))
}

func (m *model) options() Options {
	image, err := m.h.Open(m.image())
	require.NoError(m.t, err)
	return Options{Image: image, Files: disksFiles{m.h, m.n}, Store: m.st, Owner: "disk" + strconv.Itoa(m.n),
		Fetch: m.far.fetch, Now: func() time.Time { return m.now }, AsideRoom: 1 << 20, AsideMemory: 32 << 10}
}

func (m *model) image() string { return fmt.Sprintf("image-%d", m.n) }

// disksFiles are the files of one disk of a host.
type disksFiles struct {
	*host
	n int
}

func (f disksFiles) name(name string) string { return fmt.Sprintf("%d/%s", f.n, name) }

func (f disksFiles) Open(name string) (File, error)   { return f.host.Open(f.name(name)) }
func (f disksFiles) Read(name string) ([]byte, error) { return f.host.Read(f.name(name)) }
func (f disksFiles) Replace(name string, data []byte) error {
	return f.host.Replace(f.name(name), data)
}
func (f disksFiles) Remove(name string) error { return f.host.Remove(f.name(name)) }

func (m *model) create(shape Shape, bytes []byte) {
	m.n++
	require.NoError(m.t, Create(m.options(), shape))
	m.bytes = make([]byte, shape.Size)
	copy(m.bytes, bytes)
	m.flushed()
	m.open()
}

func (m *model) open() {
	var err error
	m.d, err = Open(m.options())
	m.ok(err)
}

func (m *model) ok(err error) bool {
	m.t.Helper()
	if err != nil && m.h.isOff() {
		m.off = true
		return false
	}
	if err != nil {
		m.stop("%v", err)
	}
	return !m.off
}

func (m *model) stop(format string, args ...any) {
	m.t.Helper()
	for _, s := range m.trace[max(0, len(m.trace)-60):] {
		m.t.Log(s)
	}
	m.t.Fatalf("seed %d: %s", m.seed, fmt.Sprintf(format, args...))
}

func (m *model) flushed() {
	m.may = map[int64][][]byte{}
	m.flushes++
}

// wrote notes what stands in a stretch now.
func (m *model) wrote(off, n int64, to []byte) {
	for at := off / sector; at <= (off+n-1)/sector; at++ {
		end := min((at+1)*sector, int64(len(m.bytes)))
		if m.may[at] == nil {
			m.may[at] = [][]byte{bytes.Clone(m.bytes[at*sector : end])}
		}
	}
	copy(m.bytes[off:], to)
	for at := off / sector; at <= (off+n-1)/sector; at++ {
		m.may[at] = append(m.may[at], bytes.Clone(m.bytes[at*sector:min((at+1)*sector, int64(len(m.bytes)))]))
	}
}

func (m *model) stretch() (off, n int64) {
	size := int64(len(m.bytes))
	off = m.r.Int64N(size)
	n = 1 + m.r.Int64N(min(size-off, []int64{700, 4096, 9000, 1 << 17}[m.r.IntN(4)]))
	if m.r.IntN(2) == 0 { // aligned, as filesystems do
		off = off / 4096 * 4096
		n = min((n+4095)/4096*4096, size-off)
	}
	return off, n
}

// change makes one write of some kind.
func (m *model) change() {
	off, n := m.stretch()
	fua := m.r.IntN(20) == 0
	ctx := context.Background()
	switch m.r.IntN(6) {
	case 0:
		m.say("trim %d+%d fua %v", off, n, fua)
		block := int64(m.block)
		first, end := (off+block-1)/block*block, (off+n)/block*block
		if off+n == int64(len(m.bytes)) {
			end = off + n
		}
		if first < end {
			m.wrote(first, end-first, make([]byte, end-first))
		}
		fua = m.ok(m.d.Trim(ctx, off, n, fua)) && fua
	case 1:
		allocate := m.r.IntN(2) == 0
		m.say("zero %d+%d allocate %v fua %v", off, n, allocate, fua)
		m.wrote(off, n, make([]byte, n))
		fua = m.ok(m.d.Zero(ctx, off, n, allocate, fua)) && fua
	default:
		p := make([]byte, n)
		if m.r.IntN(8) > 0 {
			for i := range p {
				p[i] = byte(m.r.Uint32())
			}
		}
		m.say("write %d+%d fua %v", off, n, fua)
		m.wrote(off, n, p)
		if m.r.IntN(2) == 0 && !fua && m.d.WriteNoWait(p, off) {
			break
		}
		fua = m.ok(m.d.WriteAt(ctx, p, off, fua)) && fua
	}
	if fua {
		m.say("it is flushed")
		m.flushed()
	}
}

func (m *model) read() []byte {
	p := make([]byte, len(m.bytes))
	m.ok(m.d.ReadAt(p, 0))
	return p
}

func (m *model) check() {
	m.t.Helper()
	if got := m.read(); !bytes.Equal(got, m.bytes) {
		at := 0
		for got[at] == m.bytes[at] {
			at++
		}
		m.stop("byte %d (block %d) differs", at, at/int(m.block))
	}
	off, n := m.stretch()
	extents, err := m.d.Extents(off, n)
	m.ok(err)
	for _, e := range extents {
		if e.Zero && !object.AllZero(m.bytes[off:off+e.Length]) {
			m.stop("%d+%d is told to be zeros", off, e.Length)
		}
		off, n = off+e.Length, n-e.Length
	}
	if n != 0 {
		m.stop("%d bytes are in no extent", n)
	}
}

// storedBytes reads what a stored map says.
func (m *model) storedBytes(s Stored) []byte {
	p := make([]byte, s.Size)
	o := newOrigin(m.st, s, m.block)
	block := int64(m.block)
	for b := range object.Blocks(s.Size, m.block) {
		m.ok(o.read(p[b*block:min((b+1)*block, s.Size)], b, 0))
	}
	return p
}

// flush makes all durable, with writes going on meanwhile.
func (m *model) flush() {
	m.say("flush")
	before, all := m.may, m.flushes
	m.flushed()
	done := make(chan error)
	go func() { done <- m.d.Flush(context.Background()) }()
	for range m.r.IntN(3) {
		m.change()
	}
	if m.ok(<-done) || m.flushes > all+1 { // or a write made it all durable meanwhile
		return
	}
	for at, versions := range m.may { // it did not come about
		before[at] = append(before[at], versions...)
	}
	m.may = before
}

func (m *model) tick() {
	m.now = m.now.Add(time.Duration(m.r.IntN(120)) * time.Second)
	m.say("tick")
	m.ok(m.d.Tick(context.Background()))
}

// take stores an instant, with writes going on meanwhile.
func (m *model) take() {
	all, err := Freeze(m.d)
	if !m.ok(err) {
		return
	}
	in, was := all[0], bytes.Clone(m.bytes)
	if m.r.IntN(6) == 0 {
		m.say("instant, given up")
		for range m.r.IntN(4) {
			m.change()
		}
		m.ok(in.GiveUp())
		return
	}
	m.say("instant")
	w := m.st.NewWriter(m.st.NewLease())
	defer w.Close()
	for range m.r.IntN(4) {
		m.change()
	}
	if m.r.IntN(3) == 0 {
		m.tick()
	}
	type outcome struct {
		h   Harvested
		err error
	}
	done := make(chan outcome)
	go func() {
		h, err := in.Harvest(context.Background(), w, nil)
		done <- outcome{h, err}
	}()
	for range m.r.IntN(12) {
		m.change()
	}
	got := <-done
	if !m.ok(got.err) {
		return
	}
	m.ok(w.Flush())
	for range m.r.IntN(3) {
		m.change()
	}
	if !m.ok(in.Stored(got.h.Map)) {
		return
	}
	m.say("stored: %d blocks", got.h.Changed)
	m.taken = append(m.taken, snapshot{got.h.Map, was})
	if got := m.storedBytes(got.h.Map); !bytes.Equal(got, was) {
		at := 0
		for got[at] == was[at] {
			at++
		}
		m.stop("the instant differs at byte %d (block %d)", at, at/int(m.block))
	}
}

func (m *model) kill() { // the process ends; what it wrote stays
	m.say("kill")
	if m.r.IntN(3) == 0 {
		_, err := Freeze(m.d) // in the middle of an instant
		m.ok(err)
		for range m.r.IntN(4) {
			m.change()
		}
	}
	m.open()
}

func (m *model) cut() {
	m.say("power cut")
	m.h.offAfter(m.r.IntN(60)) // in the middle of whatever
	for !m.off {
		switch m.r.IntN(9) {
		case 0, 1:
			m.flush()
		case 2:
			m.take()
		case 3:
			m.tick()
		case 4:
			m.fill()
		case 5:
			m.arrive()
		default:
			m.change()
		}
	}
	m.h.cut()
	m.off = false
	m.say("power again")
	m.open()
	got := m.read()
	for at := int64(0); at*sector < int64(len(got)); at++ {
		end := min((at+1)*sector, int64(len(got)))
		is, ok := got[at*sector:end], false
		for _, v := range m.may[at] {
			ok = ok || bytes.Equal(v, is)
		}
		if m.may[at] == nil {
			ok = bytes.Equal(is, m.bytes[at*sector:end])
		}
		if !ok {
			m.stop("sector %d (block %d) is nothing that it was since the last flush: %x of %x, %x", at,
				at*sector/int64(m.block), is[:8], heads(m.may[at]), m.bytes[at*sector:at*sector+8])
		}
	}
	m.bytes = got
	m.flushed()
}

func heads(all [][]byte) (out [][]byte) {
	for _, v := range all {
		out = append(out, v[:8])
	}
	return out
}

func (m *model) step() {
	switch k := m.r.IntN(110); {
	case k < 60:
		m.change()
	case k < 70:
		m.flush()
	case k < 80:
		m.take()
	case k < 84:
		m.kill()
	case k < 88:
		m.cut()
	case k < 92:
		m.tick()
	case k < 94:
		m.say("close and open")
		m.ok(m.d.Close())
		m.flushed()
		m.open()
	case k < 96 && len(m.taken) > 0:
		s := m.taken[m.r.IntN(len(m.taken))]
		m.say("a clone of %.12s", s.stored.Map)
		m.ok(m.d.Close())
		m.create(Shape{Size: s.stored.Size, Block: m.block, Origin: s.stored}, s.bytes)
	case k < 97:
		m.fill()
	case k < 98:
		m.grow()
	case k < 100 && len(m.taken) > 0:
		m.goBack()
	case k < 101:
		m.cutReshaping()
	case k < 103:
		m.goBackFar()
	case k < 105:
		m.arrive()
	default:
		m.check()
	}
}

// fill brings some or all of what comes from the origin into the image, with writes going on meanwhile. Then nothing is
// read from the store.
func (m *model) fill() {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	left := m.r.Int64N(40)
	m.say("fill %d", left)
	done := make(chan error)
	go func() {
		_, err := m.d.Fill(ctx, func(int64) {
			if left--; left < 0 {
				cancel()
			}
		})
		done <- err
	}()
	for range m.r.IntN(6) {
		m.change()
	}
	err := <-done
	if errors.Is(err, context.Canceled) || !m.ok(err) {
		return
	}
	alone, err := m.d.LetOriginGo(context.Background())
	if m.ok(err) && (!alone || m.d.Unfilled() > 0) {
		m.stop("%d blocks come from the origin when all is filled", m.d.Unfilled())
	}
}

func (m *model) grow() {
	size := int64(len(m.bytes)) + int64(1+m.r.IntN(40))*512
	m.say("grow to %d", size)
	if !m.ok(m.d.Grow(context.Background(), size)) {
		return
	}
	m.bytes = append(m.bytes, make([]byte, size-int64(len(m.bytes)))...)
	m.flushed()
}

// cutReshaping has the power go while the disk grows or goes back: it is then as it was, or as it was to be.
func (m *model) cutReshaping() {
	if m.d.ChangedBlocks() > 0 || len(m.taken) == 0 {
		return
	}
	m.ok(m.d.Flush(context.Background()))
	s := m.taken[m.r.IntN(len(m.taken))]
	was, is := bytes.Clone(m.bytes), s.bytes
	grow, far := m.r.IntN(2) == 0, m.r.IntN(2) == 0
	if !grow && far {
		s = m.far.snapshot(m)
		is = s.bytes
	}
	if grow {
		is = append(bytes.Clone(m.bytes), make([]byte, 512*(1+m.r.IntN(20)))...)
	}
	m.h.offAfter(m.r.IntN(14))
	m.say("power cut while it changes its shape, grow %v, far %v", grow, far)
	if grow {
		m.ok(m.d.Grow(context.Background(), int64(len(is))))
	} else if far {
		m.ok(m.d.GoBackFar(context.Background(), s.stored, farFrom, m.far.lackingNodes(m, s.stored)))
	} else {
		m.ok(m.d.GoBack(context.Background(), s.stored))
	}
	m.h.cut()
	m.off = false
	m.open()
	m.bytes = make([]byte, m.d.Size())
	got := m.read()
	if !bytes.Equal(got, was) && !bytes.Equal(got, is) {
		m.stop("it is neither as it was nor as it was to be")
	}
	m.bytes = got
	m.flushed()
}

// goBack goes back to a snapshot, once all is stored.
func (m *model) goBack() {
	s := m.taken[m.r.IntN(len(m.taken))]
	if !m.d.Unwritten() && m.d.ChangedBlocks() > 0 {
		require.ErrorIs(m.t, m.d.GoBack(context.Background(), s.stored), ErrChanged)
		m.store()
	}
	m.say("back to %.12s", s.stored.Map)
	m.ok(m.d.GoBack(context.Background(), s.stored))
	m.bytes = bytes.Clone(s.bytes)
	m.flushed()
	m.check()
}

// store stores all that the disk is.
func (m *model) store() {
	all, err := Freeze(m.d)
	m.ok(err)
	w := m.st.NewWriter(m.st.NewLease())
	defer w.Close()
	h, err := all[0].Harvest(context.Background(), w, nil)
	m.ok(err)
	m.ok(w.Flush())
	m.ok(all[0].Stored(h.Map))
	m.taken = append(m.taken, snapshot{h.Map, bytes.Clone(m.bytes)})
	require.False(m.t, m.d.Unwritten(), "it is relative to what was stored")
}

func rounds(t *testing.T, least int) int {
	if n, err := strconv.Atoi(os.Getenv("CANDID_DISK_ROUNDS")); err == nil {
		return n
	}
	return least
}

// A disk through random writes, instants, kills and power cuts holds what plain bytes hold; every snapshot
// ever stored is what the disk was at its instant.
func TestDiskAgainstBytes(t *testing.T) {
	defer func(was int64) { region = was }(region)
	defer soon()()
	for seed := range uint64(rounds(t, 30)) {
		region = 3 * int64([]uint32{4096, 16384, 65536}[seed%3])
		m := newModel(t, seed)
		for range 200 {
			m.step()
		}
		m.check()
		for _, s := range m.taken {
			require.True(t, bytes.Equal(s.bytes, m.storedBytes(s.stored)), "seed %d", seed)
		}
		require.NoError(t, m.d.Close())
		require.NoError(t, m.st.Close())
	}
}

// After a sync that failed nothing is promised any more until the disk is opened again.
func TestFailedSync(t *testing.T) {
	m := newModel(t, 5)
	m.change()
	m.h.fail = func(op, name string) error {
		if op == "sync" && name == m.image() {
			return errors.New("input/output error")
		}
		return nil
	}
	require.ErrorIs(t, m.d.Flush(t.Context()), ErrFailed)
	m.h.fail = nil
	require.ErrorIs(t, m.d.Flush(t.Context()), ErrFailed)
	require.ErrorIs(t, m.d.WriteAt(t.Context(), []byte("x"), 0, false), ErrFailed)
	m.check()
	require.NoError(t, m.d.Close())
	m.open()
	m.change()
	require.NoError(t, m.d.Flush(t.Context()))
	m.check()
	require.Equal(t, m.now, m.d.Suspect(), "it is told after a start too")
	require.NoError(t, m.d.Trust())
	require.NoError(t, m.d.Close())
	m.open()
	require.Zero(t, m.d.Suspect())
}

// Whatever stands in the records of a disk, it is opened or refused, and what it shows is as long as it says.
func FuzzRecords(f *testing.F) {
	whole := func(t testing.TB) (*host, Options) {
		h := newHost(1)
		image, err := h.Open("image-1")
		require.NoError(t, err)
		opt := Options{Image: image, Files: disksFiles{h, 1}, Owner: "disk1"}
		require.NoError(t, Create(opt, Shape{Size: 5 * 4096, Block: 4096}))
		return h, opt
	}
	h, _ := whole(f)
	for i, name := range []string{stateName, durableName(1), intentName} {
		f.Add(uint8(i), 0, h.files["1/"+name].data)
	}
	f.Add(uint8(0), 1, []byte("x"))
	f.Add(uint8(1), 4100, []byte{255, 255})
	st, err := store.Open(filepath.Join(f.TempDir(), "store"),
		store.Options{Key: ed25519.NewKeyFromSeed(make([]byte, 32))})
	require.NoError(f, err)
	f.Fuzz(func(t *testing.T, which uint8, at int, put []byte) {
		h, opt := whole(t)
		opt.Store = st
		file := h.files["1/"+[]string{stateName, durableName(1), intentName}[which%3]]
		if at < 0 || at > len(file.data) {
			return
		}
		file.data = append(file.data[:at:at], put...)
		file.stable = bytes.Clone(file.data)
		d, err := Open(opt)
		if err != nil {
			return
		}
		require.NoError(t, d.ReadAt(make([]byte, d.Size()), 0))
		require.NoError(t, d.WriteAt(t.Context(), []byte("x"), d.Size()-1, true))
		require.NoError(t, d.Close())
	})
}

// Storing an instant that is cut short stores nothing: what was not looked at is not taken for unchanged.
func TestHarvestCutShort(t *testing.T) {
	m := newModel(t, 3) // in blocks of 4096
	m.create(Shape{Size: 256 * 4096, Block: 4096}, nil)
	all := bytes.Repeat([]byte("x"), 256*4096)
	require.NoError(t, m.d.WriteAt(t.Context(), all, 0, false))
	for stop := range int64(40) {
		ctx, cancel := context.WithCancel(t.Context())
		is, err := Freeze(m.d)
		require.NoError(t, err)
		w := m.st.NewWriter(m.st.NewLease())
		done := int64(0)
		_, err = is[0].Harvest(ctx, w, func(int64) {
			if atomic.AddInt64(&done, 1) > stop {
				cancel()
			}
		})
		require.ErrorIs(t, err, context.Canceled)
		require.NoError(t, is[0].GiveUp())
		w.Close()
		cancel()
		require.EqualValues(t, 256, m.d.ChangedBlocks())
	}
}

// A disk that is closed while it is filled, and opened anew, holds what is written then: nothing comes later.
func TestClosedWhileFilled(t *testing.T) {
	m := newModel(t, 3) // in blocks of 4096
	const size = 64 * 4096
	m.create(Shape{Size: size, Block: 4096}, nil)
	old, fresh := bytes.Repeat([]byte("x"), size), bytes.Repeat([]byte("y"), size)
	require.NoError(t, m.d.WriteAt(t.Context(), old, 0, false))
	is, err := Freeze(m.d)
	require.NoError(t, err)
	w := m.st.NewWriter(m.st.NewLease())
	defer w.Close()
	h, err := is[0].Harvest(t.Context(), w, nil)
	require.NoError(t, err)
	require.NoError(t, w.Flush())
	require.NoError(t, is[0].Stored(h.Map))
	for i := range int64(60) {
		m.create(Shape{Size: size, Block: 4096, Origin: h.Map}, old)
		d, begun, done := m.d, make(chan struct{}), make(chan error)
		filled := int64(0)
		go func() {
			_, err := d.Fill(t.Context(), func(int64) {
				if filled++; filled == 1+i%50 {
					close(begun)
				}
			})
			done <- err
		}()
		<-begun
		require.NoError(t, d.Close())
		m.open()
		require.NoError(t, m.d.WriteAt(t.Context(), fresh, 0, false))
		if err := <-done; err != nil {
			require.ErrorIs(t, err, ErrClosed)
		}
		require.True(t, bytes.Equal(fresh, m.read()))
		require.NoError(t, m.d.Close())
	}
}
