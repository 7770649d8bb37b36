// Package views shows snapshots without copying them: as a filesystem (FUSE) and by
// WebDAV, read-only. In both a volume is a directory with one directory for each moment.
//
// A moment's directory is named by when the snapshot was taken, in UTC:
// 2026-03-04T14-05-00Z, with a dot and the beginning of its id when several were taken in
// that second; latest leads to the newest. The filesystem has the same moments as
// @GMT-2026.03.04-14.05.00 in the directory previous-versions, the form in which the SMB
// protocol names them (MS-SMB2 2.2.32, "snapshot time token").
package views

import (
	"fmt"
	"time"

	"candidharbor/core/object"
)

// Source gives snapshots to be shown.
type Source interface {
	Volumes() ([]string, error)
	// Moments are a volume's snapshots, newest first: all, or those taken in a second. Of a
	// volume that is not there or not to be seen the error is fs.ErrNotExist.
	Moments(volume string, second time.Time) ([]Moment, error)
	// Newest is the first of them; ok is false when there is none.
	Newest(volume string) (m Moment, ok bool, err error)
	// Hold opens a snapshot and keeps it readable, though it may be removed, until it is
	// released.
	Hold(volume, id string) (*Held, error)
}

// Moment is a snapshot that can be shown.
type Moment struct {
	ID    string
	Taken time.Time
}

// Held is an open snapshot.
type Held struct {
	Root    *object.Root
	Get     object.Getter
	Release func()
}

const (
	plainForm = "2006-01-02T15-04-05Z"
	smbForm   = "@GMT-2006.01.02-15.04.05"
	latest    = "latest"
	versions  = "previous-versions"
)

// named is a moment under one of its names.
type named struct {
	name string
	Moment
}

// names gives each moment its name. Where names must stay as they are, of several
// snapshots of one second the newest alone has it.
func names(all []Moment, form string) []named {
	taken := map[string]bool{}
	out := make([]named, 0, len(all))
	for _, m := range all {
		name := m.Taken.UTC().Format(form)
		if taken[name] {
			if form == smbForm {
				continue
			}
			name = fmt.Sprintf("%s.%.8s", name, m.ID)
		}
		taken[name] = true
		out = append(out, named{name, m})
	}
	return out
}

// lookUp finds a moment by one of its names. It asks for those of its second alone: there may
// be very many others.
func lookUp(src Source, volume, name, form string) (Moment, bool, error) {
	if len(name) < len(form) {
		return Moment{}, false, nil
	}
	second, err := time.Parse(form, name[:len(form)])
	if err != nil {
		return Moment{}, false, nil
	}
	all, err := src.Moments(volume, second)
	for _, n := range names(all, form) {
		if n.name == name {
			return n.Moment, true, err
		}
	}
	return Moment{}, false, err
}
