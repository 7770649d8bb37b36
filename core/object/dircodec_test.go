package object

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// drawPage is a page of any entries, valid or not: the codec is to say what the general one says.
func drawPage(t *rapid.T) dirPage {
	some := rapid.SliceOfN(rapid.Byte(), 1, 300)
	number := rapid.OneOf(rapid.Just(uint32(0)), rapid.Uint32Range(0, 300), rapid.Uint32())
	entry := rapid.Custom(func(t *rapid.T) Entry {
		e := Entry{Name: some.Draw(t, "name"), Kind: EntryKind(rapid.Byte().Draw(t, "kind")), Mode: number.Draw(t, "mode"),
			UID: number.Draw(t, "uid"), GID: number.Draw(t, "gid"), MTime: rapid.Int64().Draw(t, "mtime"),
			Size: rapid.Int64().Draw(t, "size"), Major: number.Draw(t, "major"), Minor: number.Draw(t, "minor"),
			Sparse: rapid.Bool().Draw(t, "sparse"), HasContent: rapid.Bool().Draw(t, "content")}
		if rapid.Bool().Draw(t, "target") {
			e.Target = some.Draw(t, "to")
		}
		for range rapid.IntRange(0, 30).Draw(t, "attributes") {
			e.Xattrs = append(e.Xattrs, Xattr{Name: some.Draw(t, "name"), Value: rapid.SliceOf(rapid.Byte()).Draw(t, "value")})
		}
		return e
	})
	p := dirPage{Entries: rapid.SliceOfN(entry, 0, 40).Draw(t, "entries")}
	if len(p.Entries) == 0 {
		p.Entries = nil
	}
	p.Total = uint64(len(p.Entries))
	return p
}

// A page has the bytes that the general encoder gives it, and is read as the general decoder reads it.
func TestPageIsCBOR(t *testing.T) {
	fast := 0
	rapid.Check(t, func(t *rapid.T) {
		p := drawPage(t)
		want, err := encMode.Marshal(p)
		require.NoError(t, err)
		require.Equal(t, want, appendPage(nil, p.Entries))
		var got, general dirPage
		require.NoError(t, decMode.Unmarshal(want, &general))
		if readPage(want, &got) {
			fast++
			require.Equal(t, general, got)
		}
	})
	require.Positive(t, fast)
	for n := range 300 { // of every length that heads tell apart
		p := dirPage{Entries: make([]Entry, n+1), Total: uint64(n + 1)}
		for i := range p.Entries {
			p.Entries[i] = Entry{Name: fmt.Appendf(nil, "%0*d", n+1, i), Kind: File}
		}
		want, err := encMode.Marshal(p)
		require.NoError(t, err)
		require.Equal(t, want, appendPage(nil, p.Entries))
		var got dirPage
		require.True(t, readPage(want, &got))
		require.Equal(t, p, got)
	}
}

// FuzzPage: whatever the bytes, what is read here is what the general decoder reads.
func FuzzPage(f *testing.F) {
	entries := []Entry{{Name: []byte("a"), Kind: File, Mode: 0o644, MTime: -1, Size: 5, HasContent: true},
		{Name: []byte("b"), Kind: Symlink, Target: []byte("a"), UID: 70_000, Xattrs: []Xattr{{Name: []byte("user.x"),
			Value: []byte("1")}}}, {Name: []byte("c"), Kind: CharDevice, Major: 1, Minor: 300, Sparse: true}}
	f.Add(appendPage(nil, entries))
	f.Add(appendPage(nil, entries[:1]))
	f.Add(appendPage(nil, nil))
	f.Fuzz(func(t *testing.T, b []byte) {
		var got, general dirPage
		if !readPage(b, &got) {
			return
		}
		require.NoError(t, decMode.Unmarshal(b, &general))
		require.Equal(t, general, got)
	})
}

func BenchmarkPage(b *testing.B) {
	var entries []Entry
	for i := range 256 {
		entries = append(entries, Entry{Name: fmt.Appendf(nil, "specimen-%07d.tif", i), Kind: File, Mode: 0o644, UID: 1000,
			GID: 1000, MTime: 1_700_000_000_123_456_789, Size: 12_345, HasContent: true})
	}
	raw := appendPage(nil, entries)
	perEntry := func(b *testing.B) {
		b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N*len(entries)), "ns/entry")
	}
	b.Run("encode", func(b *testing.B) {
		for b.Loop() {
			appendPage(make([]byte, 0, len(raw)), entries)
		}
		perEntry(b)
	})
	b.Run("encode/general", func(b *testing.B) {
		for b.Loop() {
			_, err := encMode.Marshal(dirPage{Entries: entries, Total: 256})
			require.NoError(b, err)
		}
		perEntry(b)
	})
	b.Run("decode", func(b *testing.B) {
		for b.Loop() {
			var p dirPage
			require.True(b, readPage(raw, &p))
		}
		perEntry(b)
	})
	b.Run("decode/general", func(b *testing.B) {
		for b.Loop() {
			var p dirPage
			require.NoError(b, decMode.Unmarshal(raw, &p))
		}
		perEntry(b)
	})
}
