package rules

import (
	"time"
)

// OnlyOnChange reports whether what comes due in a span is only to be taken on change.
func (rs *Ruleset) OnlyOnChange(from, to time.Time) bool {
	for _, c := range rs.Take {
		if _, _, looks := c.OnChange(); looks {
			continue
		}
		if at, ok := c.Next(from); ok && !at.After(to) {
			return false
		}
	}
	return true
}

// OnlyLooks reports whether at a due time one only looks whether something changed.
func (rs *Ruleset) OnlyLooks(due time.Time) bool {
	for _, c := range rs.Take {
		if _, _, looks := c.OnChange(); looks {
			continue
		}
		if at, ok := c.Next(due.Add(-time.Nanosecond)); ok && at.Equal(due) {
			return false
		}
	}
	return true
}
