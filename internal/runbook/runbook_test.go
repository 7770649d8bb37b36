package runbook

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

const head = "runbook: r\nat: dr\n"

// A document says what is done, in its order, and what is not said is completed.
func TestParse(t *testing.T) {
	b, err := Parse(head + `bring_up:
  - register
  - {volume: db, within: 5 minutes, failing: go on}
  - hook: start
  - check: {tcp: "127.0.0.1:5432", within: 60 seconds}
  - pause: {say: "Ask the registrar", person: operator}
  - [notes, scans]
  - group: field
after: [{hook: tell}]
paths: {notes: /srv/notes}
objectives: {loss: 15 minutes, time: 30 minutes}
drill: {when: monthly on first monday at 05:00, zone: Europe/Lisbon, keep: 1 hour}
`)
	require.NoError(t, err)
	require.Equal(t, []string{"register", "db", "notes", "scans", "field"}, b.Volumes())
	require.Equal(t, Step{Kind: BringUp, Names: []string{"db"}, Within: 5 * time.Minute, Failing: GoOn}, b.Steps[1])
	require.Equal(t, time.Minute, b.Steps[3].Within)
	require.Equal(t, Stop, b.Steps[3].Failing)
	require.Equal(t, "operator", b.Steps[4].Person)
	require.True(t, b.Steps[6].Group)
	require.Equal(t, 15*time.Minute, b.Loss)
	require.NotNil(t, b.Drill)
}

// What cannot be used is refused with its place and its cause.
func TestRefused(t *testing.T) {
	for text, say := range map[string]string{
		"":                        "runbook name",
		head:                      "brings nothing up",
		head + "bring_up: [a, a]": "a is brought up twice",
		head + "bring_up: [{volume: a, hook: b}]":                "a step does one thing",
		head + "bring_up: [{stop: a}]":                           "has no \"stop\"",
		head + "bring_up: [a, {check: {tcp: x, file: /y}}]":      "looks at one thing",
		head + "bring_up: [a, {check: {file: y}}]":               "absolute path",
		head + "bring_up: [a, {check: {http: ftp://x}}]":         "http:// or https://",
		head + "bring_up: [a, {pause: {person: operator}}]":      "says what a person is to do",
		head + "bring_up: [a, {pause: {say: x, person: clerk}}]": "administrator or an operator",
		head + "bring_up: [{volume: a, failing: later}]":         "write stop, or go on",
		head + "bring_up: [{volume: a, within: soon}]":           "duration \"soon\"",
		head + "bring_up: [a]\nafter: [b]":                       "belong under bring_up",
		head + "bring_up: [a]\npaths: {a: b}":                    "must be absolute",
		head + "bring_up: [a]\ndrill: {when: sometimes}":         "line 4",
		head + "bring_up: [a]\nbring_down: [a]":                  "bring_down",
	} {
		_, err := Parse(text)
		var p *Problems
		require.ErrorAs(t, err, &p, text)
		require.ErrorContains(t, err, say, text)
	}
}
