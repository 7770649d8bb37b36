package object

import (
	"bytes"
	"crypto/ed25519"
	"fmt"
	"slices"
	"sort"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// memory is a store of envelopes that checks what a store must hold.
type memory map[ID][]byte

func (m memory) put(kind Kind, children []ID, payload []byte) (ID, error) {
	b := Encode(nil, kind, children, payload)
	if len(b) > MaxSize(kind) {
		return ID{}, fmt.Errorf("%s of %d bytes", kind, len(b))
	}
	m[Sum(b)] = b
	return Sum(b), nil
}

func (m memory) get(id ID) (Envelope, error) {
	b, ok := m[id]
	if !ok {
		return Envelope{}, fmt.Errorf("no %s", id)
	}
	return Decode(b)
}

func drawEntry(t *rapid.T, name string) Entry {
	e := Entry{Name: []byte(name), Kind: EntryKind(rapid.IntRange(1, 7).Draw(t, "kind")), Mode: rapid.Uint32Range(0,
		0o7777).Draw(t, "mode"),
		MTime: rapid.Int64().Draw(t, "mtime"), UID: rapid.Uint32().Draw(t, "uid")}
	switch e.Kind {
	case File:
		e.Size = rapid.Int64Range(0, 1<<50).Draw(t, "size")
		e.HasContent = e.Size > 0
	case Dir:
		e.HasContent = true
	case Symlink:
		e.Target = rapid.SliceOfN(rapid.Byte(), 1, 40).Draw(t, "target")
	}
	if e.HasContent {
		copy(e.Content[:], rapid.SliceOfN(rapid.Byte(), 32, 32).Draw(t, "content"))
	}
	return e
}

// A directory reads back as it was built, finds every name, and depends on nothing but
// its entries: one that was larger before encodes the same.
func TestDirectoryRoundTrip(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		m := memory{}
		names := map[string]bool{}
		for range rapid.SampledFrom([]int{0, 1, 30, 300, 5000}).Draw(t, "entries") {
			n := fmt.Sprintf("%x-%d", rapid.Uint32().Draw(t, "name"), len(names))
			names[n] = true
		}
		var sorted []string
		for n := range names {
			sorted = append(sorted, n)
		}
		sort.Strings(sorted)
		d := NewDirBuilder(m.put)
		var want []Entry
		for i, n := range sorted {
			e := Entry{Name: []byte(n), Kind: File, Mode: 0o600, Size: int64(i)}
			if i < 40 {
				e = drawEntry(t, n)
			}
			want = append(want, e)
			require.NoError(t, d.Add(e))
		}
		id, err := d.Finish()
		require.NoError(t, err)
		var got []Entry
		require.NoError(t, WalkDir(m.get, id, nil, func(e Entry) error { got = append(got, e); return nil }))
		require.Equal(t, want, got)
		n, err := CountDir(m.get, id)
		require.NoError(t, err)
		require.EqualValues(t, len(want), n)
		if len(sorted) > 0 {
			i := rapid.IntRange(0, len(sorted)-1).Draw(t, "looked up")
			e, ok, err := LookupDir(m.get, id, []byte(sorted[i]))
			require.NoError(t, err)
			require.True(t, ok)
			require.Equal(t, want[i], e)
			var after []Entry
			require.NoError(t, WalkDir(m.get, id, []byte(sorted[i]), func(e Entry) error {
				after = append(after, e)
				return nil
			}))
			require.Len(t, after, len(want)-i-1)
		}
		_, ok, err := LookupDir(m.get, id, []byte("~none"))
		require.NoError(t, err)
		require.False(t, ok)
	})
}

// One changed entry in a large directory changes few pages.
func TestDirectoryIsLocal(t *testing.T) {
	build := func(m memory, skip int) {
		d := NewDirBuilder(m.put)
		for i := range 50_000 {
			if i != skip {
				require.NoError(t, d.Add(Entry{Name: fmt.Appendf(nil, "%06d", i), Kind: File}))
			}
		}
		_, err := d.Finish()
		require.NoError(t, err)
	}
	a, b := memory{}, memory{}
	build(a, -1)
	build(b, 25_000)
	fresh := 0
	for id := range b {
		if _, ok := a[id]; !ok {
			fresh++
		}
	}
	require.Greater(t, len(a), 100)
	require.LessOrEqual(t, fresh, 5)
}

func TestListRoundTrip(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		m := memory{}
		b := NewListBuilder(m.put)
		type span struct {
			at, n int64
			zero  bool
		}
		var want []span
		at := int64(0)
		for i := range rapid.SampledFrom([]int{0, 1, 2, 50, 9000}).Draw(t, "spans") {
			n := int64(1 + i%7)
			if zero := rapid.IntRange(0, 3).Draw(t, "zero") == 0; zero {
				require.NoError(t, b.Zeros(n))
				if k := len(want); k > 0 && want[k-1].zero {
					want[k-1].n += n
				} else {
					want = append(want, span{at, n, true})
				}
			} else {
				id, err := m.put(KindChunk, nil, bytes.Repeat([]byte{byte(i), byte(i >> 8)}, int(n))[:n])
				require.NoError(t, err)
				require.NoError(t, b.Chunk(id, int(n)))
				want = append(want, span{at, n, false})
			}
			at += n
		}
		id, total, ok, err := b.Finish()
		require.NoError(t, err)
		require.Equal(t, at, total)
		require.Equal(t, at > 0, ok)
		if !ok {
			return
		}
		from := rapid.Int64Range(0, total-1).Draw(t, "from")
		var got []span
		require.NoError(t, WalkContent(m.get, id, from, func(s Span) error {
			got = append(got, span{s.Offset, s.Length, s.Zero})
			return nil
		}))
		i := slices.IndexFunc(want, func(s span) bool { return s.at+s.n > from })
		// A run of zeros may be cut where a list page ends.
		if len(want) < 4000 {
			require.Equal(t, want[i:], got)
		} else {
			require.Equal(t, total, got[len(got)-1].at+got[len(got)-1].n)
			require.LessOrEqual(t, got[0].at, from)
		}
	})
}

func TestRootAndMarks(t *testing.T) {
	key := ed25519.NewKeyFromSeed(make([]byte, 32))
	r := &Root{Lineage: LineageID{7}, Volume: "v", Origin: "o", Term: 2, Sequence: 9, Began: 5, Ended: 6,
		Consistency: Spread, Cause: CauseByHand,
		Top: Entry{Kind: Dir, Mode: 0o755, HasContent: true, Content: ID{1}}, HasLinks: true, Links: ID{2},
		Labels:  map[string]string{"b": "2", "a": "1"},
		Remarks: []Remark{{Path: []byte("x\xff"), What: "changed"}}, RemarkCount: 1}
	env, err := EncodeRoot(r)
	require.NoError(t, err)
	again, err := DecodeRoot(env)
	require.NoError(t, err)
	require.Equal(t, r, again)
	record, err := SignRecord(key, "root", env)
	require.NoError(t, err)
	body, signer, err := OpenRecord("root", record)
	require.NoError(t, err)
	require.Equal(t, env, body)
	require.True(t, signer.Equal(key.Public()))
	for i := range record {
		bad := bytes.Clone(record)
		bad[i] ^= 1
		_, signer, err := OpenRecord("root", bad)
		require.True(t, err != nil || !signer.Equal(key.Public()), "byte %d", i)
	}
	_, _, err = OpenRecord("mark", record)
	require.Error(t, err)
}

// What is not in the one canonical form is refused, so nothing has two identities.
func FuzzDecode(f *testing.F) {
	f.Add(Encode(nil, KindChunk, nil, []byte("x")))
	f.Add(Encode(nil, KindList, []ID{{1}}, []byte{0x83, 0, 0x81, 1, 1}))
	m := memory{}
	d := NewDirBuilder(m.put)
	_ = d.Add(Entry{Name: []byte("a"), Kind: Dir, HasContent: true})
	id, _ := d.Finish()
	f.Add(m[id])
	r, _ := EncodeRoot(&Root{Top: Entry{Kind: Dir, HasContent: true}})
	f.Add(r)
	f.Fuzz(func(t *testing.T, b []byte) {
		e, err := Decode(b)
		if err != nil {
			return
		}
		require.Equal(t, b, Encode(nil, e.Kind, e.Children(), e.Payload))
		self := Sum(b)
		get := func(id ID) (Envelope, error) {
			if id == self {
				return e, nil
			}
			return Envelope{}, fmt.Errorf("absent")
		}
		n := 0
		_ = WalkDir(get, self, nil, func(e Entry) error { n++; return CheckName(e.Name) })
		_ = WalkContent(get, self, 0, func(Span) error { return nil })
		_ = WalkLinks(get, self, func([][]byte) error { return nil })
		_, _ = DecodeRoot(b)
	})
}

func FuzzOpenRecord(f *testing.F) {
	key := ed25519.NewKeyFromSeed(make([]byte, 32))
	body, _ := EncodeMark(&Mark{Kind: MarkNote, Text: "x"})
	rec, _ := SignRecord(key, "mark", body)
	f.Add(rec)
	f.Fuzz(func(t *testing.T, b []byte) {
		if body, _, err := OpenRecord("mark", b); err == nil {
			_, _ = DecodeMark(body)
		}
	})
}
