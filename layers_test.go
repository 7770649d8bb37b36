package candidharbor_test

import (
	"encoding/json"
	"errors"
	"io"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// layer orders the packages: each may import only what stands in a lower layer, and
// within core nothing of its own layer but what is listed.
var layer = map[string]int{
	"core/lineage": 0, "core/treediff": 1, "core/names": 1, "core/treetest": 1, "core/object": 0, "core/chunker": 0,
	"core/cadence": 0, "core/space": 0, "core/objective": 0, "core/retention": 1, "core/rights": 1, "core/ledger": 1,
	"core/pace": 1, "core/authority": 1, "core/preview": 2,
	"api": 0, "internal/clock": 0, "internal/netns": 0, "internal/release": 0,
	"internal/inbox": 0, "internal/beneath": 0, "internal/limit": 0, "internal/visible": 0,
	"internal/store": 2, "internal/policy": 2, "internal/runbook": 3, "internal/catalog": 2,
	"internal/hostdirs": 1, "internal/volume/journal": 2, "internal/volume/tree": 3, "internal/volume/disk": 3,
	"internal/moment": 1, "internal/nbd": 0, "internal/sftphost": 0, "internal/transfer": 3,
	"internal/refusal": 4, "internal/phrase": 4, "internal/views": 4, "internal/datadir": 5,
	"internal/run": 6, "internal/records": 6, "internal/access": 7, "internal/pairing": 8, "internal/rules": 9,
	"internal/authority": 9,
	"internal/disks":     10,
	"internal/capture":   11, "internal/route": 12, "internal/recovery": 13, "internal/clones": 14, "internal/outlet": 14,
	"internal/upkeep":   14,
	"internal/failover": 15, "internal/overview": 16,
	"internal/site": 17,
	"client":        18, "internal/httpapi": 18, "internal/httpapi/openapi": 19,
	"internal/service": 19, "internal/demo": 20, "internal/cli": 21, "cmd/candid": 22,
}

const module = "candidharbor/"

func TestLayers(t *testing.T) {
	out, err := exec.Command("go", "list", "-json=ImportPath,Imports", "./...").Output()
	require.NoError(t, err)
	d := json.NewDecoder(strings.NewReader(string(out)))
	seen := 0
	for {
		var p struct {
			ImportPath string
			Imports    []string
		}
		if err := d.Decode(&p); errors.Is(err, io.EOF) {
			break
		} else {
			require.NoError(t, err)
		}
		name := strings.TrimPrefix(p.ImportPath, module)
		if strings.HasPrefix(name, "e2e") || name == strings.TrimSuffix(module, "/") {
			continue
		}
		own, ok := layer[name]
		require.True(t, ok, "%s has no layer: give it one in this test", name)
		seen++
		for _, imp := range p.Imports {
			if below, ours := strings.CutPrefix(imp, module); ours {
				require.Less(t, layer[below], own, "%s imports %s, which does not stand below it", name, below)
			}
			if strings.HasPrefix(name, "core/") {
				for _, bad := range []string{"net", "os", "database/sql", "log", "log/slog", "sync", "context"} {
					require.NotEqual(t, bad, imp, "%s computes only, and imports %s", name, imp)
				}
			}
		}
		require.False(t, name == "client" && contains(p.Imports, module+"internal"), "client must be usable by others")
	}
	require.Equal(t, len(layer), seen)
	clock, err := exec.Command("grep", "-rnE", `time\.(Now|Since|Sleep|After)\(`, "core",
		"--include=*.go").CombinedOutput()
	require.Error(t, err, "core is given its times: %s", clock)
}

func contains(list []string, prefix string) bool {
	for _, s := range list {
		if strings.HasPrefix(s, prefix) {
			return true
		}
	}
	return false
}
