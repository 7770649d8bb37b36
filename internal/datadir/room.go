package datadir

import (
	"fmt"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"
)

// The measures against too little room, in the order in which they are taken unless
// site.yaml names another or fewer.
const (
	ShortenGrace  = "shorten grace"
	RemoveExpired = "remove expired"
	MayGoFirst    = "may go first"
	ThinDensest   = "thin"
	StopTaking    = "stop taking"
)

// AllMeasures are what may be done when room is short, in the order that is usual.
var AllMeasures = []string{ShortenGrace, RemoveExpired, MayGoFirst, ThinDensest, StopTaking}

// RoomOn returns the free and the total bytes of a directory's filesystem.
func RoomOn(dir string) (free, total int64) {
	var st unix.Statfs_t
	if unix.Statfs(dir, &st) != nil {
		return 1 << 62, 1 << 62 // what cannot be known is no reason to remove anything
	}
	return int64(st.Bavail) * st.Bsize, int64(st.Blocks) * st.Bsize
}

// ParseShare reads "20 GiB" or "10 %" of a filesystem's size.
func ParseShare(what, text string, total int64) (int64, error) {
	number, unit, _ := strings.Cut(strings.TrimSpace(text), " ")
	if n, ok := strings.CutSuffix(number, "%"); ok && unit == "" {
		number, unit = n, "%"
	}
	v, err := strconv.ParseFloat(number, 64)
	scale, known := map[string]float64{"%": float64(total) / 100, "MiB": 1 << 20, "GiB": 1 << 30, "TiB": 1 << 40}[unit]
	if err != nil || !known || v < 0 || (unit == "%" && v > 90) {
		return 0, fmt.Errorf("%s %q: write a size such as 20 GiB, or a share such as 10 %%", what, text)
	}
	return int64(v * scale), nil
}

// Lacking is how many bytes must come free for the headroom to be kept; 0: none.
func (s *Dir) Lacking() (lack, free, want int64) {
	if s.Conf.Headroom == "" {
		return 0, 0, 0
	}
	free, total := s.Room()
	want, err := ParseShare("headroom", s.Conf.Headroom, total)
	if err != nil {
		return 0, free, 0 // checked when the site was opened
	}
	return max(0, want-free), free, want
}
