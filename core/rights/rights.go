// Package rights decides what a person may do with an entry by what is recorded of it:
// owner, mode and access control list, as Linux does.
package rights

import (
	"encoding/binary"
	"slices"

	"candidharbor/core/object"
)

// Person is who wants something: a user and the groups that the user is in.
type Person struct {
	UID  uint32
	GIDs []uint32
}

// What a person may want. Of a directory, Read lists the names and Search passes through.
const (
	Search uint32 = 1
	Write  uint32 = 2
	Read   uint32 = 4
)

// The tags of an access control list (Linux, include/uapi/linux/posix_acl.h).
const (
	tagOwner  = 0x01
	tagUser   = 0x02
	tagGroup  = 0x04
	tagGroups = 0x08
	tagMask   = 0x10
	tagOther  = 0x20

	accessList  = "system.posix_acl_access"
	listVersion = 2
)

type listEntry struct {
	tag, perm uint16
	id        uint32
}

// May reports whether a person may do all of want with an entry. The order of judging is
// that of POSIX 1003.1e draft 17, §23.1.5, as acl(5) tells it; as in Linux (fs/namei.c,
// acl_permission_check) a list whose mask lets nothing through is not looked at. Nobody is
// above the rules, also not user 0.
func (p *Person) May(e *object.Entry, want uint32) bool {
	for _, x := range e.Xattrs {
		if string(x.Name) == accessList && e.Mode&0o070 != 0 {
			list, ok := parse(x.Value)
			return ok && p.mayByList(e, list, want)
		}
	}
	switch {
	case p.UID == e.UID:
		return e.Mode>>6&want == want
	case slices.Contains(p.GIDs, e.GID):
		return e.Mode>>3&want == want
	}
	return e.Mode&want == want
}

func (p *Person) mayByList(e *object.Entry, list []listEntry, want uint32) bool {
	mask := uint16(7)
	for _, l := range list {
		if l.tag == tagMask {
			mask = l.perm
		}
	}
	grants := func(perm uint16) bool { return uint32(perm)&want == want }
	if p.UID == e.UID {
		return slices.ContainsFunc(list, func(l listEntry) bool { return l.tag == tagOwner && grants(l.perm) })
	}
	for _, l := range list {
		if l.tag == tagUser && l.id == p.UID {
			return grants(l.perm & mask)
		}
	}
	in := false
	for _, l := range list {
		if l.tag == tagGroup && slices.Contains(p.GIDs, e.GID) || l.tag == tagGroups && slices.Contains(p.GIDs, l.id) {
			if in = true; grants(l.perm & mask) {
				return true
			}
		}
	}
	return !in && slices.ContainsFunc(list, func(l listEntry) bool { return l.tag == tagOther && grants(l.perm) })
}

// parse reads the attribute: version u32, then tag u16, permissions u16, id u32 of each
// entry, all little endian.
func parse(b []byte) ([]listEntry, bool) {
	if len(b) < 4 || (len(b)-4)%8 != 0 || binary.LittleEndian.Uint32(b) != listVersion {
		return nil, false
	}
	var list []listEntry
	for b = b[4:]; len(b) > 0; b = b[8:] {
		list = append(list, listEntry{binary.LittleEndian.Uint16(b), binary.LittleEndian.Uint16(b[2:]),
			binary.LittleEndian.Uint32(b[4:])})
	}
	return list, true
}
