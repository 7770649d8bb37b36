package cli

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// typed runs a command that reads what it asks for.
func (d *desk) typed(text, line string) (out, errs string, code int) {
	d.t.Helper()
	r, w, err := os.Pipe()
	require.NoError(d.t, err)
	_, err = w.WriteString(text)
	require.NoError(d.t, err)
	w.Close()
	was := os.Stdin
	os.Stdin = r
	defer func() { os.Stdin = was; r.Close() }()
	return d.run(line)
}

// Prepared for the day: people with roles, restores saved and tried, what others left, a
// group together; word for word as the terminal shows it.
func TestPrepared(t *testing.T) {
	d := newDesk(t)
	d.run("volume add letters --path DIR/share --label k=v")
	d.put("share/trip/marsh.txt", "one\ntwo\n")
	d.put("left/of-2026-02-27/trip/marsh.txt", "zero\n")
	d.reads("found set letters DIR/left/of-%Y-%m-%d --zone Europe/Lisbon", `
NAME	TAKEN	STATE
of-2026-02-27	2026-02-27 00:00:00	found, can be taken over
1 moment can be taken into the history: candid found take letters
`)
	d.reads("found browse letters of-2026-02-27 trip", `
MODE	SIZE	MODIFIED	NAME
0644	5 B	2026-03-02 09:00:00	marsh.txt
To bring something back: candid restore letters PATH --found of-2026-02-27 --in-place
`)
	d.reads("found take letters", `
1 moment of letters taken over, N B new in the store; the oldest is of 2026-02-27 00:00:00
From now on the rules decide how long they stay
`)
	d.reads("found list letters", `
NAME	TAKEN	STATE
of-2026-02-27	2026-02-27 00:00:00	taken over as #1
`)
	d.refuses("found set letters none-such", 2, "must be a whole path")
	d.run("snapshot take letters")
	d.reads("restore letters trip --found of-2026-02-27 --in-place --dry-run", `
From what others left of 2026-02-27 00:00:00, in DIR/left/of-2026-02-27 to DIR/share:
  replace  trip/marsh.txt
1 replaced, 1 the same already; 5 B to write, N are free. Nothing was changed: this is what would be done.
`)
	d.refuses("restore letters trip --in-place", 2, "--at WHEN, or --found NAME")
	d.refuses("restore letters trip --found x --tar y", 2, "go with --to, --into or --in-place")
	d.reads("as-of letters --at '2026-02-28 12:00'", `
SITE	STANDS FOR IT	SNAPSHOT	SIZE	ALL OF IT BACK IN
larkfield	nearest before: 2026-02-27 00:00:00, 1 day 12 hours older	#1	5 B	-
Nothing is nearer than what is here: nearest before: 2026-02-27 00:00:00, 1 day 12 hours older.
To look at it: candid restore letters --at #1 --in-place --dry-run
`)
	d.reads("site order", `
No site is paired: what is not here is nowhere.
`)
	d.refuses("site order nowhere", 1, "there is no paired site nowhere")

	d.reads("recipe save nightly letters --to DIR/copy --exact --when 'daily at 02:30' "+
		"--zone Europe/Lisbon --check keep", `
nightly: all of letters, in its newest state, to DIR/copy, exactly so: what is not in the snapshot goes from there; \
daily at 02:30; then the hook keep checks it.
Next due 2026-03-03 02:30:00.
`)
	d.refuses("recipe save nightly letters --to DIR/copy", 1, "there is a recipe nightly already")
	d.reads("recipe run nightly", `
5 created; N KiB in T: letters as of 2026-03-02 09:00:00 in DIR/copy
`)
	d.reads("recipe edit nightly --at -24h --check none --when never", `
nightly: all of letters, as it was 24h before, to DIR/copy, exactly so: what is not in the snapshot goes from there; \
when asked for.
`)
	d.reads("recipe list", `
RECIPE	WHAT IT DOES	NEXT	LAST RUN
nightly	all of letters, as it was 24h before, to DIR/copy, exactly so: what is not in the snapshot goes from there; \
when asked for.	-	done 2026-03-02 09:00:00
`)
	d.reads("recipe show nightly", `
all of letters, as it was 24h before, to DIR/copy, exactly so: what is not in the snapshot goes from there; when \
asked for.
Saved by the host's administrator, 2026-03-02 09:00:00. Next due: -.
RUN	AT	STATE	OUTCOME
3	2026-03-02 09:00:00	done	5 created; N KiB in T: letters as of 2026-03-02 09:00:00 in DIR/copy
`)
	d.reads("recipe remove nightly", `
The recipe nightly is forgotten; what it brought back stays where it is.
`)
	d.refuses("recipe run nightly", 1, "there is no recipe nightly")

	d.reads("trial list", `
Nothing was tried yet: candid trial run, or candid trial set "daily at 04:10"
Nothing is tried by itself: candid trial set "daily at 04:10"
`)
	d.reads("trial set 'daily at 04:10' --files 50", `
Restores are tried daily at 04:10, of each volume up to 50 files of a random moment. Next: 2026-03-03 04:10:00.
`)
	_, errs, code := d.run("trial run letters")
	require.Zero(t, code, errs)
	d.refuses("trial set sometimes", 2, "sometimes")

	d.put("books/a", "1\n")
	d.run("volume add books --path DIR/books")
	d.run("group put both letters books")
	d.pass(time.Hour)
	d.run("snapshot take books")
	d.pass(time.Hour)
	d.put("books/a", "2\n")
	d.reads("group restore both --at latest --in-place --dry-run", `
The set of both was taken 2026-03-02 10:00:00.
books to DIR/books: 1 replaced; 2 B to write, N are free
letters to DIR/share: 5 the same already; 0 B to write, N are free
Nothing was changed: this is what would be done.
`)
	d.reads("group restore both --at latest --in-place", `
both as of 2026-03-02 10:00:00: books (run 7), letters (run 8)
To take all of it back: candid undo 6
`)
	d.refuses("group restore both --at latest", 2, "say where to")

	_, errs, code = d.typed("a long password\n", "person add ines --role 'file owner' --uid 2004 --gid 2004 --gid 100")
	require.Zero(t, code, errs)
	_, errs, code = d.typed("\n", "person add marta --role operator")
	require.Equal(t, 2, code)
	require.Contains(t, errs, "a password is needed")
	_, errs, code = d.typed("another password\n", "person add marta --role operator")
	require.Zero(t, code, errs)
	d.reads("person grant ines letters trip", `
ines sees trip of letters, as far as the recorded rights let user 2004.
`)
	d.reads("person list", `
PERSON	ROLE	USER (GROUPS)	SEES
ines	file owner	2004 (2004 100)	letters/trip
marta	operator	-	as the role says
`)
	d.reads("person grant ines letters trip --end", `
ines sees nothing now.
`)
	d.refuses("person grant marta letters", 2, "is an operator, whom grants of folders do not bound")
	d.refuses("person change marta", 2, "say what to change")
	d.reads("person change marta --role auditor", `
marta is changed: auditor.
`)
	d.reads("person remove marta", `
marta is let in no more; the person's tokens and sessions have ended.
`)
	d.reads("ledger list --text person", `
ENTRY	AT	WHO	ROLE	VIA	ACT	ABOUT
32	2026-03-02 11:00:00	the host's administrator	administrator	socket	removePerson	/people/marta
31	2026-03-02 11:00:00	the host's administrator	administrator	socket	changePerson	/people/marta {"role":"auditor"}
26	2026-03-02 11:00:00	the host's administrator	administrator	socket	addPerson	/people \
{"name":"marta","role":"operator"}
25	2026-03-02 11:00:00	the host's administrator	administrator	socket	addPerson	/people \
{"gids":[2004,100],"name":"ines","role":"file owner","uid":2004}
`)
	d.reads("ledger verify", `
The ledger is whole: 32 entries, each as it was written. No other site has seen it yet: that its end is not cut off is \
known from then on.
Its last sum is #2.
`)
	d.reads("clone list", `
No clones. Make one: candid clone create NAME VOLUME DIR
`)
	d.refuses("clone create x letters DIR/share", 2, "is not empty")
	d.refuses("clone discard x", 1, "there is no clone x")
	require.NoDirExists(t, filepath.Join(d.dir, "clones"))
}
