// Package nbd serves disks by the Network Block Device protocol, fixed newstyle, as its published document
// (doc/proto.md of the nbd project) says. It knows the protocol alone: what an export is, and who may open
// it, is told by an [Exports].
//
// Spoken are the options EXPORT_NAME, ABORT, LIST, STARTTLS, INFO, GO, STRUCTURED_REPLY and LIST and
// SET_META_CONTEXT with base:allocation, and the commands READ, WRITE, DISC, FLUSH, TRIM, WRITE_ZEROES and
// BLOCK_STATUS.
//
// # Speed
//
// A connection has one goroutine that reads requests as many at once as have come, does at once what takes
// no wait, and sends all replies to it in one write. What may wait (large requests, syncs, bytes that are not
// in memory) is done beside that, bounded in number and bytes.
//
// [Serve] returns when the connection is over and all its requests are; it leaves no goroutine.
package nbd
