package disk

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"errors"
	"math/rand/v2"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"candidharbor/core/object"
	"candidharbor/internal/store"

	"github.com/stretchr/testify/require"
)

// farSite is another site that has snapshots, over a line that breaks now and then.
type farSite struct {
	st *store.Store

	mu     sync.Mutex
	r      *rand.Rand
	breaks int  // one in so many requests breaks; 0: none
	away   bool // nothing comes
	hurt   map[object.ID]bool
	sent   map[object.ID]int
}

var farFrom = From{Site: "far", Root: object.Sum([]byte("root"))}

func newFarSite(t *testing.T, seed uint64) *farSite {
	st, err := store.Open(filepath.Join(t.TempDir(), "far"), store.Options{Key: ed25519.NewKeyFromSeed(make([]byte, 32))})
	require.NoError(t, err)
	t.Cleanup(func() { st.Close() })
	return &farSite{st: st, r: rand.New(rand.NewPCG(seed, 11)), breaks: 6, hurt: map[object.ID]bool{},
		sent: map[object.ID]int{}}
}

// soon has requests wait a short time for the other site, until what it returns is called.
func soon() func() {
	was, pause := patience, firstPause
	patience, firstPause = 5*time.Second, time.Millisecond
	return func() { patience, firstPause = was, pause }
}

func (f *farSite) fetch(ctx context.Context, from From, ids []object.ID, take func(object.ID, []byte) error) error {
	for _, id := range ids {
		f.mu.Lock()
		broken, hurt := f.away || f.breaks > 0 && f.r.IntN(f.breaks*len(ids)) == 0, f.hurt[id]
		if !broken {
			f.sent[id]++
		}
		f.mu.Unlock()
		if broken || from.Root != farFrom.Root {
			return errors.New("the line broke")
		}
		raw, err := f.st.Record(id, nil)
		if err != nil {
			return err
		}
		if hurt {
			raw = nil
		}
		if err := take(id, raw); err != nil {
			return err
		}
	}
	return ctx.Err()
}

// snapshot is one that only the other site has: as the disk or an earlier snapshot is, but for some blocks.
func (f *farSite) snapshot(m *model) snapshot {
	is := bytes.Clone(m.bytes)
	if len(m.taken) > 0 && m.r.IntN(2) == 0 {
		is = bytes.Clone(m.taken[m.r.IntN(len(m.taken))].bytes)
	}
	block := int(m.block)
	for range m.r.IntN(20) {
		b := m.r.IntN((len(is) + block - 1) / block)
		p := is[b*block : min((b+1)*block, len(is))]
		if m.r.IntN(5) == 0 {
			clear(p)
			continue
		}
		for i := range p {
			p[i] = byte(m.r.Uint32())
		}
	}
	return snapshot{f.put(m.t, is, m.block), is}
}

func (f *farSite) put(t *testing.T, is []byte, block uint32) Stored {
	w := f.st.NewWriter(f.st.NewLease())
	var changes []object.BlockChange
	n := object.Blocks(int64(len(is)), block)
	for b := range n {
		p := is[b*int64(block) : min((b+1)*int64(block), int64(len(is)))]
		if object.AllZero(p) {
			continue
		}
		id, err := w.Put(object.KindChunk, nil, p)
		require.NoError(t, err)
		changes = append(changes, object.BlockChange{Block: b, Slot: object.Slot{State: object.Held, Chunk: id}})
	}
	put := func(children []object.ID, fresh []bool, payload []byte) (object.ID, error) {
		return w.PutFrom(object.KindMap, children, fresh, payload)
	}
	top, err := object.ChangeMap(f.st.Get, put, object.MapTop{}, n, changes)
	require.NoError(t, err)
	require.NoError(t, w.Flush())
	return Stored{Map: top.ID, Size: int64(len(is))}
}

// lackingNodes are the records of nodes of a map that the model's store lacks.
func (f *farSite) lackingNodes(m *model, s Stored) (out [][]byte) {
	var visit func(id object.ID, level int)
	visit = func(id object.ID, level int) {
		if is, err := m.st.NewLease().Acquire(id); is || level < 0 {
			require.NoError(m.t, err)
			return
		}
		raw, err := f.st.Record(id, nil)
		require.NoError(m.t, err)
		out = append(out, raw)
		_, env, err := store.OpenRecord(raw)
		require.NoError(m.t, err)
		for _, child := range env.Children() {
			visit(child, level-1)
		}
	}
	visit(s.Map, int(s.top(m.block).Level))
	return out
}

// goBackFar goes back to a snapshot that only the other site has.
func (m *model) goBackFar() {
	s := m.far.snapshot(m)
	nodes := m.far.lackingNodes(m, s.stored)
	if !m.d.Unwritten() && m.d.ChangedBlocks() > 0 {
		require.ErrorIs(m.t, m.d.GoBackFar(context.Background(), s.stored, farFrom, nodes), ErrChanged)
		m.store()
	}
	m.say("back to %.12s of the other site", s.stored.Map)
	m.ok(m.d.GoBackFar(context.Background(), s.stored, farFrom, nodes))
	m.bytes = bytes.Clone(s.bytes)
	m.flushed()
	if m.r.IntN(2) == 0 {
		m.check()
	}
}

// arrive brings some or all of what is still at the other site, with writes going on meanwhile.
func (m *model) arrive() {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	m.say("arrive")
	stops := m.r.IntN(3) == 0
	done := make(chan error)
	go func() {
		out, err := m.d.Arrive(ctx, func(int64) {}, func(int64) {
			if stops {
				cancel()
			}
		})
		if err == nil && out.Damaged > 0 {
			err = errors.New("something is damaged there")
		}
		done <- err
	}()
	for range m.r.IntN(6) {
		m.change()
	}
	err := <-done
	if _, is := m.d.Arriving(); err == nil && is {
		m.stop("it still arrives when all has come")
	}
	m.say("arrived: %v", err)
}

// A disk that went back to what another site has is just that, before, while and after it comes. Sweeps take nothing of
// what it has, and what it has is readable without the other site.
func TestArriving(t *testing.T) {
	defer soon()()
	m := newModel(t, 3) // in blocks of 4096
	m.far.breaks = 0
	const n = 300
	m.create(Shape{Size: n * 4096, Block: 4096}, nil)
	block := func(k int) []byte { return bytes.Repeat([]byte{byte(k), byte(k >> 8), 1}, 4096)[:4096] }
	then := make([]byte, 0, n*4096)
	for k := range n {
		then = append(then, block(k)...)
	}
	require.NoError(t, m.d.WriteAt(t.Context(), then, 0, false))
	m.bytes = bytes.Clone(then)
	m.store()
	for k := 100; k < 200; k++ {
		copy(then[k*4096:], block(k+1000))
	}
	far := m.far.put(t, then, m.block)
	require.NoError(t, m.d.GoBackFar(t.Context(), far, farFrom, m.far.lackingNodes(m, far)))
	require.True(t, m.d.Unwritten())
	sweep := func() {
		_, err := m.st.Sweep(t.Context(), store.SweepOptions{})
		require.NoError(t, err)
	}
	sweep()

	m.far.away = true
	patience = 20 * time.Millisecond
	p := make([]byte, 4096)
	for k := range n {
		err := m.d.ReadAt(p, int64(k)*4096)
		if k >= 100 && k < 200 {
			require.ErrorIs(t, err, ErrUnreadable, "block %d", k)
			continue
		}
		require.NoError(t, err, "block %d", k)
		require.True(t, bytes.Equal(then[k*4096:(k+1)*4096], p), "block %d", k)
	}
	require.ErrorIs(t, m.d.WriteAt(t.Context(), []byte("x"), 150*4096+7, false), ErrUnreadable)
	_, err := Freeze(m.d) // a snapshot of it fails, and says nothing to be lost
	require.NoError(t, err)
	w := m.st.NewWriter(m.st.NewLease())
	_, err = m.d.instant.Load().Harvest(t.Context(), w, nil)
	require.ErrorIs(t, err, ErrUnreadable)
	require.NoError(t, m.d.instant.Load().GiveUp())
	w.Close()

	m.far.away = false
	patience = 5 * time.Second
	m.d.arrival.Load().until = time.Time{}
	require.NoError(t, m.d.ReadAt(p, 120*4096))
	require.True(t, bytes.Equal(then[120*4096:121*4096], p))
	require.True(t, m.d.Unwritten(), "reading is no writing")
	sweep()
	require.NoError(t, m.d.Close())
	sweep()
	m.open() // and after a start
	from, is := m.d.Arriving()
	require.True(t, is)
	require.Equal(t, "far", from.Site)

	hurt := object.Sum(object.Encode(nil, object.KindChunk, nil, block(1150)))
	m.far.hurt[hurt] = true
	out, err := m.d.Arrive(t.Context(), func(int64) {}, func(int64) {})
	require.NoError(t, err)
	require.EqualValues(t, 1, out.Damaged)
	require.ErrorIs(t, m.d.ReadAt(p, 150*4096), ErrUnreadable)
	m.far.hurt = map[object.ID]bool{}
	out, err = m.d.Arrive(t.Context(), func(int64) {}, func(int64) {})
	require.NoError(t, err)
	require.Zero(t, out.Damaged)
	_, is = m.d.Arriving()
	require.False(t, is)
	for id, times := range m.far.sent {
		if id != hurt {
			require.Equal(t, 1, times, "what came once is not fetched again")
		}
	}
	m.far.away = true
	sweep()
	m.bytes = then
	m.check()
	require.NoError(t, m.d.Close())
	sweep()
	m.open()
	m.check()
	require.Empty(t, m.st.Pins(ArrivingOwner("disk2")))
	m.store()
	require.True(t, bytes.Equal(then, m.storedBytes(m.taken[len(m.taken)-1].stored)))
}
