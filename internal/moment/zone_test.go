package moment

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestZone(t *testing.T) {
	for tz, want := range map[string]string{"Europe/Lisbon": "Europe/Lisbon", ":Asia/Tokyo": "Asia/Tokyo", "": "UTC",
		"Nowhere/AtAll": "UTC", "Local": "UTC", "Etc/UTC": "UTC"} {
		t.Setenv("TZ", tz)
		require.Equal(t, want, Zone(), tz)
	}
}
