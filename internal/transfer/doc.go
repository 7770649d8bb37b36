// Package transfer carries snapshots between sites.
//
// A link is one TLS 1.3 connection between two sites that know each other's Ed25519
// keys, multiplexed into streams. A stream begins with a request frame and is used
// for one thing. A frame is: type u8, length u32 big-endian, body. Bodies are CBOR,
// except:
//
//	offer    n × 32 bytes of identities, children before parents
//	want     bitmap over the offer, first identity in the lowest bit of the first byte
//	records  stored records as they lie in packs, in the order of the offers
//
// Carrying one snapshot:
//
//	sender                              receiver
//	carry {lineage, root, bases, …} →
//	                                    ← begin {has root, which bases it has}
//	offer … (several on their way) →
//	                                    ← want …
//	records … →                         checks identity and children of each
//	commit {root record, marks} →       objects durable, then the root record
//	                                    ← done
//
// What is offered is the census of the snapshot without the censuses of the bases that
// both have: neither end walks the tree. Because ordinals ascend from children to
// parents, what arrived before a cut is closed; the receiver keeps it under a durable
// lease and does not want it again.
//
// A sender may ask that the snapshot is kept at the receiver, with a reason and an end; done says whether the receiver
// does as it is asked. It keeps so only what the sender brought or shares, and never for less long than before.
//
// Frames and their contents are bounded; what exceeds a bound ends the stream.
package transfer
