// Package journal tells which directories changed since a volume was last read, so that a
// snapshot costs what changed and not what exists.
//
// It marks a whole filesystem by fanotify (Linux 5.17 or later) and remembers the handles
// of directories and files that events name. A handle stays with its directory through
// renames; where it stands is asked only when a volume is read. So a directory that was
// moved out, changed and moved back is found where it is now.
//
// A Watch vouches for one unbroken span: from the beginning of a reading that looked at
// everything, or at all that was told, to now. The span ends when events were lost, when
// the mark is gone with an unmounted filesystem, when mounts over, at or below the volume
// change, and with the process. Where it cannot vouch it says why, and the reader looks at
// everything.
//
// What the kernel does not tell is asked for: files that some process holds open for
// writing or maps writable and shared, and files behind loop devices, count as changed
// always. That needs sight of all processes, so the package refuses in a process namespace
// of its own. Directories that an overlay writes to below are refused too: such writes are
// told to nobody.
package journal
