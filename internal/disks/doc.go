// Package disks keeps the disks of a site open and serves them over NBD.
//
// A disk is open from the start of the site on; clients open its export. A writable export is held by one
// client, which may have many connections: until it says that it leaves, or its process has ended, nobody
// else opens it. What a connection opened stays what it is: a disk that goes back is closed to clients first.
//
// A copy of another site's disk is read from the store, or from an image that follows each arrival while nobody
// reads from it.
//
// Service.mu guards the maps of disks and is held for no wait; a disk's mu guards its clients and comes after
// it, as does that of a copy's image, on which works whoever has its turn. Serve returns when its connections are
// over, which its context ends, and Keep and Follow with theirs. Close ends the disks.
package disks
