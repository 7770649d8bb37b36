package phrase

import (
	"strings"
)

func FirstSentence(text string) string {
	if i := strings.Index(text, ". "); i > 0 {
		text = text[:i]
	}
	if len(text) > 150 {
		text = text[:150] + "…"
	}
	return strings.ToValidUTF8(text, "")
}
