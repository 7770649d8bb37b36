package views

import (
	"fmt"
	"io/fs"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// manyMoments is a volume with a snapshot each second, and two in one.
type manyMoments struct {
	Source
	all   []Moment // newest first
	given int
}

func (m *manyMoments) Moments(volume string, second time.Time) (out []Moment, err error) {
	if volume != "notes" {
		return nil, fs.ErrNotExist
	}
	for _, one := range m.all {
		if second.IsZero() || one.Taken.Truncate(time.Second).Equal(second) {
			out = append(out, one)
		}
	}
	m.given += len(out)
	return out, nil
}

// Every name that a listing tells leads to its moment and to no other, and finding one does
// not cost by how many there are.
func TestNamesOfMoments(t *testing.T) {
	m := &manyMoments{}
	begin := time.Date(2026, 3, 4, 14, 5, 0, 123, time.UTC)
	for i := range 2000 {
		m.all = append([]Moment{{fmt.Sprintf("%064x", i), begin.Add(time.Duration(i) * time.Second)}}, m.all...)
		if i == 7 {
			m.all = append([]Moment{{"ffffeeee" + fmt.Sprintf("%056x", i), begin.Add(7*time.Second + 5)}}, m.all...)
		}
	}
	for _, form := range []string{plainForm, smbForm} {
		listed := names(m.all, form)
		require.Len(t, listed, map[string]int{plainForm: 2001, smbForm: 2000}[form])
		seen := map[string]bool{}
		m.given = 0
		for _, n := range listed {
			require.False(t, seen[n.name])
			seen[n.name] = true
			got, ok, err := lookUp(m, "notes", n.name, form)
			require.NoError(t, err)
			require.True(t, ok, n.name)
			require.Equal(t, n.Moment, got)
		}
		require.LessOrEqual(t, m.given, 2004)
	}
	for _, name := range []string{"", "x", "2026-03-04T14-04-59Z", "2026-03-04T14-05-00Z.ffff", "2026-13-04T14-05-00Z",
		"2026-03-04T14-05-07Z.eeee", "@GMT-2026.03.04-14.05.00"} {
		_, ok, err := lookUp(m, "notes", name, plainForm)
		require.NoError(t, err)
		require.False(t, ok, name)
	}
	_, _, err := lookUp(m, "other", "2026-03-04T14-05-00Z", plainForm)
	require.ErrorIs(t, err, fs.ErrNotExist)
}
