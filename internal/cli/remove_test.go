package cli

import (
	"testing"
	"time"
)

// Snapshots that go at once are told before, and by what they would be confirmed; several are brought back, each into a
// directory of its own; lists go by what each alone takes.
func TestRemovedAtOnce(t *testing.T) {
	d := newDesk(t)
	d.put("letters/one", "dear\n")
	d.run("volume add letters --path DIR/letters")
	for _, text := range []string{"sir\n", "madam, a longer one\n", "friend\n"} {
		d.run("snapshot take letters")
		d.pass(time.Hour)
		d.put("letters/one", text)
	}
	d.reads("snapshot list --sort oldest --which here", `
ID	VOLUME	TAKEN	SEEN UNTIL	CAUSE	SIZE	NEW	STATE	CARRIED TO	WHY
#1	letters	2026-03-02 09:00:00	-	by hand	5 B	N B	kept		no rules for this place, everything stays; made by \
hand
#2	letters	2026-03-02 10:00:00	-	by hand	4 B	N B	kept		no rules for this place, everything stays; made by \
hand
#3	letters	2026-03-02 11:00:00	-	by hand	20 B	N B	kept		no rules for this place, everything stays; made by hand; \
the newest complete snapshot here
`)
	d.refuses("snapshot list --sort best", 2, "newest, oldest, volume, new, size, own")
	d.refuses("snapshot list --carried-to nowhere", 1, "nowhere")
	d.reads("snapshot restore #1 #2 --to DIR/back", `
VOLUME	RUN	STATE	OUTCOME
letters	4	done	1 created; 5 B in T: letters as of 2026-03-02 09:00:00 in DIR/back/letters-2026-03-02T090000
letters	5	done	1 created; 4 B in T: letters as of 2026-03-02 10:00:00 in DIR/back/letters-2026-03-02T100000
`)
	d.refuses("snapshot restore #1 fedcba98 --to DIR/other", 1, "not found")
	d.refuses("snapshot restore #1", 2, "to")

	d.reads("snapshot remove #1 #2 --at-once --dry-run", `
ID	VOLUME	TAKEN
#1	letters	2026-03-02 09:00:00
#2	letters	2026-03-02 10:00:00
2 snapshots of letters would be gone from here for good, without grace; a sweep would give back N B.
`)
	d.refuses("snapshot remove #1 --at-once", 2, "say --yes when that is meant")
	d.refuses("snapshot remove #1 --dry-run", 2, "are for --at-once")
	d.refuses("snapshot remove #1 #3 --at-once --yes", 1, "is the newest state of letters here")
	d.reads("snapshot remove #1 --at-once --yes", `
ID	VOLUME	TAKEN
#1	letters	2026-03-02 09:00:00
1 snapshot of letters is gone from here, and nobody can recall it. A sweep gives back N B: candid store sweep
`)
	d.refuses("snapshot recall #1", 1, "not found")
	d.reads("snapshot list letters --sort own", `
ID	TAKEN	SEEN UNTIL	CAUSE	SIZE	NEW	OWN	STATE	WHY
#3	2026-03-02 11:00:00	-	by hand	20 B	N B	N B	kept	no rules for this place, everything stays; made by hand; the \
newest complete snapshot here
#2	2026-03-02 10:00:00	-	by hand	4 B	N B	N B	kept	no rules for this place, everything stays; made by \
hand
`)
}

// That one may go first when room is short is said when it is taken, or later.
func TestMayGoFirst(t *testing.T) {
	d := newDesk(t)
	d.put("letters/one", "dear\n")
	d.run("volume add letters --path DIR/letters")
	d.run("snapshot take letters --may-go-first")
	d.reads("snapshot list letters", `
ID	TAKEN	SEEN UNTIL	CAUSE	SIZE	NEW	STATE	WHY
#1	2026-03-02 09:00:00	-	by hand	5 B	N B	kept	no rules for this place, everything stays; made by hand; the newest \
complete snapshot here
`)
	d.reads("snapshot change #1 --drop may-go-first", `
#1 of letters has no note.
`)
	d.reads("snapshot change #1 --may-go-first", `
#1 of letters has no note, the labels may-go-first=yes.
`)
}
