package transfer

import (
	"archive/tar"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"time"

	"candidharbor/core/object"
	"candidharbor/core/space"
	"candidharbor/internal/store"

	"github.com/RoaringBitmap/roaring/v2"
)

// A crate is a tar file, or several that are each a whole tar file: crate.json, then
// records of objects as they lie in packs, children before parents also across parts, then
// in the last part root records and marks, then end.json with the SHA-256 of every entry.
// Every byte beside the entries is what crateHeader and Go's encoding of JSON make of them.

const (
	crateForm   = 1
	crateHead   = "crate.json"
	crateEnd    = "end.json"
	crateEntry  = 8 << 20   // bytes of records in an entry before it is written
	mostEntry   = 64 << 20  // that is read of one
	mostInCrate = 1 << 20   // roots and marks
	mostWeight  = 256 << 20 // of them together
)

// CrateHead says what is in a crate. Every part has it.
type CrateHead struct {
	Form      int             `json:"form"`
	ID        string          `json:"crate"`
	Site      string          `json:"site"` // that wrote it
	For       string          `json:"for"`  // that it was written for
	Made      time.Time       `json:"made"`
	Part      int             `json:"part"` // from 1
	Snapshots []CrateSnapshot `json:"snapshots"`
	Needs     []string        `json:"needs,omitempty"` // snapshots that must be there already
}

// CrateSnapshot is a snapshot in a crate.
type CrateSnapshot struct {
	ID      string    `json:"id"`
	Lineage string    `json:"lineage"`
	Volume  string    `json:"volume"`
	Origin  string    `json:"origin"`
	Taken   time.Time `json:"taken"`
	Bytes   int64     `json:"bytes"`
	Rules   string    `json:"rules,omitempty"`
	SetOf   uint32    `json:"setOf,omitempty"`
	// Authority are the records of who is, and was, active of the history.
	Authority [][]byte `json:"authority,omitempty"`
}

type crateTail struct {
	Part    int               `json:"part"`
	Last    bool              `json:"last"`
	SHA256  map[string]string `json:"sha256"`
	Objects int64             `json:"objects"`
}

func (t crateTail) encode() ([]byte, error) { return json.MarshalIndent(t, "", "  ") }

func crateHeader(name string, size int64) *tar.Header {
	return &tar.Header{Name: name, Mode: 0o444, Size: size, Typeflag: tar.TypeReg, Format: tar.FormatUSTAR}
}

// CrateWriter writes snapshots into a crate.
type CrateWriter struct {
	Store *store.Store
	Head  CrateHead
	Marks func(id object.ID) ([][]byte, error)
	Bases []object.ID // that the other side has
	// Open begins a part.
	Open      func(part int) (io.WriteCloser, error)
	PartBytes int64 // 0: one part
	Meter     *Meter
}

type cratePart struct {
	out  io.WriteCloser
	tar  *tar.Writer
	tail crateTail
	n    int64
}

// Write writes the crate. The snapshots cannot be removed meanwhile.
func (c *CrateWriter) Write(ctx context.Context) error {
	lease := c.Store.NewLease()
	defer lease.Release()
	set := roaring.New()
	var roots []object.ID
	for _, s := range c.Head.Snapshots {
		id, err := object.ParseID(s.ID)
		if err != nil {
			return err
		}
		census, err := c.Store.Census(id)
		if err != nil {
			return err
		}
		space.Include(set, census)
		roots = append(roots, id)
	}
	lease.AcquireSet(set)
	for _, id := range roots {
		if !c.Store.HasRoot(id) {
			return fmt.Errorf("snapshot %s was removed before it could be written", id)
		}
	}
	for _, id := range c.Bases {
		if base, err := c.Store.Census(id); err == nil {
			set.AndNot(base)
			c.Head.Needs = append(c.Head.Needs, id.String())
		}
	}
	c.Meter.OfferedObjects.Store(int64(set.GetCardinality()))
	var total int64
	for it := set.Iterator(); it.HasNext(); {
		total += c.Store.SizeOf(it.Next())
	}
	c.Meter.TotalBytes.Store(total)
	next, err := childrenFirst(c.Store, set, roots...)
	if err != nil {
		return err
	}
	p, err := c.begin(1)
	if err != nil {
		return err
	}
	defer func() { p.out.Close() }()
	var batch, buf []byte
	put := func() error {
		if len(batch) == 0 {
			return nil
		}
		err := p.entry(fmt.Sprintf("objects/%06d", p.n), batch)
		p.n++
		c.Meter.SentBytes.Add(int64(len(batch)))
		batch = batch[:0]
		return err
	}
	var size int64
	for {
		if err := ctx.Err(); err != nil {
			return err
		}
		id, n, ok := next()
		if !ok {
			break
		}
		if buf, err = c.Store.Record(id, buf); err != nil {
			return fmt.Errorf("the crate cannot be written whole: %w; run verify to see what is damaged", err)
		}
		if c.PartBytes > 0 && size > 0 && size+int64(len(buf)) > c.PartBytes {
			if err := put(); err != nil {
				return err
			}
			if err := p.end(false); err != nil {
				return err
			}
			if p, err = c.begin(p.tail.Part + 1); err != nil {
				return err
			}
			size = 0
		}
		batch = append(batch, buf...)
		size += int64(len(buf))
		p.tail.Objects++
		c.Meter.OfferedBytes.Add(n)
		c.Meter.alone(int64(len(buf)) - n)
		c.Meter.SentObjects.Add(1)
		if len(batch) >= crateEntry {
			if err := put(); err != nil {
				return err
			}
		}
	}
	if err := put(); err != nil {
		return err
	}
	for _, id := range roots {
		rec, err := c.Store.RootRecord(id)
		if err != nil {
			return err
		}
		if err := p.entry("roots/"+id.String(), rec); err != nil {
			return err
		}
		marks, err := c.Marks(id)
		if err != nil {
			return err
		}
		for i, m := range marks {
			if err := p.entry(fmt.Sprintf("marks/%s/%04d", id, i), m); err != nil {
				return err
			}
		}
	}
	return p.end(true)
}

func (c *CrateWriter) begin(part int) (*cratePart, error) {
	out, err := c.Open(part)
	if err != nil {
		return nil, err
	}
	p := &cratePart{out: out, tar: tar.NewWriter(out), tail: crateTail{Part: part, SHA256: map[string]string{}}}
	h := c.Head
	h.Form, h.Part = crateForm, part
	raw, err := json.MarshalIndent(h, "", "  ")
	if err == nil {
		err = p.entry(crateHead, raw)
	}
	if err != nil {
		out.Close()
	}
	return p, err
}

func (p *cratePart) entry(name string, body []byte) error {
	if err := p.tar.WriteHeader(crateHeader(name, int64(len(body)))); err != nil {
		return err
	}
	sum := sha256.Sum256(body)
	p.tail.SHA256[name] = hex.EncodeToString(sum[:])
	_, err := p.tar.Write(body)
	return err
}

func (p *cratePart) end(last bool) error {
	p.tail.Last = last
	raw, err := p.tail.encode()
	if err != nil {
		return err
	}
	if err := p.entry(crateEnd, raw); err != nil {
		return err
	}
	if err := p.tar.Close(); err != nil {
		return err
	}
	return p.out.Close()
}
