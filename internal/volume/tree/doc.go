// Package tree reads directories of the host into snapshots and writes them back.
//
// Scan walks a directory by file descriptors, never by paths that something could
// redirect meanwhile, and compares each entry with what the scan cache remembers of
// the last snapshot. A file whose inode and ctime are the remembered ones is not
// opened; a directory in which nothing differs is taken over by reference.
//
// The cache is a file of directory records, mapped into memory and only appended to;
// see cache.go. It is disposable: whatever fails its checksum is read anew.
//
// Restore compares a snapshot's tree with the target entry by entry and touches only
// what differs. A file is written under a temporary name and renamed, so it is the
// old or the new one, never half; into an empty place everything is built aside and
// renamed once.
//
// Nothing here follows a symbolic link below the directory it was given.
package tree
