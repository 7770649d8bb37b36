package route

import (
	"bufio"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"candidharbor/api"
	"candidharbor/internal/beneath"
	"candidharbor/internal/catalog"
	"candidharbor/internal/datadir"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
	"candidharbor/internal/run"
	"candidharbor/internal/store"
	"candidharbor/internal/transfer"

	"filippo.io/age"
	"golang.org/x/sys/unix"
)

// crateLease names what holds the parts of a crate until the last has come.
func crateLease(id string) string { return store.LeaseName("crate " + id) }

// WriteCrate starts a run that writes what a route still has to carry, or chosen
// snapshots, into a file on this host.
func (s *Service) WriteCrate(ask api.CrateWrite, by string) (api.Run, error) {
	path, root, err := s.UnderRoot(ask.Path, false)
	if err != nil {
		return api.Run{}, err
	}
	if _, err := os.Lstat(path); err == nil {
		return api.Run{}, refusal.Conflictf("%s is there already: give the path of a new file", path)
	}
	above := filepath.Dir(path)
	if at, err := beneath.Open(root, above); err != nil {
		return api.Run{}, refusal.Badf("%s is no directory that can be written to: %s", above, datadir.Plain(err))
	} else {
		unix.Close(at)
	}
	if ask.PartBytes != 0 && ask.PartBytes < 1<<20 {
		return api.Run{}, refusal.Badf("parts of %s are too small: give at least 1 MiB", phrase.Size(ask.PartBytes))
	}
	if (ask.Route == "") == (len(ask.Snapshots) == 0) {
		return api.Run{}, refusal.Badf("name a route, whose missing snapshots are written, or snapshots")
	}
	c, peer, err := s.crateOf(ask)
	if err != nil {
		return api.Run{}, err
	}
	if len(c.Head.Snapshots) == 0 {
		return api.Run{}, refusal.Conflictf("there is nothing to write: %s lacks nothing that route %s carries", peer.Name,
			ask.Route)
	}
	var to age.Recipient
	if ask.Seal {
		if peer == nil {
			return api.Run{}, refusal.Badf("a crate is sealed for a site: name a route to it")
		}
		if peer.Recipient == "" {
			return api.Run{}, refusal.Conflictf("it is not known yet for whom to seal: %s says so when it is next spoken to. "+
				"Try candid site check %s", peer.Name, peer.Name)
		}
		if to, err = age.ParseX25519Recipient(peer.Recipient); err != nil {
			return api.Run{}, err
		}
	}
	j, err := s.run.Start("crate", filepath.Base(path), by, func(ctx context.Context, j *run.Job) (any, string, error) {
		j.Begin(func() api.Progress {
			return api.Progress{DoneBytes: c.Meter.OfferedBytes.Load(), TotalBytes: c.Meter.TotalBytes.Load(),
				Files: c.Meter.SentObjects.Load()}
		})
		j.Say("writing " + path)
		at, err := beneath.Open(root, above)
		if err != nil {
			return nil, "", err
		}
		defer unix.Close(at)
		out := &crateFiles{at: at, path: path, parts: c.PartBytes > 0, to: to}
		c.Open = out.open
		err = c.Write(ctx)
		if err == nil {
			err = out.finish()
		}
		if err != nil {
			out.discard()
			return nil, "", err
		}
		res := api.CrateWritten{Paths: out.names(), Snapshots: len(c.Head.Snapshots), Bytes: c.Meter.SentBytes.Load()}
		words := fmt.Sprintf("%s written to %s, %s", phrase.Many(res.Snapshots, "snapshot"), strings.Join(res.Paths, ", "),
			phrase.Size(res.Bytes))
		if to != nil {
			words += "; only " + peer.Name + " can open it"
		}
		return res, words, nil
	})
	if err != nil {
		return api.Run{}, err
	}
	return j.View(), nil
}

func (s *Service) crateOf(ask api.CrateWrite) (*transfer.CrateWriter, *catalog.Peer, error) {
	var raw [6]byte
	rand.Read(raw[:])
	c := &transfer.CrateWriter{Store: s.Store, PartBytes: ask.PartBytes, Meter: &transfer.Meter{}, Marks: s.travelling,
		Head: transfer.CrateHead{ID: hex.EncodeToString(raw[:]), Site: s.Name(), Made: s.Clock.Now()}}
	add := func(v *catalog.Volume, row *catalog.Snapshot, setOf uint32) error {
		rs, err := s.rules.RulesFor(v)
		if err != nil {
			return err
		}
		c.Head.Snapshots = append(c.Head.Snapshots, transfer.CrateSnapshot{ID: row.ID, Lineage: row.Lineage,
			Volume: NameAtOrigin(v), Origin: v.Origin, Taken: row.Began.Time, Bytes: row.Bytes,
			Rules: rs.Proposal(s.Place()), SetOf: setOf, Authority: s.authority.Records(v)})
		return nil
	}
	if ask.Route == "" {
		for _, id := range ask.Snapshots {
			row, err := s.Catalog.Snapshot(id)
			if err != nil {
				return nil, nil, err
			}
			v, err := s.Catalog.Volume(row.Volume)
			if err != nil {
				return nil, nil, err
			}
			if err := add(v, row, 0); err != nil {
				return nil, nil, err
			}
		}
		return c, nil, nil
	}
	r, err := s.Catalog.Route(ask.Route)
	if err != nil {
		return nil, nil, err
	}
	if r.Terms.V.Pull {
		return nil, nil, refusal.Badf("route %s brings snapshots here: write the crate at %s", r.Name, r.Peer)
	}
	if !termParts(r.Terms.V).Whole() {
		return nil, nil, refusal.Badf("route %s carries a part of its volumes, and a crate carries whole snapshots: let "+
			"the first copies go over the line", r.Name)
	}
	peer, err := s.Catalog.Peer(r.Peer)
	if err != nil {
		return nil, nil, err
	}
	c.Head.For = peer.Name
	work, err := s.RouteWork(r)
	if err != nil {
		return nil, nil, err
	}
	for _, w := range work {
		for _, row := range w.Want {
			setOf, err := s.setAlong(r, row)
			if err != nil {
				return nil, nil, err
			}
			if err := add(w.V, row, setOf); err != nil {
				return nil, nil, err
			}
		}
		c.Bases = append(c.Bases, w.bases...)
	}
	return c, peer, nil
}

// crateFiles are the files of a crate while it is written. They get their names at the end.
type crateFiles struct {
	at    int // the directory they are in
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
	fd, err := beneath.At(o.at, filepath.Base(name)+unfinished, unix.O_CREAT|unix.O_EXCL|unix.O_WRONLY, 0o600)
	if err != nil {
		return nil, &os.PathError{Op: "create", Path: name + unfinished, Err: err}
	}
	f := os.NewFile(uintptr(fd), name)
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
		name := filepath.Base(n)
		err := unix.Renameat2(o.at, name+unfinished, o.at, name, unix.RENAME_NOREPLACE)
		if errors.Is(err, unix.EINVAL) { // a filesystem that does not know how
			err = errors.Join(unix.Linkat(o.at, name+unfinished, o.at, name, 0), unix.Unlinkat(o.at, name+unfinished, 0))
		}
		if err != nil {
			return &os.PathError{Op: "name", Path: n, Err: err}
		}
	}
	return unix.Fsync(o.at)
}

func (o *crateFiles) discard() {
	for _, n := range o.made {
		_ = unix.Unlinkat(o.at, filepath.Base(n)+unfinished, 0)
	}
}

func (o *crateFiles) names() []string { return slices.Clone(o.made) }
