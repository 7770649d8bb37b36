package object

import (
	"github.com/fxamacker/cbor/v2"
)

var (
	encMode = must(cbor.CoreDetEncOptions().EncMode())
	decMode = must(cbor.DecOptions{
		DupMapKey:         cbor.DupMapKeyEnforcedAPF,
		IndefLength:       cbor.IndefLengthForbidden,
		TagsMd:            cbor.TagsForbidden,
		ExtraReturnErrors: cbor.ExtraDecErrorUnknownField,
		MaxArrayElements:  1 << 17,
		MaxMapPairs:       1 << 16,
		MaxNestedLevels:   16,
	}.DecMode())
)

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

func decodePayload(e Envelope, want Kind, into any) error {
	if e.Kind != want {
		return malformed("a %s where a %s was expected", e.Kind, want)
	}
	if err := decMode.Unmarshal(e.Payload, into); err != nil {
		return malformed("%s: %v", want, err)
	}
	return nil
}

// MarshalCBOR and UnmarshalCBOR make identities 32-byte strings.
func (id ID) MarshalCBOR() ([]byte, error) { return encMode.Marshal(id[:]) }

// UnmarshalCBOR reads a 32-byte string.
func (id *ID) UnmarshalCBOR(b []byte) error {
	var raw []byte
	if err := decMode.Unmarshal(b, &raw); err != nil {
		return err
	}
	if len(raw) != 32 {
		return malformed("identity of %d bytes", len(raw))
	}
	copy(id[:], raw)
	return nil
}
