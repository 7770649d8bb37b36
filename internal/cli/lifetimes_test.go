package cli

import (
	"encoding/json"
	"testing"
	"time"

	"candidharbor/api"

	"github.com/stretchr/testify/require"
)

// Records of runs stay as long as is said of their kind, with their logs; the newest trial of a volume stays until the
// next one, however long ago it was.
func TestRunLifetimes(t *testing.T) {
	d := newDesk(t)
	d.run("volume add letters --path DIR/share")
	for range 2 {
		d.run("snapshot take letters")
		d.run("trial run letters")
		d.clock.Set(d.clock.Now().Add(4 * 24 * time.Hour))
	}
	count := func(kind string) int {
		var page api.Page[api.Run]
		out, _, code := d.run("run list --json --limit 500 --kind " + kind)
		require.Zero(t, code)
		require.NoError(t, json.Unmarshal([]byte(out), &page))
		return len(page.Items)
	}
	require.Equal(t, []int{2, 2}, []int{count("snapshot"), count("trial")})

	d.reads("run lifetimes snapshot --for '7 days' --dry-run", `
Records of the kind snapshot would stay for 7 days; 1 of them is older and would go within the hour.
`)
	d.reads("run lifetimes snapshot --for '7 days'", `
Records of the kind snapshot stay for 7 days; 1 of them is older and goes within the hour.
`)
	d.reads("run lifetimes trial --for '7 days'", `
Records of the kind trial stay for 7 days; 1 of them is older and goes within the hour.
`)
	d.reads("run lifetimes others --for '2 years'", `
Records of all kinds of which nothing is said stay for 2 years; none of them is older.
`)
	out, _, code := d.run("run lifetimes")
	require.Zero(t, code)
	require.Regexp(t, `(?m)^snapshot\t7 days\t2\t2026-03-02`, out)
	require.Regexp(t, `(?m)^restore\t2 years, as others\t0`, out)
	require.Regexp(t, `(?m)^others\t2 years`, out)
	d.refuses("run lifetimes snapshot --for '6 days'", 2, "7 days at least")
	d.refuses("run lifetimes snapshot --for soon", 2, "soon")
	d.refuses("run lifetimes snapshot", 2, "--as-others")
	d.refuses("run lifetimes snapshot --for '9 days' --as-others", 2, "--as-others")
	d.refuses("run lifetimes copies --for '9 days'", 2, "no kind of run")
	d.refuses("run lifetimes --for '9 days'", 2, "say of which kind")

	require.NoError(t, d.sites["larkfield"].Site.Run.ForgetOld())
	require.Equal(t, []int{1, 1}, []int{count("snapshot"), count("trial")})
	d.clock.Set(d.clock.Now().Add(400 * 24 * time.Hour))
	require.NoError(t, d.sites["larkfield"].Site.Run.ForgetOld())
	require.Equal(t, []int{0, 1}, []int{count("snapshot"), count("trial")}, "how a volume last fared stays")
	d.reads("run lifetimes trial --as-others", `
Records of the kind trial stay for 2 years; none of them is older.
`)
	d.reads("run lifetimes others --as-others", `
Records of all kinds of which nothing is said stay for 90 days; none of them is older.
`)
}
