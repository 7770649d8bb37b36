package httpapi

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"candidharbor/api"
	"candidharbor/internal/moment"

	"github.com/stretchr/testify/require"
)

// A moment in a sentence is written for who asks, wherever it was made; what was answered once is written anew for who
// asks again. No mark gets out.
func TestTimesInSentences(t *testing.T) {
	c, s, share := open(t)
	require.Equal(t, 201, c.call("POST", "/volumes", `{"name":"v","path":"`+share+`"}`, nil, nil))
	require.Equal(t, 200, c.call("POST", "/volumes/v/pause", `{}`, nil, nil))
	v, err := s.Catalog.Volume("v")
	require.NoError(t, err)
	says := func(method, path, body string, head map[string]string) string {
		var raw any
		c.call(method, path, body, head, &raw)
		text := strings.ReplaceAll(string(jsonOf(t, raw)), `\"`, `"`)
		require.NotContains(t, text, moment.Mark)
		return text
	}
	zone := func(name string) *time.Location {
		z, err := time.LoadLocation(name)
		require.NoError(t, err)
		return z
	}
	for ask, form := range map[string]string{
		"":                            v.Paused.Local().Format("2006-01-02 15:04:05"),
		"nowhere, day first":          v.Paused.Local().Format("2006-01-02 15:04:05"),
		"Asia/Tokyo":                  v.Paused.In(zone("Asia/Tokyo")).Format("2006-01-02 15:04:05"),
		"Asia/Tokyo, day first":       v.Paused.In(zone("Asia/Tokyo")).Format("2 Jan 2006 15:04:05"),
		"Pacific/Niue, month first":   v.Paused.In(zone("Pacific/Niue")).Format("Jan 2, 2006 3:04:05 pm"),
		"America/Caracas, year first": v.Paused.In(zone("America/Caracas")).Format("2006-01-02 15:04:05"),
	} {
		head := map[string]string{"Candid-Times": ask, "Idempotency-Key": "refused once"}
		require.Contains(t, says("GET", "/status", "", head), "is paused since "+form, ask)
		require.Contains(t, says("POST", "/volumes/v/pause", `{}`, head), "since "+form, "%s: a refusal", ask)
	}

	// What is chosen is kept by who asks.
	var me api.Me
	require.Equal(t, 200, c.call("GET", "/me", "", nil, &me))
	require.Equal(t, api.Times{Dates: "year first"}, me.Times)
	for _, bad := range []string{`{"zone":"Nowhere/Else","dates":"day first"}`, `{"zone":"Local","dates":"day first"}`,
		`{"zone":"","dates":"sideways"}`} {
		require.Contains(t, []int{400, 422}, c.call("PUT", "/me/times", bad, nil, nil), bad)
	}
	require.Equal(t, 200, c.call("PUT", "/me/times", `{"zone":"Asia/Tokyo","dates":"day first"}`, nil, nil))
	other, err := s.Access.NewToken(api.TokenAdd{Name: "other"})
	require.NoError(t, err)
	require.Equal(t, 200, c.call("GET", "/me", "", nil, &me))
	require.Equal(t, api.Times{Zone: "Asia/Tokyo", Dates: "day first"}, me.Times)
	d := *c
	d.token = other.Text
	require.Equal(t, 200, d.call("GET", "/me", "", nil, &me))
	require.Empty(t, me.Times.Zone)
	require.Equal(t, 200, d.call("DELETE", "/tokens/test", "", nil, nil))
	again, err := s.Access.NewToken(api.TokenAdd{Name: "test"})
	require.NoError(t, err)
	d.token = again.Text
	require.Equal(t, 200, d.call("GET", "/me", "", nil, &me))
	require.Empty(t, me.Times.Zone, "what was chosen went with the token")
}

func jsonOf(t *testing.T, v any) []byte {
	raw, err := json.Marshal(v)
	require.NoError(t, err)
	return raw
}
