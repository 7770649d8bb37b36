package phrase

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"candidharbor/core/object"
	"candidharbor/internal/moment"
)

// FirstSentence is the first sentence of a text, shortened when it is long.
func FirstSentence(text string) string {
	if i := strings.Index(text, ". "); i > 0 {
		text = text[:i]
	}
	if len(text) > 150 {
		text = text[:150] + "…"
	}
	return strings.ToValidUTF8(text, "")
}

// PartWords says which part of a volume a snapshot is; empty: all of it.
func PartWords(d *object.Derived) string {
	if d == nil {
		return ""
	}
	words := "only " + strings.Join(d.In, ", ")
	if len(d.In) == 0 {
		words = "all"
	}
	if len(d.Out) > 0 {
		words += " but " + strings.Join(d.Out, ", ")
	}
	return words
}

// LabelWords writes labels in the order of their keys.
func LabelWords(labels map[string]string) string {
	var parts []string
	for _, k := range slices.Sorted(maps.Keys(labels)) {
		parts = append(parts, k+"="+labels[k])
	}
	return strings.Join(parts, " and ")
}

// ManyWere writes a count with its noun and was or were.
func ManyWere(n int, noun string) string {
	if n == 1 {
		return "1 " + noun + " was"
	}
	return fmt.Sprintf("%d %ss were", n, noun)
}

// ManyAre writes a count with its noun and is or are.
func ManyAre(n int, noun string) string {
	if n == 1 {
		return "1 " + noun + " is"
	}
	return fmt.Sprintf("%d %ss are", n, noun)
}

// UpperFirst begins a text with a capital letter.
func UpperFirst(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

// HasOrHave is the verb for a count.
func HasOrHave(n int) string { return Pick(n, "has", "have") }

// Pick is the word that goes with a count.
func Pick(n int, one, many string) string {
	if n == 1 {
		return one
	}
	return many
}

// Stamp puts a moment into a sentence; it is written for who reads it at the edge, see package moment.
func Stamp(t time.Time) string { return moment.Say(t) }

// Ago writes a duration with its two largest units.
func Ago(d time.Duration) string {
	if d < 0 {
		d = -d
	}
	type unit struct {
		n    int64
		name string
	}
	secs := int64(d.Round(time.Second) / time.Second)
	units := []unit{{secs / 86400, "day"}, {secs / 3600 % 24, "hour"}, {secs / 60 % 60, "minute"}, {secs % 60, "second"}}
	var parts []string
	for i, u := range units {
		if u.n > 0 {
			name := u.name
			if u.n != 1 {
				name += "s"
			}
			parts = append(parts, fmt.Sprintf("%d %s", u.n, name))
		}
		if len(parts) == 2 || (len(parts) == 1 && i >= 2) || (len(parts) == 1 && units[0].n > 9) {
			break
		}
	}
	if len(parts) == 0 {
		return "less than a second"
	}
	return strings.Join(parts, " ")
}

// Size writes bytes in binary units.
func Size(n int64) string {
	const units = "KMGTPE"
	if n < 1024 {
		return fmt.Sprintf("%d B", n)
	}
	v, i := float64(n)/1024, 0
	for v >= 1024 && i < len(units)-1 {
		v, i = v/1024, i+1
	}
	return fmt.Sprintf("%.1f %ciB", v, units[i])
}
