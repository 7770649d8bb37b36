// Package release tells which build of the program this is.
package release

import (
	"runtime/debug"
	"strings"
	"sync"
)

// Unknown stands for a build that was not made from a commit.
const Unknown = "unknown"

var stamp string // by the linker, where the build says what it was made from

// Version names the build: the day and the commit that it was made from, with "+changes" where files were changed
// since.
var Version = sync.OnceValue(func() string {
	if stamp != "" {
		return stamp
	}
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return Unknown
	}
	said := map[string]string{}
	for _, s := range info.Settings {
		said[s.Key] = s.Value
	}
	return name(said["vcs.time"], said["vcs.revision"], said["vcs.modified"] == "true")
})

func name(at, revision string, changed bool) string {
	if revision == "" {
		return Unknown
	}
	day, _, _ := strings.Cut(at, "T")
	out := day + " " + revision[:min(len(revision), 8)]
	if changed {
		out += "+changes"
	}
	return out
}
