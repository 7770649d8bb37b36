package moment

import (
	"os"
	"strings"

	"candidharbor/core/cadence"
)

// Zone is the name of the host's time zone, such as Europe/Lisbon: as TZ has it, or else /etc/localtime leads to. It is
// UTC where neither tells.
func Zone() string {
	name, set := os.LookupEnv("TZ")
	if !set {
		link, err := os.Readlink("/etc/localtime") // localtime(5)
		if err != nil {
			return "UTC"
		}
		_, name, _ = strings.Cut(link, "zoneinfo/")
	}
	name = strings.TrimPrefix(name, ":")
	if _, err := cadence.LoadZone(name); err != nil || name == "Etc/UTC" {
		return "UTC"
	}
	return name
}
