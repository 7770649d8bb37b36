package catalog

import (
	"path/filepath"
	"testing"

	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	"github.com/stretchr/testify/require"
)

// Rows that say only in words why something is so are given the codes of those words.
func TestCodesOfOlderRows(t *testing.T) {
	path := filepath.Join(t.TempDir(), "catalog.db")
	db, err := sqlx.Open("sqlite", "file:"+path)
	require.NoError(t, err)
	p, err := goose.NewProvider(goose.DialectSQLite3, db.DB, must(subFS()))
	require.NoError(t, err)
	_, err = p.UpTo(t.Context(), 18)
	require.NoError(t, err)
	causes := map[string]RouteCause{
		"": CauseNone, "shelf: it is detached: when its disk is there again, candid place attach shelf": CauseDetached,
		"site mereside cannot be reached: 127.0.0.1:9: connection refused":                CauseUnreachable,
		"nothing more is taken in: the store was low on space":                            CauseFull,
		"the root is not signed by the site that took it":                                 CauseFailed,
		"site shelf cannot be reached: place:/srv/disk: it is detached: when its disk is": CauseDetached,
	}
	db.MustExec(`INSERT INTO peers (name,key,addresses,paired,seen) VALUES ('p','k','[]',0,0)`)
	const route = `INSERT INTO routes (name,peer,volumes,made,last_ok,failing_since,failures,next_try,last_error,
		sent_bytes,saved_bytes) VALUES (?,'p','{}',0,0,0,?,5,?,0,0)`
	for text := range causes {
		db.MustExec(route, text, 1, text)
	}
	db.MustExec(route, "closed", 0, "the pace lets nothing through")
	goings := map[string]string{"": "", "removed by hand": "hand", "over the cap of volume notes: at most 3": "cap",
		"removed for room (remove expired)": "room", "no longer within daily 3": "rules"}
	const snapshot = `INSERT INTO snapshots (id,place,volume,lineage,origin,term,sequence,began,ended,seen_until,cause,
		consistency,files,dirs,others,bytes,stored,remarks,note,labels,own_end,recalled_until,arrived,grace_until,let_go,
		out_of_turn) VALUES (?,'here','v','l','o',1,1,1,1,1,'scheduled','spread',0,0,0,0,0,0,'','{}',0,0,0,0,?,?)`
	for text := range goings {
		db.MustExec(snapshot, text, text, "")
	}
	db.MustExec(snapshot, "b", "",
		"it is of the branch 9f3a11c0 of the history: it has the place of 77aa, so its site was put back")
	require.NoError(t, db.Close())

	c, err := Open(path)
	require.NoError(t, err)
	defer c.Close()
	for text, want := range causes {
		r, err := c.Route(text)
		require.NoError(t, err)
		require.Equal(t, want, r.LastCause, text)
	}
	r, err := c.Route("closed")
	require.NoError(t, err)
	require.Equal(t, CausePace, r.LastCause)
	var rows []*Snapshot
	require.NoError(t, c.db.Select(&rows, `SELECT * FROM snapshots`))
	require.Len(t, rows, len(goings)+1)
	for _, row := range rows {
		require.Equal(t, goings[row.LetGo], row.LetGoCause, row.LetGo)
		require.Equal(t, map[bool]string{true: "9f3a11c0"}[row.ID == "b"], row.Branch)
	}
	branches, err := c.Branches("here", "l", 1, 0, 2)
	require.NoError(t, err)
	require.Equal(t, []string{"9f3a11c0"}, branches)
	_, err = c.db.Exec(`UPDATE snapshots SET out_of_turn='' WHERE id='b'`)
	require.NoError(t, err)
	branches, err = c.Branches("here", "l", 1, 0, 2)
	require.NoError(t, err)
	require.Empty(t, branches, "what was admitted is of the history")
}
