package moment_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"candidharbor/internal/moment"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func ExampleStyle_Text() {
	at := time.Date(2026, 11, 29, 23, 5, 9, 0, time.UTC)
	sentence := fmt.Sprintf("It is paused since %s.", moment.Say(at))
	for _, ask := range []string{"Europe/Lisbon, year first", "Asia/Tokyo, day first", "America/New_York, month first"} {
		style, _ := moment.Read(ask)
		fmt.Println(style.Text(sentence))
	}
	// Output:
	// It is paused since 2026-11-29 23:05:09.
	// It is paused since 30 Nov 2026 08:05:09.
	// It is paused since Nov 29, 2026 6:05:09 pm.
}

// Whatever stands around moments stays as it is, and each moment is written once, in its place.
func TestText(t *testing.T) {
	lisbon, ok := moment.Read("Europe/Lisbon, year first")
	require.True(t, ok)
	rapid.Check(t, func(t *rapid.T) {
		var in, want strings.Builder
		for range rapid.IntRange(0, 6).Draw(t, "parts") {
			part := strings.ReplaceAll(rapid.OneOf(rapid.String(), rapid.SampledFrom([]string{"2026-11-29 01:00:00Z", "Z"})).
				Draw(t, "part"), moment.Mark, "")
			at := time.Unix(rapid.Int64Range(0, 1<<33).Draw(t, "at"), 0)
			in.WriteString(part + moment.Say(at))
			want.WriteString(part + lisbon.Write(at))
		}
		require.Equal(t, want.String(), lisbon.Text(in.String()))
	})
	for _, broken := range []string{moment.Mark, moment.Mark + "2026-11-29 01:0", "a" + moment.Mark + "b" + moment.Mark,
		moment.Mark + "2026-13-29 01:00:00Z" + moment.Mark} {
		require.Equal(t, broken+"; since 1970-01-01 01:00:00", lisbon.Text(broken+"; since "+moment.Say(time.Unix(0, 0))))
	}
	for _, ask := range []string{"", "Local", "nowhere", "../etc/passwd, day first"} {
		_, ok := moment.Read(ask)
		require.False(t, ok, ask)
	}
}
