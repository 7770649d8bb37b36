package catalog

import (
	"path/filepath"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	"github.com/stretchr/testify/require"
)

// What the 19th schema held as texts among the settings are records with all that they said, and single
// facts stay where they were.
func TestRecordsOfOlderSettings(t *testing.T) {
	path := filepath.Join(t.TempDir(), "catalog.db")
	db, err := sqlx.Open("sqlite", "file:"+path)
	require.NoError(t, err)
	p, err := goose.NewProvider(goose.DialectSQLite3, db.DB, must(subFS()))
	require.NoError(t, err)
	_, err = p.UpTo(t.Context(), 19)
	require.NoError(t, err)
	const lineage = "00112233445566778899aabbccddeeff"
	facts := map[string]string{"generation": "7", "founded as": "larkfield", "removal held": "look first",
		"clock seen": `{"wall":"2026-03-04T02:30:00Z"}`, "starts": `["0102030405060708"]`, "trials": `{"when":"daily"}`}
	for key, value := range facts {
		db.MustExec(`INSERT INTO settings (key,value) VALUES (?,?)`, key, value)
	}
	for key, value := range map[string]string{
		"clone look me": `{"volume":"notes","snapshot":"ab","taken":"2026-03-04T02:30:00.123456789+02:00","dir":"/srv/c",
			"made":"2026-03-05T00:00:00Z","by":"ines","until":"2026-04-01T00:00:00Z","ending":true}`,
		"clone bare": `{"volume":"notes","snapshot":"ab","taken":"2026-03-04T00:30:00Z","dir":"/srv/d",
			"made":"2026-03-05T00:00:00Z","by":"ines"}`,
		"recipe nightly": `{"restore":{"volume":"notes","paths":["a b","c"],"at":"-24h","to":"/srv/r","onConflict":"replace"},
			"exact":true,"when":"daily at 02:30","zone":"Europe/Oslo","check":"look","made":"2026-03-05T00:00:00Z",
			"by":"ines","filled":"/srv/r"}`,
		"mount /srv/m": `{"volume":"notes","dir":"/srv/m","since":"2026-03-05T00:00:00Z","by":"ines"}`,
		"restoring 41": `{"run":0,"by":"","beneath":"/srv","target":"/srv/t","ask":{"volume":"notes","paths":["x"],
			"at":"ab","inPlace":true,"onConflict":"undo"},"snapshot":"ab","safety":"cd","undoes":3,"beside":null,
			"owner":"sol","recipe":"nightly","exact":true,"times":2}`,
		"found notes":                 `{"pattern":"/srv/old/%Y-%m-%d","zone":"UTC"}`,
		"appointed recipe nightly":    "2026-03-05T02:30:00.5Z",
		"places":                      `{"shelf":"/mnt/disk","drawer":"/mnt/two"}`,
		"seen starts of mereside":     `["0102030405060708","1112131415161718"]`,
		"put back: mereside":          `{"at":"2026-03-06T00:00:00Z","owedAgain":-1}`,
		"two sites: stonewick":        "2026-03-07T00:00:00Z",
		"ledger of stonewick":         "12 99aa",
		"former key abcd":             "2026-03-08T00:00:00Z",
		"term " + lineage:             "4",
		"ground " + lineage:           "dev 8:1 ino 2",
		"meant " + lineage:            "1772668800",
		"doubt " + lineage:            `{"code":"nearly-empty","since":"2026-03-09T00:00:00Z","was":100,"is":2}`,
		"derived to shelf " + lineage: "ef",
		"compared with to shelf":      "2026-03-06T00:00:00Z",
	} {
		db.MustExec(`INSERT INTO settings (key,value) VALUES (?,?)`, key, value)
	}
	db.MustExec(`INSERT INTO peers (name,key,addresses,paired,seen) VALUES ('p','k','[]',0,0)`)
	db.MustExec(`INSERT INTO routes (name,peer,volumes,made,last_ok,failing_since,failures,next_try,last_error,sent_bytes,
		saved_bytes) VALUES ('to shelf','p','{}',0,0,0,0,0,'',0,0)`)
	require.NoError(t, db.Close())

	c, err := Open(path)
	require.NoError(t, err)
	defer c.Close()
	day := func(month time.Month, n int) Time { return At(time.Date(2026, month, n, 0, 0, 0, 0, time.UTC)) }
	taken := At(time.Date(2026, 3, 4, 0, 30, 0, 0, time.UTC))
	require.Equal(t, []*Clone{
		{Name: "bare", Volume: "notes", Snapshot: "ab", Taken: taken, Dir: "/srv/d", Made: day(3, 5), MadeBy: "ines"},
		{Name: "look me", Volume: "notes", Snapshot: "ab", Taken: taken, Dir: "/srv/c", Made: day(3, 5), MadeBy: "ines",
			Until: day(4, 1), Ending: true}}, must(c.Clones()))
	require.Equal(t, []*Recipe{{Name: "nightly", RestoreRequest: RestoreRequest{Volume: "notes",
		Paths: JSON[[]string]{[]string{"a b", "c"}}, At: "-24h", ToDir: "/srv/r", OnConflict: "replace"}, Exact: true,
		Due: "daily at 02:30", Zone: "Europe/Oslo", Hook: "look", Made: day(3, 5), MadeBy: "ines", Filled: "/srv/r"}},
		must(c.Recipes()))
	require.Equal(t, []*Mount{{Dir: "/srv/m", Volume: "notes", Since: day(3, 5), MadeBy: "ines"}}, must(c.Mounts()))
	require.Equal(t, []*InterruptedRestore{{Run: 41, Beneath: "/srv", Target: "/srv/t", RestoreRequest: RestoreRequest{
		Volume: "notes", Paths: JSON[[]string]{[]string{"x"}}, At: "ab", InPlace: true, OnConflict: "undo"},
		Snapshot: "ab", Safety: "cd", Undoes: 3, Beside: JSON[[]string]{[]string{}}, Owner: "sol", Recipe: "nightly",
		OwnCopy: true, Times: 2}}, must(c.InterruptedRestores()))
	require.Equal(t, ExternalSource{Volume: "notes", Pattern: "/srv/old/%Y-%m-%d", Zone: "UTC"},
		must(c.ExternalSource("notes")))
	require.Equal(t, time.Date(2026, 3, 5, 2, 30, 0, 0, time.UTC), must(c.TaskKept(RecipeTask+"nightly")))
	require.Equal(t, map[string]string{"shelf": "/mnt/disk", "drawer": "/mnt/two"}, must(c.Places()))
	require.Equal(t, []PeerHistory{
		{Peer: "mereside", Starts: JSON[[]string]{[]string{"0102030405060708", "1112131415161718"}}, PutBack: day(3, 6),
			OwedAgain: -1, ClockWithin: -1},
		{Peer: "stonewick", Starts: JSON[[]string]{[]string{}}, TwoSites: day(3, 7), LedgerEntries: 12,
			LedgerSum: "99aa", ClockWithin: -1}}, must(c.PeerHistories()))
	require.True(t, must(c.IsFormerKey("abcd")))
	require.False(t, must(c.IsFormerKey("abc")))
	require.Equal(t, map[string]History{lineage: {Lineage: lineage, Term: 4, Ground: "dev 8:1 ino 2",
		Meant: At(time.Unix(1772668800, 0).UTC()), Doubt: "nearly-empty", DoubtSince: day(3, 9), FilesBefore: 100,
		FilesNow: 2}}, must(c.DoubtfulHistories()))
	require.Equal(t, "ef", must(c.Derived("to shelf", lineage)))
	r := must(c.Route("to shelf"))
	require.Equal(t, day(3, 6), r.Compared)

	r.LastError = "later"
	require.NoError(t, c.SetCompared(r.Name, day(3, 7)))
	require.NoError(t, c.PutRoute(r))
	require.Equal(t, day(3, 7), must(c.Route(r.Name)).Compared, "who writes a route back knows nothing of it")
	var left int
	require.NoError(t, c.db.Get(&left, `SELECT count(*) FROM settings`))
	require.Equal(t, len(facts), left)
	for key, value := range facts {
		require.Equal(t, value, must(c.Setting(key)))
	}
}
