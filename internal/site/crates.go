package site

import (
	"bufio"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/policy"
	"candidharbor/internal/store"
	"candidharbor/internal/transfer"

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

func recipientOf(h hello) string {
	if _, err := age.ParseX25519Recipient(h.Recipient); err != nil {
		return ""
	}
	return h.Recipient
}

// crateLease names what holds the parts of a crate until the last has come.
func crateLease(id string) string { return store.LeaseName("crate " + id) }

// WriteCrate starts a run that writes what a route still has to carry, or chosen
// snapshots, into a file on this host.
func (s *Site) WriteCrate(ask api.CrateWrite, by string) (api.Run, error) {
	path, _, err := s.underRoot(ask.Path, false)
	if err != nil {
		return api.Run{}, err
	}
	if _, err := os.Lstat(path); err == nil {
		return api.Run{}, conflict("%s is there already: give the path of a new file", path)
	}
	if st, err := os.Stat(filepath.Dir(path)); err != nil || !st.IsDir() {
		return api.Run{}, bad("%s is no directory: make it first", filepath.Dir(path))
	}
	if ask.PartBytes != 0 && ask.PartBytes < 1<<20 {
		return api.Run{}, bad("parts of %s are too small: give at least 1 MiB", size(ask.PartBytes))
	}
	if (ask.Route == "") == (len(ask.Snapshots) == 0) {
		return api.Run{}, bad("name a route, whose missing snapshots are written, or snapshots")
	}
	c, peer, err := s.crateOf(ask)
	if err != nil {
		return api.Run{}, err
	}
	if len(c.Head.Snapshots) == 0 {
		return api.Run{}, conflict("there is nothing to write: %s lacks nothing that route %s carries", peer.Name, ask.Route)
	}
	var to age.Recipient
	if ask.Seal {
		if peer == nil {
			return api.Run{}, bad("a crate is sealed for a site: name a route to it")
		}
		if peer.Recipient == "" {
			return api.Run{}, conflict("it is not known yet for whom to seal: %s says so when it is next spoken to. Try candid site check %s", peer.Name, peer.Name)
		}
		if to, err = age.ParseX25519Recipient(peer.Recipient); err != nil {
			return api.Run{}, err
		}
	}
	j, err := s.start("crate", filepath.Base(path), by, func(ctx context.Context, j *job) (any, string, error) {
		j.begin(func() api.Progress {
			return api.Progress{DoneBytes: c.Meter.OfferedBytes.Load(), TotalBytes: c.Meter.TotalBytes.Load(), Files: c.Meter.SentObjects.Load()}
		})
		j.say("writing " + path)
		out := &crateFiles{path: path, parts: c.PartBytes > 0, to: to}
		c.Open = out.open
		err := c.Write(ctx)
		if err == nil {
			err = out.finish()
		}
		if err != nil {
			out.discard()
			return nil, "", err
		}
		res := api.CrateWritten{Paths: out.names(), Snapshots: len(c.Head.Snapshots), Bytes: c.Meter.SentBytes.Load()}
		words := fmt.Sprintf("%s written to %s, %s", many(res.Snapshots, "snapshot"), strings.Join(res.Paths, ", "), size(res.Bytes))
		if to != nil {
			words += "; only " + peer.Name + " can open it"
		}
		return res, words, nil
	})
	if err != nil {
		return api.Run{}, err
	}
	return j.view(), nil
}

func (s *Site) crateOf(ask api.CrateWrite) (*transfer.CrateWriter, *catalog.Peer, error) {
	var raw [6]byte
	rand.Read(raw[:])
	c := &transfer.CrateWriter{Store: s.store, PartBytes: ask.PartBytes, Meter: &transfer.Meter{}, Marks: s.travelling,
		Head: transfer.CrateHead{ID: hex.EncodeToString(raw[:]), Site: s.Name(), Made: s.clock.Now()}}
	add := func(v *catalog.Volume, row *catalog.Snapshot, setOf uint32) error {
		rs, err := s.rulesFor(v)
		if err != nil {
			return err
		}
		c.Head.Snapshots = append(c.Head.Snapshots, transfer.CrateSnapshot{ID: row.ID, Lineage: row.Lineage, Volume: nameAtOrigin(v), Origin: v.Origin, Taken: row.Began.Time, Bytes: row.Bytes,
			Rules: rs.proposal(s.Place()), SetOf: setOf})
		return nil
	}
	if ask.Route == "" {
		for _, id := range ask.Snapshots {
			row, err := s.cat.Snapshot(id)
			if err != nil {
				return nil, nil, err
			}
			v, err := s.cat.Volume(row.Volume)
			if err != nil {
				return nil, nil, err
			}
			if err := add(v, row, 0); err != nil {
				return nil, nil, err
			}
		}
		return c, nil, nil
	}
	r, err := s.cat.Route(ask.Route)
	if err != nil {
		return nil, nil, err
	}
	if r.Terms.V.Pull {
		return nil, nil, bad("route %s brings snapshots here: write the crate at %s", r.Name, r.Peer)
	}
	peer, err := s.cat.Peer(r.Peer)
	if err != nil {
		return nil, nil, err
	}
	c.Head.For = peer.Name
	work, err := s.routeWork(r)
	if err != nil {
		return nil, nil, err
	}
	for _, w := range work {
		for _, row := range w.want {
			setOf, err := s.setAlong(r, row)
			if err != nil {
				return nil, nil, err
			}
			if err := add(w.v, row, setOf); err != nil {
				return nil, nil, err
			}
		}
		c.Bases = append(c.Bases, w.bases...)
	}
	return c, peer, nil
}

// crateFiles are the files of a crate while it is written. They get their names at the end.
type crateFiles struct {
	path  string
	parts bool
	to    age.Recipient // nil: not sealed
	made  []string
}

const unfinished = ".unfinished"

type crateFile struct {
	*bufio.Writer
	seal io.WriteCloser
	f    *os.File
	once sync.Once
	err  error
}

func (c *crateFile) Close() error {
	c.once.Do(func() {
		c.err = c.Flush()
		if c.seal != nil {
			c.err = errors.Join(c.err, c.seal.Close())
		}
		c.err = errors.Join(c.err, c.f.Sync(), c.f.Close())
	})
	return c.err
}

func (o *crateFiles) open(part int) (io.WriteCloser, error) {
	name := o.path
	if o.parts {
		name = fmt.Sprintf("%s.%03d", o.path, part)
	}
	f, err := os.OpenFile(name+unfinished, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	o.made = append(o.made, name)
	c := &crateFile{f: f, Writer: bufio.NewWriterSize(f, 1<<20)}
	if o.to != nil {
		if c.seal, err = age.Encrypt(f, o.to); err != nil {
			f.Close()
			return nil, err
		}
		c.Writer = bufio.NewWriterSize(c.seal, 1<<20)
	}
	return c, nil
}

func (o *crateFiles) finish() error {
	for _, n := range o.made {
		if err := os.Link(n+unfinished, n); err != nil { // unlike a rename it replaces nothing
			return err
		}
		if err := os.Remove(n + unfinished); err != nil {
			return err
		}
	}
	return store.SyncDir(filepath.Dir(o.path))
}

func (o *crateFiles) discard() {
	for _, n := range o.made {
		os.Remove(n + unfinished)
	}
}

func (o *crateFiles) names() []string { return slices.Clone(o.made) }

// openCrate opens a file of a crate, unsealing it when it was sealed for this site.
func (s *Site) openCrate(path string) (io.Reader, *os.File, error) {
	resolved, _, err := s.underRoot(path, true)
	if err != nil {
		return nil, nil, err
	}
	f, err := os.Open(resolved)
	if err != nil {
		return nil, nil, bad("%s: %s", path, plain(err))
	}
	if st, err := f.Stat(); err != nil || !st.Mode().IsRegular() {
		f.Close()
		return nil, nil, bad("%s is no file", path)
	}
	r := bufio.NewReaderSize(f, 1<<20)
	const sealed = "age-encryption.org/"
	if head, _ := r.Peek(len(sealed)); string(head) != sealed {
		return r, f, nil
	}
	plainText, err := age.Decrypt(r, s.sealed)
	if err != nil {
		f.Close()
		return nil, nil, conflict("%s is sealed for another site, or damaged at its beginning: %v", path, err)
	}
	return plainText, f, nil
}

// ListCrate tells what is in a crate, changing nothing.
func (s *Site) ListCrate(path string) (*api.Crate, error) {
	r, f, err := s.openCrate(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	h, err := transfer.ReadCrateHead(r)
	if err != nil {
		return nil, &Error{Conflict, fmt.Errorf("%s: %w", path, err)}
	}
	out := &api.Crate{ID: h.ID, Site: h.Site, For: h.For, Made: h.Made, Part: h.Part, Snapshots: []api.CrateSnapshot{}, Missing: []string{}}
	for _, n := range h.Snapshots {
		id, err := object.ParseID(n.ID)
		if err != nil {
			return nil, conflict("%s: snapshot %q has no id that can be", path, n.ID)
		}
		out.Snapshots = append(out.Snapshots, api.CrateSnapshot{ID: n.ID, Volume: n.Volume + "@" + n.Origin, Taken: n.Taken, Bytes: n.Bytes, Here: s.store.HasRoot(id)})
	}
	for _, n := range h.Needs {
		if id, err := object.ParseID(n); err == nil && !s.store.HasRoot(id) {
			out.Missing = append(out.Missing, n)
		}
	}
	return out, nil
}

// LoadCrate starts a run that takes in the parts of a crate, in the order given.
func (s *Site) LoadCrate(ask api.CrateLoad, by string) (api.Run, error) {
	if len(ask.Paths) == 0 {
		return api.Run{}, bad("name the file of the crate, or its parts in their order")
	}
	for _, p := range ask.Paths {
		if _, err := s.ListCrate(p); err != nil {
			return api.Run{}, err
		}
	}
	meter := &transfer.Meter{}
	j, err := s.start("load", filepath.Base(ask.Paths[0]), by, func(ctx context.Context, j *job) (any, string, error) {
		release, err := s.hold(ctx, "crate")
		if err != nil {
			return nil, "", err
		}
		defer release()
		j.begin(func() api.Progress { return api.Progress{DoneBytes: meter.SentBytes.Load()} })
		n, known, last := 0, 0, false
		for _, p := range ask.Paths {
			j.say("reading " + p)
			got, had, end, err := s.loadPart(ctx, p, meter)
			if err != nil {
				return nil, "", fmt.Errorf("%s: %w", p, err)
			}
			n, known, last = n+got, known+had, end
		}
		if !last {
			return nil, fmt.Sprintf("%s read; its snapshots come with its last part", many(len(ask.Paths), "part")), nil
		}
		words := fmt.Sprintf("%s loaded", many(n, "snapshot"))
		if known > 0 {
			words += fmt.Sprintf(", %d were here already", known)
		}
		return map[string]int{"snapshots": n, "known": known}, words, nil
	})
	if err != nil {
		return api.Run{}, err
	}
	return j.view(), nil
}

func (s *Site) loadPart(ctx context.Context, path string, meter *transfer.Meter) (got, had int, last bool, err error) {
	r, f, err := s.openCrate(path)
	if err != nil {
		return 0, 0, false, err
	}
	defer f.Close()
	var lease *store.Lease
	cr := &transfer.CrateReader{Store: s.store, Meter: meter}
	requests := map[object.ID]*transfer.CarryRequest{}
	first := true
	cr.Meant = func(h *transfer.CrateHead) error {
		first = h.Part == 1
		if h.For != "" && h.For != s.Name() {
			return fmt.Errorf("the crate was written for %s, and this is %s", h.For, s.Name())
		}
		for _, n := range h.Needs {
			if id, err := object.ParseID(n); err != nil || !s.store.HasRoot(id) {
				return fmt.Errorf("the crate builds on snapshot %.12s, which is not here: write it anew at %s, after candid route run there", n, h.Site)
			}
		}
		for _, n := range h.Snapshots {
			q, err := s.crateRequest(&n)
			if err != nil {
				return err
			}
			requests[q.Root] = q
		}
		var err error
		lease, err = s.store.DurableLease(crateLease(h.ID))
		cr.Lease = lease
		return err
	}
	parts, err := cr.Read(ctx, r)
	if err != nil {
		if lease != nil && first { // what it brought is swept; after a first part a whole copy can follow
			lease.Release()
		}
		return 0, 0, false, err
	}
	if !parts.Last {
		return 0, 0, false, nil
	}
	defer lease.Release()
	// Everything is looked at before anything becomes a snapshot.
	trusted := map[object.ID]string{}
	for id := range requests {
		if s.store.HasRoot(id) {
			continue
		}
		if trusted[id], err = s.crateRoot(requests[id], parts.Roots[id]); err != nil {
			return 0, 0, true, err
		}
	}
	for _, n := range parts.Head.Snapshots {
		id, err := object.ParseID(n.ID)
		if err != nil {
			return got, had, true, err
		}
		q := requests[id]
		has := s.store.HasRoot(id)
		if has {
			had++
		} else {
			got++
		}
		if err := s.proposed(q); err != nil {
			return got, had, true, err
		}
		w := s.store.NewWriter(s.store.NewLease())
		if !has {
			if _, err := w.CommitRecord(parts.Roots[id]); err != nil {
				return got, had, true, err
			}
		}
		w.Close()
		if err := transfer.TakeMarks(s.store, id, parts.Marks[id]); err != nil {
			return got, had, true, err
		}
		if _, err := s.arrived(id, 0, q.SetOf, trusted[id], ""); err != nil {
			return got, had, true, err
		}
		if err := s.proposed(q); err != nil {
			return got, had, true, err
		}
	}
	s.changed("snapshots")
	return got, had, true, nil
}

// crateRequest is what a carry of a crate's snapshot would announce.
func (s *Site) crateRequest(n *transfer.CrateSnapshot) (*transfer.CarryRequest, error) {
	id, err := object.ParseID(n.ID)
	if err != nil {
		return nil, fmt.Errorf("snapshot %q has no id that can be", n.ID)
	}
	if n.Origin == s.Name() || policy.CheckName("site", n.Origin) != nil || policy.CheckName("volume", n.Volume) != nil {
		return nil, fmt.Errorf("a volume %q of the site %q cannot be taken in here", n.Volume, n.Origin)
	}
	if known, err := s.cat.VolumeOfLineage(n.Lineage); err == nil && known.Origin != n.Origin {
		return nil, fmt.Errorf("the history of %s belongs to %s here", n.Volume, known.Name)
	}
	return &transfer.CarryRequest{Lineage: lineageOf(n.Lineage), Volume: n.Volume, Origin: n.Origin, Root: id, Rules: n.Rules, SetOf: n.SetOf}, nil
}

// crateRoot finds whether a root record of a crate is what its head says, signed by one
// who may. Of a site that is not paired nothing is taken in: nobody vouches for it.
func (s *Site) crateRoot(q *transfer.CarryRequest, record []byte) (signer string, err error) {
	if record == nil {
		return "", fmt.Errorf("%w: the root of snapshot %.12s is missing", transfer.ErrCrate, q.Root)
	}
	env, key, err := object.OpenRecord("root", record)
	if err != nil {
		return "", err
	}
	root, err := object.DecodeRoot(env)
	if err != nil {
		return "", err
	}
	if object.Sum(env) != q.Root || root.Lineage != q.Lineage || root.Volume != q.Volume || root.Origin != q.Origin {
		return "", fmt.Errorf("%w: the root of snapshot %.12s is not what its head says", transfer.ErrCrate, q.Root)
	}
	signer = hex.EncodeToString(ed25519.PublicKey(key))
	var may []string
	if origin, err := s.cat.Peer(q.Origin); err == nil {
		may = signers(origin)
	} else if v, err := s.cat.VolumeOfLineage(hex.EncodeToString(q.Lineage[:])); err == nil && v.Signer != "" {
		may = []string{v.Signer}
	} else {
		return "", fmt.Errorf("%s is not paired with this site, so nobody vouches for its snapshots: pair first", q.Origin)
	}
	if !slices.Contains(may, signer) {
		return "", fmt.Errorf("the root of snapshot %.12s is not signed by %s", q.Root, q.Origin)
	}
	return signer, nil
}
