// Package store keeps objects on media, each piece of content once.
//
// On disk a store is a directory:
//
//	packs/   records of objects, about 64 MiB a file, metadata (m-) and data (d-) apart
//	log/     small commits, one fsync each, sealed into packs when large
//	roots/   one signed record per snapshot
//	marks/   signed statements beside snapshots
//	index/   derived: sorted runs identity → place, and the table of ordinals
//	census/  derived: which ordinals each snapshot needs
//	leases/  what unfinished carries rely on
//	aside/   what the manifest does not name, and what was damaged
//	manifest what belongs to the store now; replaced by rename
//
// A pack is written by a goroutine of its own, behind those who fill it, which ends with the flush or the closing of
// the writer that has it. Locks are taken in the order verifying, maint, adm, pub, removal, mu.
//
// Invariants:
//
//  1. Closed: an object enters the index only after all its children.
//  2. A snapshot exists if and only if its root record does.
//  3. A sweep condemns the whole dead set in one durable step before it moves
//     anything; condemned or damaged is absent to writers and peers.
//
// Order of writes: objects, fsync; index and manifest; root record, fsync; census.
// A crash leaves files that the manifest does not name; opening puts them aside until a
// verification has found every snapshot whole. docs/decisions/027 says how each kind of
// loss is made impossible.
//
// Ordinals number the objects of one index epoch densely and ascend from children
// to parents, so reading objects by ascending ordinal always meets children first.
// docs/formats.md has every byte.
package store
