package cli

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// The first steps and the examples of policies, word for word as the terminal shows them.
func TestBegin(t *testing.T) {
	d := newDesk(t)
	d.reads("begin", `
[x] 1. Say which directories of this host may be read and written
[ ] 2. Choose what to protect
       A directory, or a disk that this site serves. What is there is looked at before it is stored.
       candid volume uncovered
[ ] 3. Write a policy: when to take snapshots, and how long they stay
[ ] 4. Take the first snapshot
[ ] 5. Pair a second site, so that a fire here takes only one of the copies
[ ] 6. Open a route, over which every new snapshot goes there
[ ] 7. See the first copy arrive
[ ] 8. Bring a file back from there, before you need to
`)
	d.reads("policy example", `
EXAMPLE	FOR
shared-files	Files that people work on by day: every hour then, and each night
busy-database	A database that changes all the time: every 15 minutes, a week back by the hour
archive	What is added to and seldom changed: when something changes, kept for years
Write one to a file, change it, and store it: candid policy example shared-files > my.yaml, candid policy preview \
my.yaml, candid policy put my.yaml
`)
	d.reads("policy example archive", `
policy: archive
volumes: {collection: shared}
take:
  - on change, rest 5 minutes, at most every 60 minutes
  - daily at 23:00
zone: UTC
skip_unchanged: true
keep:
  larkfield: {newest: 8, daily: 30, monthly: 24, yearly: 10, by_hand: 90 days}
objectives: {larkfield: 26 hours}
grace: 7 days
`)
	d.refuses("policy example nothing", 2, "candid policy example lists them")
	d.refuses("begin --put-away --bring-back", 2, "exclude each other")
	d.run("volume add letters --path DIR/share --label k=v")
	out, _, _ := d.run("policy example shared-files")
	require.Contains(t, out, "volumes: {k: v}\n")
	first := out
	d.put("share/policy", first)
	_, _, code := d.run("policy put DIR/share/policy")
	require.Zero(t, code)
	d.run("snapshot take letters")
	d.reads("begin", `
[x] 1. Say which directories of this host may be read and written
[x] 2. Choose what to protect
[x] 3. Write a policy: when to take snapshots, and how long they stay
[x] 4. Take the first snapshot
[ ] 5. Pair a second site, so that a fire here takes only one of the copies
       There, candid site invite prints an invitation that counts once; use it here. A disk that comes and goes is \
a beginning too: candid place attach.
       candid site pair INVITATION
[ ] 6. Open a route, over which every new snapshot goes there
[ ] 7. See the first copy arrive
[ ] 8. Bring a file back from there, before you need to
`)
	d.at = "stonewick"
	inv, _, _ := d.run("site invite")
	d.at = "larkfield"
	d.ids[strings.TrimSpace(inv)] = "INVITATION"
	d.run("site pair INVITATION")
	const add = "route add to-stonewick --to stonewick --volumes name=letters"
	out, _, _ = d.run(add + " --dry-run")
	require.Contains(t, out, "as fast as the line is. No policy of letters says what stonewick keeps: everything that "+
		"comes there stays. Say it under keep, as in stonewick: {daily: 30, monthly: 12}.\nVolumes: letters.\n")
	d.run(add)
	out, _, _ = d.run("explain letters")
	require.Contains(t, out, "\nOf stonewick they say nothing: everything that comes there stays.\n")
	d.put("share/policy", strings.Replace(first, "keep:\n", "keep:\n  stonewick: {daily: 30, monthly: 12}\n", 1))
	_, _, code = d.run("policy put DIR/share/policy")
	require.Zero(t, code)
	out, _, _ = d.run("explain letters")
	require.NotContains(t, out, "Of stonewick")
	out, _, _ = d.run("begin --put-away")
	require.Contains(t, out, "The console shows them no more; candid begin does")
}
