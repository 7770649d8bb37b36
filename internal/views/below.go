package views

import (
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"golang.org/x/sys/unix"
)

// UnmountBelow takes away all that is mounted below a directory, which lies beneath root, whoever mounted it and
// whoever is in it: what is removed there afterwards is the directory's own. It fails while anything stays.
func UnmountBelow(root, dir string) error {
	all, err := mountsBelow(dir)
	if err != nil {
		return err
	}
	slices.SortFunc(all, func(a, b string) int { return len(b) - len(a) }) // the deepest first
	for _, at := range all {
		spot, oerr := OpenSpot(root, at)
		if oerr == nil {
			oerr = spot.unmount(unix.MNT_DETACH)
			spot.Close()
		}
		if oerr != nil {
			err = errors.Join(err, fmt.Errorf("what is mounted at %s cannot be taken away: %w", at, oerr))
		}
	}
	if err != nil {
		return err
	}
	if all, err = mountsBelow(dir); err == nil && len(all) > 0 {
		err = fmt.Errorf("something is mounted at %s again", all[0])
	}
	return err
}

func mountsBelow(dir string) (all []string, err error) {
	raw, err := os.ReadFile("/proc/self/mountinfo") // proc_pid_mountinfo(5)
	for line := range strings.Lines(string(raw)) {
		if fields := strings.Fields(line); len(fields) > 4 {
			if at := octal.Replace(fields[4]); strings.HasPrefix(at, dir+"/") {
				all = append(all, at)
			}
		}
	}
	return all, err
}
