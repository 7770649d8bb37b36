// Package reader reads a store's directory from docs/formats.md alone. It shares no code
// with the product, so that tests can hold the one against the other: it proves snapshots
// whole and says what is in them.
package reader

import (
	"bytes"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"hash/crc32"
	"os"
	"path/filepath"
	"strings"

	"github.com/fxamacker/cbor/v2"
	"github.com/klauspost/compress/s2"
	"github.com/klauspost/compress/zstd"
	"github.com/zeebo/blake3"
)

// ID is an object's identity.
type ID [32]byte

func (id ID) String() string { return hex.EncodeToString(id[:]) }

const (
	kindChunk = 1
	kindList  = 2
	kindDir   = 3
	kindLinks = 4
	kindRoot  = 6

	packHead   = 32
	recordHead = 48
	bundleHead = 24
	memberSize = 34
	endOfGroup = 28
)

// place is where a whole record lies, or the bundle that has the object.
type place struct {
	file   string
	at     int64
	size   int
	bundle bool
}

// Store is what lies in a store's directory.
type Store struct {
	dir    string
	places map[ID][]place
	zstd   *zstd.Decoder
	proven map[ID]bool
}

// Open finds every record in packs and logs. It does not believe the index.
func Open(dir string) (*Store, error) {
	d, err := zstd.NewReader(nil)
	if err != nil {
		return nil, err
	}
	s := &Store{dir: dir, places: map[ID][]place{}, zstd: d, proven: map[ID]bool{}}
	packs, err := filepath.Glob(filepath.Join(dir, "packs", "*"))
	if err != nil {
		return nil, err
	}
	logs, err := filepath.Glob(filepath.Join(dir, "log", "*.log"))
	if err != nil {
		return nil, err
	}
	for _, p := range packs {
		if err := s.scan(p, packHead); err != nil {
			return nil, err
		}
	}
	for _, l := range logs {
		if err := s.scan(l, 0); err != nil {
			return nil, err
		}
	}
	return s, nil
}

func (s *Store) scan(file string, at int) error {
	raw, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	for at+recordHead <= len(raw) {
		if raw[at] == 'C' && raw[at+1] == 'e' {
			at += endOfGroup
			continue
		}
		stored := int(binary.LittleEndian.Uint32(raw[at+4:]))
		if n := s.scanBundle(file, raw, at, stored); n > 0 {
			at += n
			continue
		}
		if raw[at] != 'C' || raw[at+1] != 'r' || at+recordHead+stored > len(raw) {
			at++ // damaged: look for the next record
			continue
		}
		id := ID(raw[at+12 : at+44])
		s.places[id] = append(s.places[id], place{file, int64(at), recordHead + stored, false})
		at += recordHead + stored
	}
	return nil
}

// scanBundle notes the members of a bundle, and returns its length; 0: there is none.
func (s *Store) scanBundle(file string, raw []byte, at, stored int) int {
	if raw[at] != 'C' || raw[at+1] != 'b' || raw[at+2] != 1 || at+bundleHead+stored > len(raw) {
		return 0
	}
	count := int(binary.LittleEndian.Uint32(raw[at+16:]))
	if count*memberSize > stored {
		return 0
	}
	for i := range count {
		id := ID(raw[at+bundleHead+i*memberSize:][:32])
		s.places[id] = append(s.places[id], place{file, int64(at), bundleHead + stored, true})
	}
	return bundleHead + stored
}

type envelope struct {
	_        struct{} `cbor:",toarray"`
	Kind     int
	Version  int
	Children []byte
	Payload  []byte
}

func (e *envelope) child(i int) (ID, error) {
	if (i+1)*32 > len(e.Children) {
		return ID{}, fmt.Errorf("child %d of %d", i, len(e.Children)/32)
	}
	return ID(e.Children[i*32 : i*32+32]), nil
}

// get returns an object, of which some copy must be what its identity says.
func (s *Store) get(id ID) (*envelope, error) {
	err := errors.New("no record of it")
	for _, p := range s.places[id] {
		var env []byte
		if env, err = s.unpack(id, p); err != nil {
			continue
		}
		if blake3.Sum256(env) != id {
			err = errors.New("its content is another")
			continue
		}
		e := &envelope{}
		if err = cbor.Unmarshal(env, e); err == nil {
			return e, nil
		}
	}
	return nil, fmt.Errorf("object %s: %w", id, err)
}

func (s *Store) unpack(id ID, p place) ([]byte, error) {
	f, err := os.Open(p.file)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	raw := make([]byte, p.size)
	if _, err := f.ReadAt(raw, p.at); err != nil {
		return nil, err
	}
	if p.bundle {
		return s.unpackMember(id, raw)
	}
	body := raw[recordHead:]
	sum := crc32.Checksum(append(bytes.Clone(raw[:44]), body...), crc32.MakeTable(crc32.Castagnoli))
	if sum != binary.LittleEndian.Uint32(raw[44:]) {
		return nil, errors.New("its checksum differs")
	}
	switch raw[3] {
	case 0:
		return body, nil
	case 1:
		return s2.Decode(nil, body)
	case 2:
		return s.zstd.DecodeAll(body, nil)
	}
	return nil, fmt.Errorf("codec %d", raw[3])
}

func (s *Store) unpackMember(id ID, raw []byte) ([]byte, error) {
	sum := crc32.Checksum(append(bytes.Clone(raw[:20]), raw[bundleHead:]...), crc32.MakeTable(crc32.Castagnoli))
	if sum != binary.LittleEndian.Uint32(raw[20:]) {
		return nil, errors.New("its bundle's checksum differs")
	}
	frame, count := int(binary.LittleEndian.Uint32(raw[8:])), int(binary.LittleEndian.Uint32(raw[16:]))
	table := raw[bundleHead:][:count*memberSize]
	plain, err := s.zstd.DecodeAll(raw[bundleHead+len(table):][:frame], nil)
	if err != nil {
		return nil, err
	}
	for from := 0; len(table) > 0; table = table[memberSize:] {
		to := from + int(binary.LittleEndian.Uint16(table[32:]))
		if to > len(plain) {
			break
		}
		if ID(table[:32]) == id {
			return plain[from:to], nil
		}
		from = to
	}
	return nil, errors.New("its bundle does not have it")
}

// Snapshot is a root record that was read.
type Snapshot struct {
	ID       ID
	Lineage  string
	Volume   string
	Origin   string
	Term     uint64
	Sequence uint64
	top      entry
	children []ID
}

type record struct {
	_         struct{} `cbor:",toarray"`
	Version   int
	What      string
	Body      []byte
	Key       []byte
	Signature []byte
}

// opened returns the body of a signed record.
func opened(raw []byte, what string) ([]byte, error) {
	var r record
	if err := cbor.Unmarshal(raw, &r); err != nil {
		return nil, err
	}
	sum := blake3.Sum256(r.Body)
	said := append(append([]byte("candid harbor "+what), 0), sum[:]...)
	if r.Version != 1 || r.What != what || len(r.Key) != ed25519.PublicKeySize || !ed25519.Verify(r.Key, said,
		r.Signature) {
		return nil, errors.New("the signature is not right")
	}
	return r.Body, nil
}

type root struct {
	Lineage  []byte `cbor:"1,keyasint"`
	Volume   string `cbor:"2,keyasint"`
	Origin   string `cbor:"3,keyasint"`
	Term     uint64 `cbor:"7,keyasint"`
	Sequence uint64 `cbor:"8,keyasint"`
	Top      entry  `cbor:"14,keyasint"`
	HasLinks bool   `cbor:"15,keyasint"`
}

type entry struct {
	Name       []byte `cbor:"1,keyasint"`
	Kind       int    `cbor:"2,keyasint"`
	Mode       uint32 `cbor:"3,keyasint"`
	UID        uint32 `cbor:"4,keyasint"`
	GID        uint32 `cbor:"5,keyasint"`
	MTime      int64  `cbor:"6,keyasint"`
	Size       int64  `cbor:"7,keyasint"`
	Target     []byte `cbor:"9,keyasint"`
	HasContent bool   `cbor:"13,keyasint"`
	content    ID
}

// Snapshots reads every root record. One that is damaged is an error of its own.
func (s *Store) Snapshots() (all []Snapshot, bad []error, err error) {
	names, err := os.ReadDir(filepath.Join(s.dir, "roots"))
	if err != nil {
		return nil, nil, err
	}
	for _, n := range names {
		if strings.HasPrefix(n.Name(), ".") {
			continue
		}
		sn, err := s.snapshot(n.Name())
		if err != nil {
			bad = append(bad, fmt.Errorf("snapshot %s: %w", n.Name(), err))
			continue
		}
		all = append(all, *sn)
	}
	return all, bad, nil
}

func (s *Store) snapshot(name string) (*Snapshot, error) {
	raw, err := os.ReadFile(filepath.Join(s.dir, "roots", name))
	if err != nil {
		return nil, err
	}
	body, err := opened(raw, "root")
	if err != nil {
		return nil, err
	}
	id := ID(blake3.Sum256(body))
	if id.String() != name {
		return nil, errors.New("the record is of another snapshot")
	}
	var e envelope
	var r root
	if err := cbor.Unmarshal(body, &e); err != nil {
		return nil, err
	}
	if err := cbor.Unmarshal(e.Payload, &r); err != nil {
		return nil, err
	}
	sn := &Snapshot{ID: id, Lineage: hex.EncodeToString(r.Lineage), Volume: r.Volume, Origin: r.Origin, Term: r.Term,
		Sequence: r.Sequence, top: r.Top}
	for i := range len(e.Children) / 32 {
		c, _ := e.child(i)
		sn.children = append(sn.children, c)
	}
	if want := 1; e.Kind != kindRoot || len(sn.children) < want || r.HasLinks && len(sn.children) != 2 {
		return nil, errors.New("it is no root of a tree")
	}
	return sn, nil
}

// Prove reads everything that a snapshot needs.
func (s *Store) Prove(sn *Snapshot) error {
	for _, c := range sn.children {
		if err := s.prove(c); err != nil {
			return fmt.Errorf("snapshot %s: %w", sn.ID, err)
		}
	}
	return nil
}

func (s *Store) prove(id ID) error {
	if s.proven[id] {
		return nil
	}
	e, err := s.get(id)
	if err != nil {
		return err
	}
	for i := range len(e.Children) / 32 {
		c, _ := e.child(i)
		if err := s.prove(c); err != nil {
			return err
		}
	}
	s.proven[id] = true
	return nil
}

// Entry is what a snapshot has under a path.
type Entry struct {
	Path   string
	Kind   int // 1 file, 2 directory, 3 symbolic link, others as in the format
	Mode   uint32
	UID    uint32
	GID    uint32
	MTime  int64
	Size   int64
	Target string
	SHA256 string // of a file's content
}

// List returns everything in a snapshot, by path.
func (s *Store) List(sn *Snapshot) (map[string]Entry, error) {
	out := map[string]Entry{}
	return out, s.list(sn.children[0], "", out)
}

type dirPage struct {
	_       struct{} `cbor:",toarray"`
	Level   int
	Entries []entry
	Firsts  [][]byte
	Total   int64
}

func (s *Store) list(id ID, at string, out map[string]Entry) error {
	e, err := s.get(id)
	if err != nil {
		return err
	}
	var page dirPage
	if err := cbor.Unmarshal(e.Payload, &page); err != nil || e.Kind != kindDir {
		return fmt.Errorf("%s: no directory: %w", at, err)
	}
	if page.Level > 0 {
		for i := range len(e.Children) / 32 {
			c, _ := e.child(i)
			if err := s.list(c, at, out); err != nil {
				return err
			}
		}
		return nil
	}
	next := 0
	for _, x := range page.Entries {
		if x.HasContent {
			if x.content, err = e.child(next); err != nil {
				return err
			}
			next++
		}
		path := filepath.Join(at, string(x.Name))
		o := Entry{Path: path, Kind: x.Kind, Mode: x.Mode, UID: x.UID, GID: x.GID, MTime: x.MTime, Size: x.Size,
			Target: string(x.Target)}
		switch {
		case x.Kind == 1:
			sum := sha256.New()
			if x.HasContent {
				n, err := s.content(x.content, func(b []byte) { sum.Write(b) })
				if err != nil {
					return fmt.Errorf("%s: %w", path, err)
				}
				if n != x.Size {
					return fmt.Errorf("%s has %d bytes, its entry says %d", path, n, x.Size)
				}
			}
			o.SHA256 = hex.EncodeToString(sum.Sum(nil))
		case x.Kind == 2 && x.HasContent:
			if err := s.list(x.content, path, out); err != nil {
				return err
			}
		}
		out[path] = o
	}
	return nil
}

type listPage struct {
	_     struct{} `cbor:",toarray"`
	Level int
	Spans []int64
	Total int64
}

func (s *Store) content(id ID, write func([]byte)) (n int64, err error) {
	e, err := s.get(id)
	if err != nil {
		return 0, err
	}
	if e.Kind == kindChunk {
		write(e.Payload)
		return int64(len(e.Payload)), nil
	}
	var page listPage
	if err := cbor.Unmarshal(e.Payload, &page); err != nil || e.Kind != kindList {
		return 0, fmt.Errorf("no content: %w", err)
	}
	next := 0
	for _, span := range page.Spans {
		if span < 0 && page.Level == 0 {
			write(make([]byte, -span))
			n -= span
			continue
		}
		c, err := e.child(next)
		if err != nil {
			return n, err
		}
		next++
		k, err := s.content(c, write)
		if err != nil {
			return n, err
		}
		if k != span {
			return n, fmt.Errorf("a part has %d bytes, its list says %d", k, span)
		}
		n += k
	}
	return n, nil
}
