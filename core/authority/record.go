package authority

import (
	"cmp"
	"crypto/ed25519"
	"errors"
	"fmt"
	"slices"

	"candidharbor/core/lineage"
	"candidharbor/core/object"

	"github.com/fxamacker/cbor/v2"
)

// What a signature of a record is over.
const signedAs = "authority"

// Member is a site that may sign the record that follows.
type Member struct {
	_    struct{} `cbor:",toarray"`
	Site string
	Key  []byte // Ed25519
}

// Move is what a record says of one history.
type Move struct {
	Lineage object.LineageID `cbor:"1,keyasint"`
	Term    uint64           `cbor:"2,keyasint"`
	// Edition counts the records of one term at one site; only the sites that may sign the next one differ in them.
	Edition uint64    `cbor:"3,keyasint"`
	Before  object.ID `cbor:"4,keyasint"` // the record before; zero: it is the first
	// From is the snapshot from which the history goes on, and At its place in it. They are zero in a record that
	// moves nothing.
	From     object.ID `cbor:"5,keyasint"`
	FromTerm uint64    `cbor:"6,keyasint,omitempty"`
	FromSeq  uint64    `cbor:"7,keyasint,omitempty"`
}

// FromPosition is the place of From in the history.
func (m *Move) FromPosition() lineage.Position {
	return lineage.Position{Term: m.FromTerm, Sequence: m.FromSeq}
}

// Record is one statement about who is active.
type Record struct {
	Site  string   `cbor:"1,keyasint"` // that is active from now on
	Next  []Member `cbor:"2,keyasint"` // that may sign what follows
	At    int64    `cbor:"3,keyasint"` // when it was signed, nanoseconds since 1970; it orders nothing
	Moves []Move   `cbor:"4,keyasint"`
	// Act names what the record is a part of: the same at all that it moves, and in what answers it.
	Act [16]byte `cbor:"5,keyasint"`
	Why string   `cbor:"6,keyasint,omitempty"` // the runbook, or what a person did

	ID     object.ID         `cbor:"-"` // of the body
	Signer ed25519.PublicKey `cbor:"-"`
	Raw    []byte            `cbor:"-"`
}

// Bounds of what is read from others.
const (
	MaxMoves   = 10000
	MaxMembers = 64
	// MaxStep is by how much a term may be above the one before, so that nobody uses them up.
	MaxStep = 1 << 20
)

var encMode, decMode = modes()

func modes() (cbor.EncMode, cbor.DecMode) {
	enc, err := cbor.CoreDetEncOptions().EncMode()
	if err != nil {
		panic(err)
	}
	dec, err := cbor.DecOptions{DupMapKey: cbor.DupMapKeyEnforcedAPF, MaxArrayElements: MaxMoves + 1,
		ExtraReturnErrors: cbor.ExtraDecErrorUnknownField}.DecMode()
	if err != nil {
		panic(err)
	}
	return enc, dec
}

// Sign completes a record.
func Sign(key ed25519.PrivateKey, r *Record) (*Record, error) {
	body, err := encMode.Marshal(r)
	if err != nil {
		return nil, err
	}
	raw, err := object.SignRecord(key, signedAs, body)
	if err != nil {
		return nil, err
	}
	return Read(raw)
}

// Read reads a record and checks its signature and its form, not whether its signer might.
func Read(raw []byte) (*Record, error) {
	body, signer, err := object.OpenRecord(signedAs, raw)
	if err != nil {
		return nil, err
	}
	r := &Record{}
	if err := decMode.Unmarshal(body, r); err != nil {
		return nil, fmt.Errorf("record of authority: %w", err)
	}
	r.ID, r.Signer, r.Raw = object.Sum(body), signer, raw
	return r, r.sound()
}

func (r *Record) sound() error {
	switch {
	case r.Site == "" || len(r.Moves) == 0 || len(r.Moves) > MaxMoves || len(r.Next) > MaxMembers:
		return errors.New("a record of authority without a site or a history, or with too many")
	case !slices.ContainsFunc(r.Next, func(m Member) bool { return m.Site == r.Site }):
		return fmt.Errorf("a record of authority by which %s may not sign what follows itself", r.Site)
	}
	for i, m := range r.Next {
		if len(m.Key) != ed25519.PublicKeySize || m.Site == "" || i > 0 && r.Next[i-1].Site >= m.Site {
			return errors.New("a record of authority whose sites are not in order, or have no keys")
		}
	}
	for i, m := range r.Moves {
		if m.Term == 0 || m.Edition == 0 || i > 0 && slices.Compare(r.Moves[i-1].Lineage[:], m.Lineage[:]) >= 0 {
			return errors.New("a record of authority whose histories are not in order, or have no term")
		}
	}
	return nil
}

// Of is what the record says of a history, or nil.
func (r *Record) Of(of object.LineageID) *Move {
	i, ok := slices.BinarySearchFunc(r.Moves, of, func(m Move, l object.LineageID) int {
		return slices.Compare(m.Lineage[:], l[:])
	})
	if !ok {
		return nil
	}
	return &r.Moves[i]
}

// member is the site of a key among those that may sign what follows; empty: none.
func (r *Record) member(key ed25519.PublicKey, vouch Vouch) string {
	for _, m := range r.Next {
		if key.Equal(ed25519.PublicKey(m.Key)) || vouch(m.Site, key) {
			return m.Site
		}
	}
	return ""
}

// May reports whether a site is among those that may sign what follows.
func (r *Record) May(site string) bool {
	return slices.ContainsFunc(r.Next, func(m Member) bool { return m.Site == site })
}

// Vouch reports whether a key is known to be, or to have been, that of a site. It vouches for keys that came after a
// record was signed.
type Vouch func(site string, key ed25519.PublicKey) bool

// compare orders what two records say of one history.
func compare(of object.LineageID, a, b *Record) int {
	x, y := a.Of(of), b.Of(of)
	return cmp.Or(cmp.Compare(x.Term, y.Term), cmp.Compare(a.Site, b.Site), cmp.Compare(x.Edition, y.Edition),
		slices.Compare(a.ID[:], b.ID[:]))
}
