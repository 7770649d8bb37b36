package rights

import (
	"encoding/binary"
	"fmt"
	"testing"

	"candidharbor/core/object"

	"github.com/stretchr/testify/require"
)

func list(entries ...listEntry) []object.Xattr {
	b := binary.LittleEndian.AppendUint32(nil, 2)
	for _, e := range entries {
		b = binary.LittleEndian.AppendUint16(b, e.tag)
		b = binary.LittleEndian.AppendUint16(b, e.perm)
		b = binary.LittleEndian.AppendUint32(b, e.id)
	}
	return []object.Xattr{{Name: []byte("user.x"), Value: []byte("1")}, {Name: []byte(accessList), Value: b}}
}

func TestMay(t *testing.T) {
	const no = 0xffffffff
	acl := list(listEntry{tagOwner, 6, no}, listEntry{tagUser, 7, 7}, listEntry{tagUser, 0, 8}, listEntry{tagGroup, 4, no},
		listEntry{tagGroups, 2, 50},
		listEntry{tagMask, 6, no}, listEntry{tagOther, 1, no})
	for _, c := range []struct {
		mode  uint32
		attrs []object.Xattr
		who   Person
		may   uint32 // the bits that may be had one by one
	}{
		{0o640, nil, Person{UID: 1, GIDs: []uint32{9}}, 6},
		{0o470, nil, Person{UID: 1, GIDs: []uint32{20}}, 4}, // its owner is judged as owner, though the group may more
		{0o640, nil, Person{UID: 2, GIDs: []uint32{9, 20}}, 4},
		{0o607, nil, Person{UID: 2, GIDs: []uint32{20}}, 0},
		{0o607, nil, Person{UID: 2}, 7},
		{0o600, nil, Person{UID: 0, GIDs: []uint32{0}}, 0},
		{0o660, acl, Person{UID: 1}, 6},
		{0o660, acl, Person{UID: 7, GIDs: []uint32{20}}, 6}, // masked
		{0o660, acl, Person{UID: 8, GIDs: []uint32{20}}, 0}, // named, so its groups do not matter
		{0o660, acl, Person{UID: 3, GIDs: []uint32{20, 50}}, 6},
		{0o660, acl, Person{UID: 3, GIDs: []uint32{50}}, 2},
		{0o660, acl, Person{UID: 3, GIDs: []uint32{51}}, 1},
		{0o606, acl, Person{UID: 7}, 6}, // nothing passes the mask: others' bits count, as the kernel has it
		{0o777, []object.Xattr{{Name: []byte(accessList), Value: []byte("torn")}}, Person{UID: 1}, 0},
	} {
		e := &object.Entry{Mode: c.mode, UID: 1, GID: 20, Xattrs: c.attrs}
		for _, bit := range []uint32{Search, Write, Read} {
			require.Equal(t, c.may&bit != 0, c.who.May(e, bit), fmt.Sprintf("%+v wants %d", c, bit))
		}
	}
	// Two entries that each give a part do not give the whole.
	e := &object.Entry{Mode: 0o660, UID: 1, GID: 20, Xattrs: acl}
	require.False(t, (&Person{UID: 3, GIDs: []uint32{20, 50}}).May(e, Read|Write))
}
