// Package object defines what a store keeps: envelopes and their identities.
//
// Every stored thing is an envelope, a CBOR array in the core deterministic
// encoding of RFC 8949 §4.2:
//
//	[ kind: uint, version: uint, children: bytes (n × 32), payload: bytes ]
//
// The identity of an object is the BLAKE3-256 hash of the whole envelope, so
// bytes that merely look like a directory can never be taken for one: a chunk
// holding them has another kind, hence another envelope and another identity.
//
// Sweeping, completeness checks and carrying read only kind and children; the
// payload names its children by position. Kinds 16 to 31 are reserved for sealed
// envelopes (kind+16), whose child list stays readable without a key.
//
// Large things are pages below a spine of index nodes. Where a page ends is a
// pure function of the sorted content, so equal content has equal identity
// whatever its history.
//
// Invariants: Decode(Encode(x)) == x; an envelope longer than its kind allows, a
// tree deeper than MaxDepth or a child count that does not match the payload is
// refused by the decoder.
package object
