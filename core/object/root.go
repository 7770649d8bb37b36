package object

import (
	"cmp"
	"crypto/ed25519"
	"time"
)

// LineageID names a volume's history across all places.
type LineageID [16]byte

// Cause says why a snapshot was taken.
type Cause string

// The causes of a snapshot.
const (
	CauseScheduled Cause = "scheduled"
	CauseByHand    Cause = "by hand"
	CauseSafety    Cause = "safety"
	CauseFound     Cause = "found" // left by others and taken over
	CauseLeft      Cause = "left"  // of what was written and no snapshot had when another site took over
)

// Consistency says what the reader can rely on.
type Consistency string

// The consistencies of a snapshot.
const (
	Quiesced Consistency = "quiesced" // writers were frozen for the whole reading
	Still    Consistency = "still"    // nothing changed while it was read
	Spread   Consistency = "spread"   // read between Began and Ended
	Crash    Consistency = "crash"    // a disk at one instant, as after a power cut
)

// Remark tells of one path that could not be read as a whole.
type Remark struct {
	_    struct{} `cbor:",toarray"`
	Path []byte
	What string
}

// MaxRemarks is how many remarks a root lists; RemarkCount counts them all.
const MaxRemarks = 1000

// Root is a snapshot: what was read, of what, when and by whom.
type Root struct {
	Lineage     LineageID         `cbor:"1,keyasint"`
	Volume      string            `cbor:"2,keyasint"`
	Origin      string            `cbor:"3,keyasint"` // name of the site that the history began at
	Path        []byte            `cbor:"4,keyasint,omitempty"`
	Labels      map[string]string `cbor:"5,keyasint,omitempty"`
	Excludes    []string          `cbor:"6,keyasint,omitempty"`
	Term        uint64            `cbor:"7,keyasint"`
	Sequence    uint64            `cbor:"8,keyasint"`
	Predecessor ID                `cbor:"9,keyasint"`
	Began       int64             `cbor:"10,keyasint"` // nanoseconds since 1970
	Ended       int64             `cbor:"11,keyasint"`
	Consistency Consistency       `cbor:"12,keyasint"`
	Cause       Cause             `cbor:"13,keyasint"`
	Top         Entry             `cbor:"14,keyasint"` // the volume's own directory, or its disk; no name
	HasLinks    bool              `cbor:"15,keyasint,omitempty"`
	Files       int64             `cbor:"16,keyasint"`
	Dirs        int64             `cbor:"17,keyasint"`
	Others      int64             `cbor:"18,keyasint"` // symlinks, devices, FIFOs, sockets
	Bytes       int64             `cbor:"19,keyasint"` // sum of file sizes
	Remarks     []Remark          `cbor:"20,keyasint,omitempty"`
	RemarkCount int64             `cbor:"21,keyasint,omitempty"`
	ChunkAvg    uint32            `cbor:"22,keyasint"` // chunker parameter of the lineage, bytes
	Set         *Set              `cbor:"23,keyasint,omitempty"`
	Derived     *Derived          `cbor:"24,keyasint,omitempty"` // it is a part of another snapshot
	Block       uint32            `cbor:"25,keyasint,omitempty"` // bytes of a block of a disk's map; 0: it is of a tree
	TakenBy     string            `cbor:"26,keyasint,omitempty"` // name of the site that took it, where that is not Origin

	Links ID `cbor:"-"`
}

// Set is what a snapshot has in common with those of a group that were taken with it.
type Set struct {
	_     struct{} `cbor:",toarray"`
	ID    [16]byte
	Group string
	Of    uint32 // snapshots in it
}

// Derived says of which part of which snapshot a root is. Its lineage is one of its own,
// made from that of the whole and the part.
type Derived struct {
	_    struct{} `cbor:",toarray"`
	From ID
	In   []string // paths; none: all
	Out  []string
}

// Taker is the name of the site that took the snapshot, and signed it.
func (r *Root) Taker() string { return cmp.Or(r.TakenBy, r.Origin) }

// BeganTime returns Began as a time.
func (r *Root) BeganTime() time.Time { return time.Unix(0, r.Began) }

// EndedTime returns Ended as a time.
func (r *Root) EndedTime() time.Time { return time.Unix(0, r.Ended) }

// Tree returns the identity of the volume's top directory, or of the top of a disk's map.
func (r *Root) Tree() ID { return r.Top.Content }

// IsDisk reports whether the snapshot is of a disk, whose size is that of Top.
func (r *Root) IsDisk() bool { return r.Block != 0 }

// Blocks is how many blocks a disk of a size has.
func Blocks(size int64, block uint32) int64 { return (size + int64(block) - 1) / int64(block) }

// Map is the map of a disk.
func (r *Root) Map() MapTop { return MapTop{r.Top.Content, MapLevel(Blocks(r.Top.Size, r.Block))} }

// CheckBlock refuses a size of blocks that no disk has.
func CheckBlock(block uint32) error {
	if block < 4096 || block > MaxChunkPayload || block&(block-1) != 0 {
		return malformed("blocks of %d bytes: a power of two from 4096 to %d is needed", block, MaxChunkPayload)
	}
	return nil
}

// sound refuses roots that contradict themselves.
func (r *Root) sound() error {
	if !r.IsDisk() {
		if r.Top.Kind != Dir {
			return malformed("root whose top is a %s", r.Top.Kind)
		}
		return nil
	}
	if err := CheckBlock(r.Block); err != nil {
		return err
	}
	if r.Top.Kind != BlockDevice || r.HasLinks || r.Top.Size <= 0 || r.Top.Size%512 != 0 ||
		Blocks(r.Top.Size, r.Block) > MaxBlocks {
		return malformed("root of a disk of %d bytes whose top is a %s", r.Top.Size, r.Top.Kind)
	}
	return nil
}

// EncodeRoot returns the envelope of a root. Its identity is the snapshot's id.
func EncodeRoot(r *Root) ([]byte, error) {
	children := []ID{r.Top.Content}
	if r.HasLinks {
		children = append(children, r.Links)
	}
	payload, err := encMode.Marshal(r)
	if err != nil {
		return nil, err
	}
	return Encode(nil, KindRoot, children, payload), nil
}

// DecodeRoot reads a root envelope.
func DecodeRoot(envelope []byte) (*Root, error) {
	e, err := Decode(envelope)
	if err != nil {
		return nil, err
	}
	r := &Root{}
	if err := decodePayload(e, KindRoot, r); err != nil {
		return nil, err
	}
	want := 1
	if r.HasLinks {
		want = 2
	}
	if e.NumChildren() != want || !r.Top.HasContent {
		return nil, malformed("root with %d children", e.NumChildren())
	}
	if err := r.sound(); err != nil {
		return nil, err
	}
	r.Top.Content = e.Child(0)
	if r.HasLinks {
		r.Links = e.Child(1)
	}
	return r, nil
}

// MarkKind says what a mark tells.
type MarkKind string

// The kinds of marks.
const (
	MarkSighting MarkKind = "sighting" // found unchanged up to Until
	MarkNote     MarkKind = "note"
	MarkLabels   MarkKind = "labels"
	MarkEnd      MarkKind = "end"     // a hand-made snapshot's own end
	MarkArrival  MarkKind = "arrival" // arrived at the signing place at At
	MarkExpiry   MarkKind = "expiry"  // expired here; in grace until Until
	MarkRecall   MarkKind = "recall"  // taken back out of grace
	MarkKeep     MarkKind = "keep"    // kept whatever the rules say, for the reason in Text, until Until when given
	MarkLetGo    MarkKind = "let-go"  // takes a keep mark back
	MarkAdmit    MarkKind = "admit"   // a snapshot that arrived out of turn counts from now on
)

// Travels reports whether marks of the kind go wherever the snapshot goes. The others are
// statements of one place about its own copy.
func (k MarkKind) Travels() bool {
	switch k {
	case MarkSighting, MarkNote, MarkLabels, MarkEnd, MarkKeep, MarkLetGo:
		return true
	}
	return false
}

// MarkCause says by a code why something was done; the text of the mark says it to people.
type MarkCause string

// The causes of expiries and of arrivals out of turn.
const (
	ExpiredByRules MarkCause = "rules"
	ExpiredByHand  MarkCause = "hand"
	ExpiredByCap   MarkCause = "cap"
	ExpiredForRoom MarkCause = "room"

	ArrivedOfBranch   MarkCause = "branch"      // another snapshot has its place in the history
	ArrivedMisdated   MarkCause = "misdated"    // its date contradicts its place in the history
	ArrivedTooClosely MarkCause = "too-closely" // there are more than its cadence takes
	ArrivedLeft       MarkCause = "left-behind" // another site took over without it; it is kept until Until
)

// Mark is a statement about a snapshot that stands beside its root.
type Mark struct {
	Kind   MarkKind          `cbor:"1,keyasint"`
	Root   ID                `cbor:"2,keyasint"`
	At     int64             `cbor:"3,keyasint"` // when it was made, nanoseconds since 1970
	Until  int64             `cbor:"4,keyasint,omitempty"`
	Text   string            `cbor:"5,keyasint,omitempty"`
	Labels map[string]string `cbor:"6,keyasint,omitempty"`
	Place  string            `cbor:"7,keyasint,omitempty"`
	// Cause is the code of why, of an expiry or an arrival; marks of the first releases have only the text.
	Cause MarkCause `cbor:"9,keyasint,omitempty"`
	// Branch is, of an arrival, the branch of the history that the snapshot is of.
	Branch string `cbor:"10,keyasint,omitempty"`
	// Watched is up to when, as a sighting tells, nothing changed at any time.
	Watched int64 `cbor:"8,keyasint,omitempty"`
}

// record is a signed statement: a root envelope or a mark, and who says so.
type record struct {
	_    struct{} `cbor:",toarray"`
	Form uint8    // 1
	What string
	Body []byte
	Key  []byte // Ed25519 public key
	Sig  []byte
}

func signedBytes(what string, body []byte) []byte {
	sum := Sum(body)
	return append([]byte("candid harbor "+what+"\x00"), sum[:]...)
}

// SignRecord wraps body with a signature. what is "root" or "mark".
func SignRecord(key ed25519.PrivateKey, what string, body []byte) ([]byte, error) {
	return encMode.Marshal(record{Form: 1, What: what, Body: body,
		Key: key.Public().(ed25519.PublicKey), Sig: ed25519.Sign(key, signedBytes(what, body))})
}

// OpenRecord checks the signature and returns the body and the signer's key.
func OpenRecord(what string, raw []byte) (body []byte, signer ed25519.PublicKey, err error) {
	var r record
	if err := decMode.Unmarshal(raw, &r); err != nil {
		return nil, nil, malformed("record: %v", err)
	}
	if r.Form != 1 || r.What != what || len(r.Key) != ed25519.PublicKeySize {
		return nil, nil, malformed("not a %s record", what)
	}
	if !ed25519.Verify(r.Key, signedBytes(what, r.Body), r.Sig) {
		return nil, nil, malformed("%s record with a wrong signature", what)
	}
	return r.Body, r.Key, nil
}

// EncodeMark returns the body of a mark record.
func EncodeMark(m *Mark) ([]byte, error) { return encMode.Marshal(m) }

// DecodeMark reads the body of a mark record.
func DecodeMark(body []byte) (*Mark, error) {
	m := &Mark{}
	if err := decMode.Unmarshal(body, m); err != nil {
		return nil, malformed("mark: %v", err)
	}
	switch m.Kind {
	case MarkSighting, MarkNote, MarkLabels, MarkEnd, MarkArrival, MarkExpiry, MarkRecall, MarkKeep, MarkLetGo, MarkAdmit:
		return m, nil
	}
	return nil, malformed("mark of unknown kind %q", m.Kind)
}
