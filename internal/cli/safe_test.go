package cli

import (
	"bytes"
	"testing"
	"unicode"
	"unicode/utf8"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Whatever a note or a name holds, and however it is cut, no terminal is told to do anything
// by it; and plain text of any language stays as it is.
func TestNothingCommandsTheTerminal(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		raw := rapid.SliceOf(rapid.OneOf(rapid.Byte(), rapid.SampledFrom([]byte("\x1b[2J\x9b\xc2\x9b\xe2\x80\xae\n")))).Draw(t, "raw")
		var out bytes.Buffer
		s := &safe{w: &out}
		for rest := raw; len(rest) > 0; {
			n := rapid.IntRange(1, len(rest)).Draw(t, "cut")
			m, err := s.Write(rest[:n])
			require.NoError(t, err)
			require.Equal(t, n, m)
			rest = rest[n:]
		}
		for _, r := range out.String() {
			require.False(t, r != '\n' && r != '\t' && (unicode.IsControl(r) || unicode.Is(unicode.Bidi_Control, r)), "%q", out.String())
		}
		require.True(t, utf8.ValidString(out.String()))
	})
	var out bytes.Buffer
	text := "Kräuter, 植物, نبات\n\tΒότανα 🌿"
	_, err := (&safe{w: &out}).Write([]byte(text))
	require.NoError(t, err)
	require.Equal(t, text, out.String())
}
