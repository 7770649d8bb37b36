package cli

import (
	"fmt"
	"maps"
	"os"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/internal/moment"
	"candidharbor/internal/phrase"
	"candidharbor/internal/visible"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"golang.org/x/term"
)

// The service writes sizes and times in the same way.
var size = phrase.Size

// when writes a moment in the zone of the terminal.
func when(t time.Time) string { return moment.Here().Write(t) }

func whenPtr(t *time.Time) string {
	if t == nil {
		return "-"
	}
	return when(*t)
}

// age writes seconds with one unit, rounded down.
func age(seconds int64) string {
	switch {
	case seconds < 120:
		return fmt.Sprintf("%d s", seconds)
	case seconds < 2*3600:
		return fmt.Sprintf("%d min", seconds/60)
	case seconds < 48*3600:
		return fmt.Sprintf("%d h", seconds/3600)
	}
	return fmt.Sprintf("%d days", seconds/86400)
}

func labelText(m map[string]string) string {
	var parts []string
	for _, k := range slices.Sorted(maps.Keys(m)) {
		parts = append(parts, k+"="+m[k])
	}
	return strings.Join(parts, " ")
}

func short(id string) string {
	if len(id) > 12 {
		return id[:12]
	}
	return id
}

// terminalWidth returns the columns of the terminal, or 0 when the output is none.
func terminalWidth(w any) int {
	if s, ok := w.(*visible.Writer); ok {
		w = s.W
	}
	f, ok := w.(*os.File)
	if !ok {
		return 0
	}
	columns, _, err := term.GetSize(int(f.Fd()))
	if err != nil {
		return 0
	}
	return columns
}

// list prints a table that fits the terminal; piped, it is plain columns by tabs.
func (f *session) list(head []string, rows [][]string, empty string) {
	if len(rows) == 0 {
		f.say("%s", empty)
		return
	}
	for _, r := range rows {
		for i := range r {
			r[i] = visible.Line(r[i])
		}
	}
	width := terminalWidth(f.out)
	if width == 0 {
		fmt.Fprintln(f.out, strings.Join(head, "\t"))
		for _, r := range rows {
			fmt.Fprintln(f.out, strings.Join(r, "\t"))
		}
		return
	}
	t := table.NewWriter()
	t.SetOutputMirror(f.out)
	style := table.StyleLight
	style.Options = table.Options{SeparateHeader: true}
	style.Box.PaddingLeft, style.Box.PaddingRight = "", "  "
	style.Format.Header = text.FormatDefault
	t.SetStyle(style)
	row := func(cells []string) table.Row {
		r := make(table.Row, len(cells))
		for i, c := range cells {
			r[i] = c
		}
		return r
	}
	t.AppendHeader(row(head))
	for _, r := range rows {
		t.AppendRow(row(r))
	}
	t.SetColumnConfigs(fit(head, rows, width))
	t.Render()
}

// fit narrows the widest columns, the last first, until the table fits.
func fit(head []string, rows [][]string, width int) []table.ColumnConfig {
	cols := make([]int, len(head))
	total := 0
	for i := range head {
		cols[i] = text.StringWidth(head[i])
		for _, r := range rows {
			cols[i] = max(cols[i], text.StringWidth(r[i]))
		}
		total += cols[i] + 2
	}
	for total > width {
		widest := len(cols) - 1
		for i := range cols {
			if cols[i] > cols[widest] {
				widest = i
			}
		}
		if cols[widest] <= 12 {
			break
		}
		cols[widest]--
		total--
	}
	cfg := make([]table.ColumnConfig, len(cols))
	for i := range cols {
		cfg[i] = table.ColumnConfig{Number: i + 1, WidthMax: cols[i], WidthMaxEnforcer: text.WrapSoft}
	}
	return cfg
}

var relative = regexp.MustCompile(`^([+-])(\d+)(s|m|h|d|w)$`)

// parseWhen reads a moment: RFC 3339, a date and time in the local zone, -2h or +30d.
// Anything else may be "latest" or a snapshot's id, which only the site can tell.
func parseWhen(s string, now time.Time) (time.Time, bool) {
	if t, err := time.Parse(time.RFC3339, s); err == nil {
		return t, true
	}
	for _, form := range []string{"2006-01-02 15:04:05", "2006-01-02 15:04", "2006-01-02T15:04:05", "2006-01-02T15:04",
		"2006-01-02"} {
		if t, err := time.ParseInLocation(form, s, time.Local); err == nil {
			return t, true
		}
	}
	if m := relative.FindStringSubmatch(s); m != nil {
		n, err := strconv.Atoi(m[2])
		if err != nil || n > 1_000_000 {
			return time.Time{}, false
		}
		unit := map[string]time.Duration{"s": time.Second, "m": time.Minute, "h": time.Hour, "d": 24 * time.Hour,
			"w": 7 * 24 * time.Hour}[m[3]]
		d := time.Duration(n) * unit
		if m[1] == "-" {
			d = -d
		}
		return now.Add(d), true
	}
	return time.Time{}, false
}

// instant turns a WHEN into what the API takes.
func instant(s string) string {
	if t, ok := parseWhen(s, time.Now()); ok {
		return t.Format(time.RFC3339)
	}
	return s
}

func future(s string) (*time.Time, error) {
	if s == "" {
		return nil, nil
	}
	t, ok := parseWhen(s, time.Now())
	if !ok {
		return nil, misuse("%q is not a time: write 2027-03-01, 2027-03-01 14:00, or +30d", s)
	}
	return &t, nil
}

func plural(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

func snapshotRow(s *api.Snapshot) []string {
	state := s.State
	if s.GraceUntil != nil {
		state = "in grace until " + when(*s.GraceUntil)
	}
	why := strings.Join(s.Reasons, "; ")
	if s.State != "kept" || why == "" {
		why = s.LetGo
	}
	return []string{short(s.ID), when(s.Taken), whenPtr(s.SeenUntil), s.Cause, size(s.Bytes), size(s.Stored), state, why}
}
