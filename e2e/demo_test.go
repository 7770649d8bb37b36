package e2e

import (
	"os/exec"
	"testing"

	"github.com/stretchr/testify/require"
)

// The story runs from beginning to end, and what it claims is checked on the way.
func TestDemoStory(t *testing.T) {
	bin, err := build()
	require.NoError(t, err)
	out, err := exec.Command(bin, "demo", "--once", "--days", "24", "--listen", "127.0.0.1:0").CombinedOutput()
	require.NoError(t, err, string(out))
	for _, say := range []string{"brought back as it was last seen", "Two days later the line is mended",
		"cannot be reached since", "was off for a night", "all as written",
		"5 of 6 volumes are on target", "the disk goes back", "all comes up as clones, and goes again",
		"Stonewick takes over by the runbook field-station", "Larkfield takes all of it home",
		"at both sites are brought back to files and checked", "24 days lived through in", "checks held"} {
		require.Contains(t, string(out), say)
	}
}
