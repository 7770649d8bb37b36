package phrase

import (
	"fmt"
	"strings"
	"time"
)

func Stamp(t time.Time) string { return t.Local().Format("2006-01-02 15:04:05") }

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
