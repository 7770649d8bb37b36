// Package clones shows snapshots as filesystems of this host: mounts, which can be read, and clones, which
// can be written.
//
// A snapshot on which a clone stands is not let go. Both are there again after the service starts anew,
// and what was changed in a clone stays until it is discarded.
//
// mu is held while a mount or a clone is made or ended and comes before usesMu, which guards a map and
// is held for no wait. Filesystems end with EndMounts and EndClones; no goroutine is left behind them.
package clones
