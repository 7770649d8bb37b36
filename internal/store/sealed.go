package store

import (
	"bytes"
	"encoding/hex"
	"errors"
	"fmt"
	"os"

	"candidharbor/core/object"
)

// Small files of the store end in a line with the first 16 bytes of the BLAKE3 of all
// before it, in hexadecimal, so that a damaged one is never taken for what was written.
const sealLine = 2*16 + 2 // newline, digits, newline

var errSeal = errors.New("its checksum differs")

func sealed(body []byte) []byte {
	sum := object.Sum(body)
	out := append(bytes.Clone(body), '\n')
	out = hex.AppendEncode(out, sum[:16])
	return append(out, '\n')
}

// unsealed returns the body of a sealed file. A file of an earlier version has no seal;
// whole reports whether one is there and right.
func unsealed(raw []byte) (body []byte, whole bool) {
	at := len(raw) - sealLine
	if at < 0 || raw[at] != '\n' {
		return raw, false
	}
	body = raw[:at]
	return body, bytes.Equal(sealed(body), raw)
}

// readSealed reads a sealed file; fs.ErrNotExist says that there is none.
func readSealed(path string) ([]byte, error) {
	raw, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	body, whole := unsealed(raw)
	if !whole {
		return nil, fmt.Errorf("%s: %w", path, errSeal)
	}
	return body, nil
}
