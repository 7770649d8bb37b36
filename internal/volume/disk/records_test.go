package disk

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"testing"

	"candidharbor/core/object"

	"github.com/stretchr/testify/require"
)

// makePlain writes the files of maps of a disk that is not open in their first form, which had no sums.
func (m *model) makePlain() {
	files := disksFiles{m.h, m.n}
	st, err := readState(files)
	require.NoError(m.t, err)
	is := newMaps(object.Blocks(st.Size, st.Block))
	require.NoError(m.t, is.openDurable(files, st.Generation))
	if is.plain {
		return
	}
	put := func(name string, words []byte) *hostFile {
		f := m.h.files[files.name(name)]
		var h mapHead
		require.NoError(m.t, json.Unmarshal(bytes.TrimRight(f.data[:page], "\x00"), &h))
		h.Form = formPlain
		raw, err := json.Marshal(h)
		require.NoError(m.t, err)
		f.data = append(append(raw, make([]byte, page-len(raw))...), words...)
		f.stable, f.written = bytes.Clone(f.data), map[int64][][]byte{}
		return f
	}
	pairs := []byte{}
	for i := range is.here.words {
		pairs = binary.LittleEndian.AppendUint64(pairs, is.here.words[i])
		pairs = binary.LittleEndian.AppendUint64(pairs, is.zero.words[i])
	}
	put(durableName(st.Generation), append(pairs, make([]byte, page-len(pairs)%page)...))
	live, err := files.Open(liveName)
	require.NoError(m.t, err)
	if h, err := readHead(live); err != nil || h.Form == 0 {
		return
	}
	words := []byte{}
	for i, b := range is.all() {
		require.NoError(m.t, is.readSection(live, i, b))
		words = b.bytes(words, 0, len(b.words))
		words = append(words, make([]byte, page-len(words)%page)...)
	}
	put(liveName, words)
}

// prepared is a disk with everything in its maps, at rest and durable.
func prepared(t *testing.T, seed uint64) *model {
	m := newModel(t, seed)
	for range 60 {
		m.step()
	}
	if len(m.taken) > 0 {
		m.goBack()
	}
	for range 8 {
		m.change()
	}
	require.NoError(t, m.d.Flush(t.Context()))
	m.flushed()
	return m
}

// Disks of before the maps had sums are opened with all that they were, whatever cuts their first opening off.
func TestPlainMaps(t *testing.T) {
	for seed := range uint64(rounds(t, 4)) {
		for after := range 20 {
			m := prepared(t, seed)
			m.makePlain()
			m.h.offAfter(after)
			if d, err := Open(m.options()); err == nil {
				m.d = d
				m.h.offAfter(-1)
			} else {
				require.True(t, m.h.isOff(), "%v", err)
				m.h.cut()
				m.open()
			}
			m.check()
			require.NoError(t, m.d.Close())
			m.open()
			require.False(t, m.d.maps.plain)
			m.check()
			require.NoError(t, m.d.Close())
			require.NoError(t, m.st.Close())
		}
	}
}

// No bit that flipped in what a disk keeps beside its image is believed: it is opened as it was, and what
// changed since the last snapshot is not overlooked, or it is refused as damaged.
func TestFlippedRecords(t *testing.T) {
	refused := 0
	for seed := range uint64(rounds(t, 12)) {
		m := prepared(t, seed)
		base, changed := m.d.Base(), m.d.Changed
		_, next := changed()
		var differ []int64
		for b := next(0); b >= 0; b = next(b + 1) {
			differ = append(differ, b)
		}
		require.NoError(t, m.d.Close())
		host := m.h.files
		still := func() map[string]*hostFile {
			out := map[string]*hostFile{}
			for name, f := range host {
				c := *f
				c.data, c.stable, c.written = bytes.Clone(f.data), bytes.Clone(f.stable), map[int64][][]byte{}
				out[name] = &c
			}
			return out
		}
		files := disksFiles{m.h, m.n}
		for _, what := range []string{stateName, intentName, liveName, durableName(m.d.state.Generation)} {
			for range 40 {
				m.h.files = still()
				if cut := m.r.IntN(2) == 0; cut && what != liveName {
					delete(m.h.files, files.name(liveName))
				}
				f := m.h.files[files.name(what)]
				used := max(1, len(bytes.TrimRight(f.data, "\x00")))
				at := m.r.IntN(used)
				f.data[at] ^= 1 << m.r.IntN(8)
				f.stable = bytes.Clone(f.data)
				d, err := Open(m.options())
				if err != nil {
					refused++
					require.ErrorIs(t, err, ErrDamaged, "%s, byte %d", what, at)
					continue
				}
				got := make([]byte, len(m.bytes))
				require.NoError(t, d.ReadAt(got, 0))
				require.True(t, bytes.Equal(m.bytes, got), "seed %d: %s, byte %d", seed, what, at)
				is, next := d.Changed()
				require.Equal(t, base, is)
				for _, b := range differ {
					require.Equal(t, b, next(b), "seed %d: %s, byte %d: block %d changed", seed, what, at, b)
				}
				require.NoError(t, d.Close())
			}
		}
		require.NoError(t, m.st.Close())
	}
	require.NotZero(t, refused)
}
