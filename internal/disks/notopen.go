package disks

import (
	"errors"
	"fmt"

	"candidharbor/internal/volume/disk"
)

// NotOpenError says that a disk is not open, and what can be done.
type NotOpenError struct {
	Disk  string
	Cause error // nil: it is not served
}

func (e *NotOpenError) Unwrap() error { return e.Cause }

func (e *NotOpenError) Error() string {
	name := e.Disk
	switch {
	case e.Cause == nil:
		return fmt.Sprintf("the disk %s is not served: candid disk open %s", name, name)
	case errors.Is(e.Cause, disk.ErrOtherImage):
		return fmt.Sprintf("the disk %s cannot be opened: %s. If it was copied or put back as it was, with the records of "+
			"the disk: candid disk open %s --moved. Else go on from a snapshot: candid restore %s --at latest --in-place "+
			"--anew", name, e.Cause, name, name)
	}
	return fmt.Sprintf("the disk %s cannot be opened: %s. When that is mended: candid disk open %s. To go on from a "+
		"snapshot instead: candid restore %s --at latest --in-place --anew", name, e.Cause, name, name)
}
