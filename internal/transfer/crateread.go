package transfer

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"

	"candidharbor/core/object"
	"candidharbor/internal/store"
)

// ErrCrate says that a file is no whole, unaltered crate.
var ErrCrate = errors.New("this is no whole crate")

func badCrate(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrCrate, fmt.Sprintf(format, args...))
}

// ReadCrateHead reads what is in a crate, from the beginning of any part.
func ReadCrateHead(r io.Reader) (*CrateHead, error) {
	h, _, err := readHead(&crateEntries{r: r})
	return h, err
}

func readHead(in *crateEntries) (*CrateHead, []byte, error) {
	name, raw, err := in.next()
	if err != nil {
		return nil, nil, err
	}
	var h CrateHead
	if name != crateHead || json.Unmarshal(raw, &h) != nil {
		return nil, nil, badCrate("it does not begin with %s", crateHead)
	}
	if h.Form != crateForm {
		return nil, nil, badCrate("its form is %d, and this release reads %d", h.Form, crateForm)
	}
	if len(h.Snapshots) > mostInCrate || h.Part < 1 {
		return nil, nil, badCrate("its head is not one that a site writes")
	}
	return &h, raw, nil
}

// crateEntries reads a tar file whose every byte is as a crate's writer makes it: what a sum of
// an entry does not cover is compared with what it has to be.
type crateEntries struct {
	r     io.Reader
	block [crateBlock]byte
}

const crateBlock = 512

var noBytes [crateBlock]byte

// next returns the name and the bytes of the next entry.
func (c *crateEntries) next() (string, []byte, error) {
	if _, err := io.ReadFull(c.r, c.block[:]); err != nil {
		return "", nil, shortCrate(err, "it is cut short")
	}
	h, err := tar.NewReader(bytes.NewReader(c.block[:])).Next()
	if err != nil {
		return "", nil, badCrate("no entry begins where one should")
	}
	if h.Typeflag != tar.TypeReg || h.Size > mostEntry || path.Clean(h.Name) != h.Name {
		return "", nil, badCrate("the entry %q does not belong in one", h.Name)
	}
	var want bytes.Buffer
	if err := tar.NewWriter(&want).WriteHeader(crateHeader(h.Name, h.Size)); err != nil || !bytes.Equal(want.Bytes(),
		c.block[:]) {
		return "", nil, badCrate("the header of %q was altered", h.Name)
	}
	raw := make([]byte, h.Size)
	if _, err := io.ReadFull(c.r, raw); err != nil {
		return "", nil, shortCrate(err, fmt.Sprintf("it ends in the middle of %s", h.Name))
	}
	if n := int(-h.Size & (crateBlock - 1)); n > 0 {
		if err := c.nothing(n); err != nil {
			return "", nil, err
		}
	}
	return h.Name, raw, nil
}

// end reads what comes after the last entry: two empty blocks, and no more.
func (c *crateEntries) end() error {
	for range 2 {
		if err := c.nothing(crateBlock); err != nil {
			return err
		}
	}
	switch n, err := io.ReadFull(c.r, c.block[:1]); {
	case n > 0:
		return badCrate("something follows its end")
	case !errors.Is(err, io.EOF):
		return shortCrate(err, "it is cut short")
	}
	return nil
}

func (c *crateEntries) nothing(n int) error {
	if _, err := io.ReadFull(c.r, c.block[:n]); err != nil {
		return shortCrate(err, "it is cut short")
	}
	if !bytes.Equal(c.block[:n], noBytes[:n]) {
		return badCrate("what lies between its entries was altered")
	}
	return nil
}

// shortCrate tells the end of a file from a file that cannot be read.
func shortCrate(err error, short string) error {
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return badCrate("%s", short)
	}
	return badCrate("it cannot be read: %v", err)
}

// CrateReader takes the parts of a crate into a store.
type CrateReader struct {
	Store *store.Store
	Lease *store.Lease // holds what the parts bring until the last has come
	// Meant looks at the head before anything is taken in. Sees tells after that whether what is
	// taken in may rely on an object that is here and that the parts did not bring.
	Meant func(h *CrateHead) error
	Sees  func(ordinal uint32) bool
	Meter *Meter
}

// CrateRoots are the root and mark records of a part that was read whole.
type CrateRoots struct {
	Head  *CrateHead
	Last  bool
	Roots map[object.ID][]byte
	Marks map[object.ID][][]byte
}

// Read takes in the objects of one part and returns its roots. Nothing of a part that is
// cut short, altered or out of its order becomes a snapshot.
func (c *CrateReader) Read(ctx context.Context, r io.Reader) (out *CrateRoots, err error) {
	entries := &crateEntries{r: r}
	head, raw, err := readHead(entries)
	if err != nil {
		return nil, err
	}
	if err := c.Meant(head); err != nil {
		return nil, err
	}
	out = &CrateRoots{Head: head, Roots: map[object.ID][]byte{}, Marks: map[object.ID][][]byte{}}
	sums := map[string]string{}
	note := func(name string, body []byte) error {
		if sums[name] != "" {
			return badCrate("it holds %q twice", name)
		}
		sum := sha256.Sum256(body)
		sums[name] = hex.EncodeToString(sum[:])
		return nil
	}
	if err := note(crateHead, raw); err != nil {
		return nil, err
	}
	w := c.Store.NewWriter(c.Lease)
	w.Within(c.Lease, c.Sees)
	defer w.Close()
	in := newIntake(w, func() {})
	defer in.close()
	small, weight := 0, 0
	var objects int64
	for {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		name, body, err := entries.next()
		if err != nil {
			return nil, err
		}
		if name == crateEnd {
			var tail crateTail
			if json.Unmarshal(body, &tail) != nil || tail.Part != head.Part || len(tail.SHA256) != len(sums) ||
				tail.Objects != objects {
				return nil, badCrate("%s does not fit what came before", crateEnd)
			}
			for n, sum := range sums {
				if tail.SHA256[n] != sum {
					return nil, badCrate("%s was altered", n)
				}
			}
			if again, err := tail.encode(); err != nil || !bytes.Equal(again, body) {
				return nil, badCrate("%s was altered", crateEnd)
			}
			if out.Last = tail.Last; out.Last != (len(out.Roots) > 0) {
				return nil, badCrate("%s does not fit what came before", crateEnd)
			}
			if err := entries.end(); err != nil {
				return nil, err
			}
			break
		}
		if err := note(name, body); err != nil {
			return nil, err
		}
		switch kind, rest, _ := strings.Cut(name, "/"); kind {
		case "objects":
			c.Meter.SentBytes.Add(int64(len(body)))
			n, err := in.take(body)
			if err != nil {
				return nil, closedIn(head, err)
			}
			objects += n
		case "roots", "marks":
			small, weight = small+1, weight+len(body)
			if small > mostInCrate || weight > mostWeight {
				return nil, badCrate("it holds more roots and marks than a site writes")
			}
			id, err := object.ParseID(strings.SplitN(rest, "/", 2)[0])
			if err != nil {
				return nil, badCrate("the entry %q does not belong in one", name)
			}
			if kind == "roots" {
				out.Roots[id] = bytes.Clone(body)
			} else {
				out.Marks[id] = append(out.Marks[id], bytes.Clone(body))
			}
		default:
			return nil, badCrate("the entry %q does not belong in one", name)
		}
	}
	if err := in.wait(); err != nil {
		return nil, closedIn(head, err)
	}
	return out, w.Flush()
}

// closedIn says what it means that something is missing below an object.
func closedIn(h *CrateHead, err error) error {
	if errors.Is(err, store.ErrNotClosed) {
		if h.Part > 1 {
			return badCrate("what came before part %d is missing here: load the parts in their order", h.Part)
		}
		return badCrate("objects are missing in it")
	}
	if errors.Is(err, io.ErrUnexpectedEOF) {
		return badCrate("a record in it ends too early")
	}
	return err
}
