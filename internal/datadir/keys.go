package datadir

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"candidharbor/internal/store"
	"candidharbor/internal/transfer"

	"filippo.io/age"
)

// loadKey reads the site's key, making it for a new site.
func KeyPath(dir string) string { return filepath.Join(dir, "keys", "site.pem") }

// LoadKey reads a key, making it the first time.
func LoadKey(path string) (ed25519.PrivateKey, error) {
	raw, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			return nil, err
		}
		_, key, err := ed25519.GenerateKey(rand.Reader)
		if err != nil {
			return nil, err
		}
		block := pem.EncodeToMemory(&pem.Block{Type: "CANDID HARBOR SITE KEY", Bytes: key.Seed()})
		return key, store.ReplaceFile(path, block)
	}
	if err != nil {
		return nil, err
	}
	block, _ := pem.Decode(raw)
	if block == nil || len(block.Bytes) != ed25519.SeedSize {
		return nil, fmt.Errorf("%s is not a site key: restore the file from your backup of the data directory", path)
	}
	return ed25519.NewKeyFromSeed(block.Bytes), nil
}

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

// Identity is the key that the site shows at present.
func (s *Dir) Identity() *transfer.Identity { return s.id.Load() }
