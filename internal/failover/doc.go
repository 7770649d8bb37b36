// Package failover moves the active side of volumes to another site, and home again.
//
// A site that learns that another one is active stands back: clients of its disks are disconnected, its schedule stops,
// the hook stand-back tells those that write to its directories, and what they wrote and nobody has is stored as a
// snapshot that is left behind. Nothing is laid over a directory or an image before that is durable.
//
// Every act is a row of failovers whose steps are durable before they are done, so that the next start goes on.
package failover
