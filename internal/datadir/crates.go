package datadir

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"

	"candidharbor/internal/store"

	"filippo.io/age"
)

// loadSeal reads the key that opens sealed crates, making it the first time.
func loadSeal(path string) (*age.X25519Identity, error) {
	raw, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		id, err := age.GenerateX25519Identity()
		if err != nil {
			return nil, err
		}
		return id, store.ReplaceFile(path, []byte(id.String()+"\n"))
	}
	if err != nil {
		return nil, err
	}
	id, err := age.ParseX25519Identity(strings.TrimSpace(string(raw)))
	if err != nil {
		return nil, fmt.Errorf("%s is no key for crates: restore the file from your backup of the data directory", path)
	}
	return id, nil
}
