package cli

import "testing"

// Two volumes are compared, and where what differs would be brought back to is said; of a copy elsewhere nothing is
// compared line by line.
func TestComparedWithAnother(t *testing.T) {
	d := newDesk(t)
	d.put("letters/one", "dear\n")
	d.put("letters/two", "sir\n")
	d.put("copies/one", "dear\n")
	for _, v := range []string{"letters", "copies"} {
		d.run("volume add " + v + " --path DIR/" + v)
		d.run("snapshot take " + v)
	}
	d.reads("compare letters --from latest --with copies", `
letters from 2026-03-02 09:00:00 (snapshot #1; the newest snapshot, taken 2026-03-02 09:00:00)
to copies, now, 2026-03-02 09:00:00:
WHAT	SIZE	PATH
removed	4 B	two
1 removed; 0 B came, 4 B went.
To bring back what went or changed: candid restore letters PATH --at #1 --into copies
`)
	d.reads("compare copies --from latest --with letters --to latest", `
copies from 2026-03-02 09:00:00 (snapshot #2; the newest snapshot, taken 2026-03-02 09:00:00)
to letters, 2026-03-02 09:00:00 (snapshot #1; the newest snapshot, taken 2026-03-02 09:00:00):
WHAT	SIZE	PATH
added	4 B	two
1 added; 4 B came, 0 B went.
`)
	d.refuses("compare letters one --from latest --with copies --text", 2, "not with --text")
	d.refuses("compare letters --from latest --with nothere", 1, "nothere")
	d.refuses("compare letters --from latest --from-site nowhere", 1, "no paired site nowhere")
}
