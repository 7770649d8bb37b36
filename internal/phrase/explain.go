package phrase

import (
	"fmt"
	"maps"
	"slices"
	"strings"
)

func LabelWords(labels map[string]string) string {
	var parts []string
	for _, k := range slices.Sorted(maps.Keys(labels)) {
		parts = append(parts, k+"="+labels[k])
	}
	return strings.Join(parts, " and ")
}

func ManyWere(n int, noun string) string {
	if n == 1 {
		return "1 " + noun + " was"
	}
	return fmt.Sprintf("%d %ss were", n, noun)
}

func ManyAre(n int, noun string) string {
	if n == 1 {
		return "1 " + noun + " is"
	}
	return fmt.Sprintf("%d %ss are", n, noun)
}

func UpperFirst(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

func HasOrHave(n int) string {
	if n == 1 {
		return "has"
	}
	return "have"
}
