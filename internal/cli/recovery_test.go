package cli

import (
	"os"
	"path/filepath"
	"testing"
	"time"
)

// Something is missed, looked for, brought back and taken back, word for word as the
// terminal shows it.
func TestSomethingIsMissed(t *testing.T) {
	d := newDesk(t)
	d.run("volume add letters --path DIR/share")
	d.put("share/trip/marsh.txt", "one\ntwo\nthree\n")
	d.put("share/trip/map of the marsh.txt", "a map\n")
	d.run("snapshot take letters")
	d.pass(time.Hour)
	d.put("share/trip/marsh.txt", "one\n2\nthree\n")
	d.run("snapshot take letters")
	d.pass(time.Hour)
	d.run("snapshot take letters")
	if err := os.RemoveAll(filepath.Join(d.dir, "share", "trip")); err != nil {
		t.Fatal(err)
	}
	d.reads("compare letters --from latest", `
letters from 2026-03-02 11:00:00 (snapshot #1; the newest snapshot, taken 2026-03-02 11:00:00)
to now, 2026-03-02 11:00:00:
WHAT	SIZE	PATH
removed		trip/
removed	6 B	trip/map of the marsh.txt
removed	12 B	trip/marsh.txt
3 removed; 0 B came, 18 B went.
To bring back what went or changed: candid restore letters PATH --at #1 --in-place
`)
	d.reads("compare letters trip/marsh.txt --from '2026-03-02 09:30' --to '2026-03-02 10:30'", `
letters/trip/marsh.txt from 2026-03-02 09:00:00 (snapshot #2; nearest before: 2026-03-02 09:00:00, 30 minutes older)
to 2026-03-02 10:00:00 (snapshot #3; nearest before: 2026-03-02 10:00:00, 30 minutes older):
WHAT	SIZE	PATH
changed	14 B -> 12 B	trip/marsh.txt
1 changed; 12 B came, 14 B went.
`)
	d.reads("compare letters trip/marsh.txt --text --from '2026-03-02 09:30' --to '2026-03-02 10:30'", `
1   one
    2 - two
    2 + 2
    3   three
`)
	d.refuses("compare letters --from now", 2, "from is a moment in the past")
	d.refuses("compare letters nothing --from latest --to latest", 1,
		"candid find letters nothing looks for names like it")
	d.refuses("compare letters --text --from latest", 2, "--text compares one file")
	d.pass(time.Hour)
	d.run("snapshot take letters")
	d.reads("find letters MARSH --deleted", `
PATH	SIZE	MODIFIED	VERSIONS	STATE	SNAPSHOT
trip/marsh.txt	12 B	2026-03-02 10:00:00	2	last seen 2026-03-02 11:00:00	#1
trip/map of the marsh.txt	6 B	2026-03-02 09:00:00	1	last seen 2026-03-02 11:00:00	#1
2 paths in 4 snapshots.
To bring one back: candid restore letters trip/marsh.txt --at #1 --in-place
`)
	d.reads("find letters '*.doc'", `
Nothing like "*.doc" is in the 4 snapshots of letters that were searched.
`)
	d.refuses("find letters '[a'", 2, "is not a name with * ? or [a-z] in it")
	d.refuses("find letters a --since whenever", 2, `--since "whenever" is not a time`)
	d.refuses("find letters a --since 2026-03-05 --until 2026-03-04", 2, "nothing was there in between")
	d.reads("versions letters trip/marsh.txt", `
WHAT	FROM	UNTIL	SIZE	MODIFIED	IN	NEWEST
not there	2026-03-02 12:00:00	2026-03-02 12:00:00	-	-	1 snapshot	#4
changed	2026-03-02 10:00:00	2026-03-02 11:00:00	12 B	2026-03-02 10:00:00	2 snapshots	#1
first seen	2026-03-02 09:00:00	2026-03-02 09:00:00	14 B	2026-03-02 09:00:00	1 snapshot	#2
To bring one back: candid restore letters trip/marsh.txt --at #1 --in-place
`)
	d.refuses("versions letters trip/nothing", 1, "candid find letters nothing looks for names like it")
	d.reads("restore letters trip --at '2026-03-02 11:00' --in-place", `
3 created; 18 B in T: letters as of 2026-03-02 11:00:00 in DIR/share
To take it back: candid undo 5; what was there before is in the safety snapshot #5
`)
	d.reads("undo 5", `
1 removed: run 5 is taken back, to letters as it was at 2026-03-02 12:00:00
To take it back: candid undo 6; what was there before is in the safety snapshot #6
`)
	d.refuses("undo 1", 2, "run 1 was no restore but a snapshot of letters")
	d.refuses("undo 99", 1, "there is no run 99")
	d.refuses("undo x", 2, `"x" is not a run`)
	d.reads("run list --kind restore", `
RUN	QUEUED	KIND	OF	STATE	ASKED BY	OUTCOME
6	2026-03-02 12:00:00	restore	letters	done	the host's administrator	1 removed: run 5 is taken back, to letters as \
it was at 2026-03-02 12:00:00
5	2026-03-02 12:00:00	restore	letters	done	the host's administrator	3 created; 18 B in T: letters as of 2026-03-02 \
11:00:00 in DIR/share
`)
	d.reads("restore letters trip/marsh.txt --at '2026-03-02 11:00' --file -", `
one
2
three
`)
	d.reads("restore letters --at '2026-03-02 11:00' --zip DIR/all.zip", `
DIR/all.zip: N B.
`)
	d.refuses("restore letters --at latest --file x", 2, "--file takes exactly one PATH")
	d.refuses("restore letters trip --at '2026-03-02 11:00' --file DIR/x", 2, "only files are downloaded by themselves")
	d.reads("mount --list", `
Nothing is mounted. candid mount VOLUME DIR shows a volume's snapshots at a directory.
`)
	d.refuses("mount letters", 2, "give the volume and the empty directory")
	d.refuses("mount letters /nowhere", 2, "outside the roots")
	d.refuses("mount letters DIR/share", 2, "is not empty")
	d.refuses("mount --end DIR/share", 1, "nothing is mounted at")
}
