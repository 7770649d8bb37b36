package visible

import (
	"bytes"
	"encoding/json"
	"os/exec"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Whatever a note or a name holds, and however it is cut, no reader is told to do anything by it;
// and plain text of any language stays as it is.
func TestNothingCommands(t *testing.T) {
	hostile := rapid.OneOf(rapid.Byte(), rapid.SampledFrom([]byte("\x1b[2J\x9b\xc2\x9b\xe2\x80\xae\n")))
	rapid.Check(t, func(t *rapid.T) {
		raw := rapid.SliceOf(hostile).Draw(t, "raw")
		var out bytes.Buffer
		s := &Writer{W: &out}
		for rest := raw; len(rest) > 0; {
			n := rapid.IntRange(1, len(rest)).Draw(t, "cut")
			m, err := s.Write(rest[:n])
			require.NoError(t, err)
			require.Equal(t, n, m)
			rest = rest[n:]
		}
		for _, text := range []string{out.String(), Text(string(raw)), Line(string(raw))} {
			for _, r := range text {
				require.False(t, r != '\n' && r != '\t' && Commands(r), "%q", text)
			}
			require.True(t, utf8.ValidString(text))
		}
		require.NotContains(t, Line(string(raw)), "\n")
		require.Equal(t, Text(string(raw[:len(raw)-len(s.part)])), out.String(), "cutting changes nothing")

		text, err := json.Marshal(map[string]string{string(raw): string(raw)})
		require.NoError(t, err)
		safe := JSON(text)
		for _, r := range string(safe) {
			require.False(t, Commands(r), "%q", safe)
		}
		var one, two map[string]string
		require.NoError(t, json.Unmarshal(text, &one))
		require.NoError(t, json.Unmarshal(safe, &two))
		require.Equal(t, one, two)
	})
	text := "Kräuter, 植物, نبات\n\tΒότανα 🌿 �"
	require.Equal(t, text, Text(text))
	require.JSONEq(t, `"`+"🌿 植物"+`"`, string(JSON([]byte(`"🌿 植物"`))))
}

// A word stands for its text, and for nothing else, in a shell; and it is no option.
func TestWordsOfAShell(t *testing.T) {
	texts := []string{"", "plain/name.txt", "two words", "$(reboot)", "`reboot`", "a;b", "it's", "''", `\`, "--in-place",
		"-", "~root", "*", "{a,b}", "植物", "a\u00a0b", "#x", "a=b", "!x", "a\tb", "%1B"}
	chosen := rapid.StringOfN(rapid.RuneFrom([]rune("ab'\"\\$`;&|<>()*?[]{}~#!=-\t é")), 0, 12, -1)
	for i := range 200 {
		texts = append(texts, chosen.Example(i))
	}
	var script strings.Builder
	for _, text := range texts {
		script.WriteString("printf '%s\\0' " + Word(text) + "\n")
	}
	out, err := exec.Command("sh", "-c", script.String()).Output()
	require.NoError(t, err)
	for i, got := range strings.Split(strings.TrimSuffix(string(out), "\x00"), "\x00") {
		require.Equal(t, texts[i], strings.TrimPrefix(got, map[bool]string{true: "./"}[strings.HasPrefix(texts[i], "-")]))
		require.False(t, strings.HasPrefix(got, "-"))
	}
}
