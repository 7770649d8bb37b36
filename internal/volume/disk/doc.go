// Package disk holds a block volume: an image file, and maps that say of each block where its bytes are.
//
// # Maps
//
//	here     the bytes are in the image; otherwise they come from the origin, a stored map
//	zero     the block reads as zeros, whatever the image holds
//	changed  it was written since the last instant, and may differ from base, the map stored last
//	frozen   it belongs to the last instant, whose snapshot is not stored yet
//
// A write does, in this order: the region's intent, the old bytes aside if the block is frozen, changed,
// the rest of the block from where it comes from and the data into the image, then here. A bit never
// promises data that is not there.
//
// # What survives what
//
// The live maps are written to a file as they change, without a sync: they survive the end of the process,
// and are believed as long as boot, mount and inode of the image and of the file are the same. Flush makes
// the image durable, then a copy of here and zero of the time before. After a power cut that copy counts,
// and every block of a region with an intent counts as changed: it is read again, and nothing is missed.
// An intent is durable before the first write into its region, and goes only after a flush that came after
// the snapshot that has all its writes. The state record names the generation of the maps, base and origin,
// and is replaced by a rename.
//
// # What arrives
//
// An origin that the store does not have whole comes from another site: what is read first, and the rest by Arrive.
// Meanwhile base is what is stored here, changed has all that differs from it, and every region its intent. What came
// is in the store, under pins of its own; the map's nodes lie in a file until all below them is there.
//
// # Order
//
// The gates of several disks, in the order that their caller gives; shapeMu; stateMu, which orders what
// replaces the state record; the stripes of blocks in ascending order; an instant's mu; wordMu, which is held
// for no wait but that for the live file. Within all of these a request may wait for another site, half a minute at
// most; who closes the disk ends that wait first. No goroutine outlives a call, but
// for those of Tick and Harvest, which the caller runs.
package disk
