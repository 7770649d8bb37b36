package tree

import (
	"errors"
	"io"
	"math/rand/v2"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"candidharbor/core/object"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// shelf holds the objects of one file, and knows what was asked for.
type shelf struct {
	objects map[object.ID][]byte
	file    object.Entry
	data    []byte
	before  func(id object.ID) error // of chunks

	mu    sync.Mutex
	asked map[object.ID]int
}

func (s *shelf) put(kind object.Kind, children []object.ID, payload []byte) (object.ID, error) {
	raw := object.Encode(nil, kind, children, payload)
	id := object.Sum(raw)
	s.objects[id] = raw
	return id, nil
}

func (s *shelf) get(id object.ID) (object.Envelope, error) {
	env, err := object.Decode(s.objects[id])
	if err != nil {
		return env, err
	}
	if env.Kind == object.KindChunk {
		s.mu.Lock()
		s.asked[id]++
		s.mu.Unlock()
		if s.before != nil {
			if err := s.before(id); err != nil {
				return object.Envelope{}, err
			}
		}
	}
	return env, nil
}

// newShelf has a file of chunks of the given sizes; of a negative size are zeros.
func newShelf(t require.TestingT, sizes []int) *shelf {
	s := &shelf{objects: map[object.ID][]byte{}, asked: map[object.ID]int{}}
	b := object.NewListBuilder(s.put)
	for i, n := range sizes {
		if n < 0 {
			s.data = append(s.data, make([]byte, -n)...)
			require.NoError(t, b.Zeros(int64(-n)))
			continue
		}
		raw := noise(uint64(i%50), n) // some come again
		s.data = append(s.data, raw...)
		id, err := s.put(object.KindChunk, nil, raw)
		require.NoError(t, err)
		require.NoError(t, b.Chunk(id, n))
	}
	id, total, has, err := b.Finish()
	require.NoError(t, err)
	s.file = object.Entry{Kind: object.File, Size: total, Content: id, HasContent: has}
	return s
}

// Whatever is read, in whichever order and by how many at once, is what the file has.
func TestContentAnywhere(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		sizes := rapid.SliceOfN(rapid.IntRange(-90_000, 90_000).Filter(func(n int) bool { return n != 0 }), 1, 90).
			Draw(rt, "sizes")
		s := newShelf(rt, sizes)
		fails := rapid.IntRange(0, 4).Draw(rt, "fails") // some chunks, the first time
		failed := sync.Map{}
		s.before = func(id object.ID) error {
			if _, again := failed.LoadOrStore(id, true); !again && fails > 0 && int(id[0])%5 < fails {
				return errors.New("not now")
			}
			return nil
		}
		c := NewContent(s.get, &s.file)
		var all sync.WaitGroup
		for g := range rapid.IntRange(1, 3).Draw(rt, "readers") {
			seed := rapid.Uint64().Draw(rt, "seed")
			all.Go(func() {
				rng := rand.New(rand.NewPCG(seed, uint64(g)))
				at := int64(0)
				for range 60 {
					if rng.IntN(6) == 0 {
						at = rng.Int64N(s.file.Size)
					}
					p := make([]byte, 1+rng.IntN(200_000))
					n, err := c.ReadAt(p, at)
					require.Equal(rt, s.data[at:at+int64(n)], p[:n])
					switch {
					case err == nil:
						require.Len(rt, p, n)
					case err == io.EOF:
						require.EqualValues(rt, s.file.Size, at+int64(n))
						n = 0
					default:
						require.EqualError(rt, err, "not now")
					}
					if at += int64(n); at >= s.file.Size {
						at = 0
					}
				}
			})
		}
		all.Wait()
		c.Close()
		require.Zero(rt, aheadOf.Load())
	})
}

// Who reads in order has each chunk read once, before it is asked for; who reads here and there has nothing read that
// was not asked for. Closing waits for what is under way.
func TestContentIsReadAhead(t *testing.T) {
	sizes := make([]int, 49) // all chunks differ
	for i := range sizes {
		sizes[i] = 64 << 10
	}
	synctest.Test(t, func(t *testing.T) {
		s := newShelf(t, sizes)
		c := NewContent(s.get, &s.file)
		p := make([]byte, 128<<10)
		for at := int64(0); at < 8*int64(len(p)); at += int64(len(p)) {
			_, err := c.ReadAt(p, at)
			require.NoError(t, err)
			synctest.Wait()
		}
		require.Len(t, s.asked, 16+chunksAhead)
		gate := make(chan struct{})
		s.before = func(object.ID) error { <-gate; return nil }
		_, err := c.ReadAt(p, 8*int64(len(p))) // it is here; more is begun
		require.NoError(t, err)
		closed := false
		go func() { c.Close(); closed = true }()
		synctest.Wait()
		require.False(t, closed)
		close(gate)
		synctest.Wait()
		require.True(t, closed)
		for id, n := range s.asked {
			require.Equal(t, 1, n, id)
		}
		s.before = nil
		before := len(s.asked)
		for at := int64(9); at < 12; at++ { // it still reads, and nothing ahead
			_, err := c.ReadAt(p, at*int64(len(p)))
			require.NoError(t, err)
		}
		synctest.Wait()
		require.LessOrEqual(t, len(s.asked), before+2)
	})
	synctest.Test(t, func(t *testing.T) {
		s := newShelf(t, sizes)
		c := NewContent(s.get, &s.file)
		defer c.Close()
		p := make([]byte, 10)
		for _, k := range []int64{40, 3, 25, 12, 33, 20} {
			for range 30 {
				_, err := c.ReadAt(p, k<<16)
				require.NoError(t, err)
			}
		}
		synctest.Wait()
		require.Len(t, s.asked, 6)
		for _, n := range s.asked {
			require.Equal(t, 1, n)
		}
	})
	require.Zero(t, aheadOf.Load())
}

// Several requests at a time, as a kernel makes them that reads ahead itself, have next to no chunk read twice.
func TestContentForAKernel(t *testing.T) {
	sizes := make([]int, 49*8)
	for i := range sizes {
		sizes[i] = 60<<10 + i
	}
	for _, size := range []int64{128 << 10, 1 << 20} {
		synctest.Test(t, func(t *testing.T) {
			s := newShelf(t, sizes)
			s.before = func(object.ID) error { time.Sleep(time.Millisecond); return nil } // by the bubble's clock
			c := NewContent(s.get, &s.file)
			defer c.Close()
			began := time.Now()
			var next atomic.Int64
			var all sync.WaitGroup
			for range 3 {
				all.Go(func() {
					p := make([]byte, size)
					for at := next.Add(size) - size; at < s.file.Size; at = next.Add(size) - size {
						_, err := c.ReadAt(p, at)
						require.True(t, err == nil || err == io.EOF)
					}
				})
			}
			all.Wait()
			asked := 0
			for _, n := range s.asked {
				asked += n
			}
			require.Len(t, s.asked, len(sizes))
			require.LessOrEqual(t, asked, len(sizes)+4) // at the edges of the first requests, before it reads ahead
			require.Less(t, time.Since(began), time.Duration(len(sizes))*time.Millisecond/2)
		})
	}
}
