package run

// KeyKind is a kind of what one run at a time may have.
type KeyKind int

// The kinds, in the order in which they are taken: who has one takes only those that come after it. Of
// volumes and lineages one run may have several, which it takes in the order of their names.
const (
	KeyPlaces   KeyKind = iota + 1 // attaching and detaching places
	KeyRotation                    // of the site's key
	KeyMove                        // standing back from a volume, or bringing it up
	KeyDue                         // what is due of a volume or group
	KeyRoute                       // runs of a route
	KeyCrate                       // loading crates
	KeyStandby                     // laying out a copy
	KeyOutlet                      // runs of an outlet
	KeyTests                       // restore tests, which measure
	KeyTarget                      // a directory that is restored to
	KeyVolume                      // reading a volume, or writing to it
	KeyLineage                     // taking in snapshots of a history
	KeyRelief                      // making room
	KeyPrune                       // deciding on snapshots and changing what becomes of them
	KeyDisk                        // making, opening and closing a disk
	KeyVerify
	KeySweep
	KeyCopy    // of the catalogue
	KeyNotices // sending them
)

// Key is what one run at a time may have.
type Key struct {
	Kind KeyKind
	Name string // of the volume, route, directory; empty where there is one of the kind
}

// Of is the key of a kind by name.
func (k KeyKind) Of(name string) Key { return Key{k, name} }
