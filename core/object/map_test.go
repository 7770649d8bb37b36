package object_test

import (
	"maps"
	"slices"
	"testing"

	"candidharbor/core/object"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// shelf keeps objects in memory.
type shelf struct {
	t       require.TestingT
	objects map[object.ID][]byte
	read    int
}

func (s *shelf) get(id object.ID) (object.Envelope, error) {
	s.read++
	raw, ok := s.objects[id]
	require.True(s.t, ok, "nothing is read that is not there")
	return object.Decode(raw)
}

// put checks what a store relies on: that a child which is not new stands in what is there already.
func (s *shelf) put(known map[object.ID]bool) object.MapPutter {
	return func(children []object.ID, fresh []bool, payload []byte) (object.ID, error) {
		for i, c := range children {
			require.True(s.t, fresh[i] || known[c], "child %d of %d is told to be in the base", i, len(children))
		}
		raw := object.Encode(nil, object.KindMap, children, payload)
		id := object.Sum(raw)
		s.objects[id] = raw
		return id, nil
	}
}

// reach is all that a map leads to, chunks too.
func (s *shelf) reach(top object.ID) map[object.ID]bool {
	out := map[object.ID]bool{}
	var down func(id object.ID)
	down = func(id object.ID) {
		out[id] = true
		raw, ok := s.objects[id]
		if !ok {
			return
		}
		e, err := object.Decode(raw)
		require.NoError(s.t, err)
		for _, c := range e.Children() {
			down(c)
		}
	}
	if !top.IsZero() {
		down(top)
	}
	return out
}

func chunkOf(n byte) object.ID { return object.Sum([]byte{n}) }

// Maps that were changed, grown and shrunk at random say what plain slices say, have the same identity as
// one that is made at once, and differ where the slices differ.
func TestMapsAgainstSlices(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		s := &shelf{t: rt, objects: map[object.ID][]byte{}}
		sizes := rapid.SampledFrom([]int64{1, 3, 63, 64, 65, 130, 4095, 4096, 4097, 9000, 300_000})
		slot := rapid.Custom(func(rt *rapid.T) object.Slot {
			switch k := rapid.IntRange(0, 9).Draw(rt, "kind"); {
			case k < 3:
				return object.Slot{}
			case k == 3:
				return object.Slot{State: object.Lost}
			}
			return object.Slot{State: object.Held, Chunk: chunkOf(rapid.Byte().Draw(rt, "chunk"))}
		})
		type version struct {
			top    object.MapTop
			blocks int64
			says   map[int64]object.Slot
		}
		versions := []version{{says: map[int64]object.Slot{}, blocks: sizes.Draw(rt, "size")}}
		for range rapid.IntRange(1, 5).Draw(rt, "steps") {
			base := rapid.SampledFrom(versions).Draw(rt, "base")
			v := version{blocks: sizes.Draw(rt, "size"), says: map[int64]object.Slot{}}
			for b, x := range base.says {
				if b < v.blocks {
					v.says[b] = x
				}
			}
			touched := map[int64]object.Slot{}
			for range rapid.IntRange(0, 40).Draw(rt, "changes") {
				b := rapid.Int64Range(0, v.blocks-1).Draw(rt, "block")
				if rapid.Bool().Draw(rt, "near") {
					b = min(b%70, v.blocks-1)
				}
				touched[b] = slot.Draw(rt, "slot")
			}
			var changes []object.BlockChange
			for _, b := range slices.Sorted(maps.Keys(touched)) {
				changes = append(changes, object.BlockChange{Block: b, Slot: touched[b]})
				v.says[b] = touched[b]
				if touched[b].State == object.Hole {
					delete(v.says, b)
				}
			}
			var err error
			v.top, err = object.ChangeMap(s.get, s.put(s.reach(base.top.ID)), base.top, v.blocks, changes)
			require.NoError(rt, err)
			versions = append(versions, v)

			var all []object.BlockChange
			whole := true
			for _, b := range slices.Sorted(maps.Keys(v.says)) {
				all = append(all, object.BlockChange{Block: b, Slot: v.says[b]})
				whole = whole && v.says[b].State == object.Held
			}
			anew, err := object.ChangeMap(s.get, s.put(nil), object.MapTop{}, v.blocks, all)
			require.NoError(rt, err)
			if whole {
				require.Equal(rt, anew, v.top, "equal content has equal identity")
			}
			require.Equal(rt, object.MapLevel(v.blocks), v.top.Level)
		}
		for _, v := range versions[1:] {
			says := map[int64]object.Slot{}
			require.NoError(rt, object.WalkMap(s.get, v.top.ID, v.top.Level, 0, v.blocks,
				func(block, count int64, x object.Slot) error {
					for i := range count {
						says[block+i] = x
					}
					return nil
				}))
			require.Equal(rt, v.says, says)
			r := object.NewMapReader(s.get)
			for range 20 {
				b := rapid.Int64Range(0, v.blocks-1).Draw(rt, "look")
				got, err := r.At(v.top.ID, v.top.Level, b)
				require.NoError(rt, err)
				require.Equal(rt, v.says[b], got)
			}
			o := rapid.SampledFrom(versions).Draw(rt, "other")
			want, got := map[int64][2]object.Slot{}, map[int64][2]object.Slot{}
			for b := range v.says {
				want[b] = [2]object.Slot{o.says[b], v.says[b]}
			}
			for b := range o.says {
				want[b] = [2]object.Slot{o.says[b], v.says[b]}
			}
			maps.DeleteFunc(want, func(_ int64, x [2]object.Slot) bool { return x[0] == x[1] })
			require.NoError(rt, object.DiffMaps(s.get, o.top, v.top, func(b int64, was, is object.Slot) error {
				got[b] = [2]object.Slot{was, is}
				return nil
			}))
			require.Equal(rt, want, got)
		}
	})
}

// One block of a large disk costs one node a level, whatever the disk's size.
func TestMapChangeCosts(t *testing.T) {
	s := &shelf{t: t, objects: map[object.ID][]byte{}}
	const blocks = 1 << 24 // 1 TiB of 64 KiB blocks
	var changes []object.BlockChange
	for b := int64(0); b < blocks; b += 5000 {
		changes = append(changes, object.BlockChange{Block: b,
			Slot: object.Slot{State: object.Held, Chunk: chunkOf(byte(b))}})
	}
	base, err := object.ChangeMap(s.get, s.put(nil), object.MapTop{}, blocks, changes)
	require.NoError(t, err)
	before, known := len(s.objects), s.reach(base.ID)
	s.read = 0
	next, err := object.ChangeMap(s.get, s.put(known), base, blocks,
		[]object.BlockChange{{Block: 5001, Slot: object.Slot{State: object.Held, Chunk: chunkOf(255)}}})
	require.NoError(t, err)
	require.NotEqual(t, base, next)
	require.LessOrEqual(t, s.read, 5) // a node a level, and the top once more
	require.LessOrEqual(t, len(s.objects)-before, 4)
	same, err := object.ChangeMap(s.get, s.put(known), base, blocks, changes[7:8])
	require.NoError(t, err)
	require.Equal(t, base, same, "a block that was written as it was changes nothing")
	_, err = object.ChangeMap(s.get, s.put(known), base, blocks, []object.BlockChange{{Block: 3}, {Block: 3}})
	require.Error(t, err)
}

// What is no map is refused, and nothing that a map says leads to a crash.
func FuzzMap(f *testing.F) {
	s := &shelf{t: f, objects: map[object.ID][]byte{}}
	top, err := object.ChangeMap(s.get, s.put(nil), object.MapTop{}, 130, []object.BlockChange{
		{Block: 1, Slot: object.Slot{State: object.Held, Chunk: chunkOf(1)}},
		{Block: 100, Slot: object.Slot{State: object.Lost}}})
	require.NoError(f, err)
	f.Add(s.objects[top.ID])
	for _, raw := range s.objects {
		f.Add(raw)
	}
	f.Fuzz(func(t *testing.T, raw []byte) {
		e, err := object.Decode(raw)
		if err != nil {
			return
		}
		if _, err := object.DecodeMap(e); err != nil {
			require.ErrorIs(t, err, object.ErrMalformed)
			return
		}
		get := func(object.ID) (object.Envelope, error) { return e, nil }
		for level := range uint8(3) {
			_ = object.WalkMap(get, object.Sum(raw), level, 0, 1<<20, func(_, count int64, _ object.Slot) error {
				require.Positive(t, count)
				return nil
			})
			_, _ = object.NewMapReader(get).At(object.Sum(raw), level, 77)
		}
	})
}
