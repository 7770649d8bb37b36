package route

import (
	"bufio"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/core/space"
	"candidharbor/internal/beneath"
	"candidharbor/internal/catalog"
	"candidharbor/internal/datadir"
	"candidharbor/internal/pairing"
	"candidharbor/internal/phrase"
	"candidharbor/internal/policy"
	"candidharbor/internal/records"
	"candidharbor/internal/refusal"
	"candidharbor/internal/run"
	"candidharbor/internal/store"
	"candidharbor/internal/transfer"

	"filippo.io/age"
	"github.com/RoaringBitmap/roaring/v2"
)

// openCrate opens a file of a crate, unsealing it when it was sealed for this site.
func (s *Service) openCrate(path string) (io.Reader, *os.File, error) {
	resolved, root, err := s.UnderRoot(path, true)
	if err != nil {
		return nil, nil, err
	}
	f, err := beneath.File(root, resolved)
	if err != nil {
		return nil, nil, refusal.Badf("%s: %s", path, datadir.Plain(err))
	}
	r := bufio.NewReaderSize(f, 1<<20)
	const sealed = "age-encryption.org/"
	if head, _ := r.Peek(len(sealed)); string(head) != sealed {
		return r, f, nil
	}
	plainText, err := age.Decrypt(r, s.Sealing)
	if err != nil {
		f.Close()
		return nil, nil, refusal.Conflictf("%s is sealed for another site, or damaged at its beginning: %v", path, err)
	}
	return plainText, f, nil
}

// ListCrate tells what is in a crate, changing nothing.
func (s *Service) ListCrate(path string) (*api.Crate, error) {
	r, f, err := s.openCrate(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	h, err := transfer.ReadCrateHead(r)
	if err != nil {
		return nil, refusal.Wrap(refusal.Conflict, fmt.Errorf("%s: %w", path, err))
	}
	out := &api.Crate{ID: h.ID, Site: h.Site, For: h.For, Made: h.Made, Part: h.Part, Snapshots: []api.CrateSnapshot{},
		Missing: []string{}}
	for _, n := range h.Snapshots {
		id, err := object.ParseID(n.ID)
		if err != nil {
			return nil, refusal.Conflictf("%s: snapshot %q has no id that can be", path, n.ID)
		}
		out.Snapshots = append(out.Snapshots, api.CrateSnapshot{ID: n.ID, Volume: n.Volume + "@" + n.Origin, Taken: n.Taken,
			Bytes: n.Bytes, Here: s.Store.HasRoot(id)})
	}
	for _, n := range h.Needs {
		if id, err := object.ParseID(n); err == nil && !s.Store.HasRoot(id) {
			out.Missing = append(out.Missing, n)
		}
	}
	return out, nil
}

// LoadCrate starts a run that takes in the parts of a crate, in the order given.
func (s *Service) LoadCrate(ask api.CrateLoad, by string) (api.Run, error) {
	if len(ask.Paths) == 0 {
		return api.Run{}, refusal.Badf("name the file of the crate, or its parts in their order")
	}
	for _, p := range ask.Paths {
		if _, err := s.ListCrate(p); err != nil {
			return api.Run{}, err
		}
	}
	meter := &transfer.Meter{}
	j, err := s.run.Start("load", filepath.Base(ask.Paths[0]), by, func(ctx context.Context, j *run.Job) (any, string,
		error) {
		release, err := s.run.Hold(ctx, run.KeyCrate.Of(""))
		if err != nil {
			return nil, "", err
		}
		defer release()
		j.Begin(func() api.Progress { return api.Progress{DoneBytes: meter.SentBytes.Load()} })
		n, known, last := 0, 0, false
		for _, p := range ask.Paths {
			j.Say("reading " + p)
			got, had, end, err := s.loadPart(ctx, p, meter)
			if err != nil {
				return nil, "", fmt.Errorf("%s: %w", p, err)
			}
			n, known, last = n+got, known+had, end
		}
		if !last {
			return nil, fmt.Sprintf("%s read; its snapshots come with its last part", phrase.Many(len(ask.Paths), "part")), nil
		}
		words := fmt.Sprintf("%s loaded", phrase.Many(n, "snapshot"))
		if known > 0 {
			words += fmt.Sprintf(", %d were here already", known)
		}
		return map[string]int{"snapshots": n, "known": known}, words, nil
	})
	if err != nil {
		return api.Run{}, err
	}
	return j.View(), nil
}

func (s *Service) loadPart(ctx context.Context, path string, meter *transfer.Meter) (got, had int, last bool,
	err error) {
	r, f, err := s.openCrate(path)
	if err != nil {
		return 0, 0, false, err
	}
	defer f.Close()
	var lease *store.Lease
	cr := &transfer.CrateReader{Store: s.Store, Meter: meter}
	requests := map[object.ID]*transfer.CarryRequest{}
	first := true
	var sees func(ordinal uint32) bool
	cr.Sees = func(ordinal uint32) bool { return sees(ordinal) }
	cr.Meant = func(h *transfer.CrateHead) error {
		first = h.Part == 1
		if h.For != "" && h.For != s.Name() {
			return fmt.Errorf("the crate was written for %s, and this is %s", h.For, s.Name())
		}
		for _, n := range h.Needs {
			if id, err := object.ParseID(n); err != nil || !s.Store.HasRoot(id) {
				return fmt.Errorf("the crate builds on snapshot %.12s, which is not here: write it anew at %s, after candid "+
					"route run there", n, h.Site)
			}
		}
		sees = s.crateReach(h)
		for _, n := range h.Snapshots {
			q, err := s.crateRequest(&n)
			if err != nil {
				return err
			}
			requests[q.Root] = q
		}
		var err error
		lease, err = s.Store.DurableLease(crateLease(h.ID))
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
		record := parts.Roots[id]
		if s.Store.HasRoot(id) { // its marks come in, if it is what the head says
			if record, err = s.Store.RootRecord(id); err != nil {
				return 0, 0, true, err
			}
		}
		if trusted[id], err = s.crateRoot(requests[id], record); err != nil {
			return 0, 0, true, err
		}
	}
	for _, n := range parts.Head.Snapshots {
		id, err := object.ParseID(n.ID)
		if err != nil {
			return got, had, true, err
		}
		q := requests[id]
		has := s.Store.HasRoot(id)
		if has {
			had++
		} else {
			got++
		}
		if err := s.proposed(q); err != nil {
			return got, had, true, err
		}
		w := s.Store.NewWriter(s.Store.NewLease())
		w.Within(lease, sees)
		if !has {
			if _, err := w.CommitRecord(parts.Roots[id]); err != nil {
				return got, had, true, err
			}
		}
		w.Close()
		if err := s.takeCrateMarks(id, q, parts.Marks[id]); err != nil {
			return got, had, true, err
		}
		_, err = s.arrived(id, 0, q.SetOf, trusted[id], "")
		if err == nil {
			err = s.authority.Learn("a crate", q.Authority)
		}
		if err != nil {
			return got, had, true, err
		}
		if err := s.proposed(q); err != nil {
			return got, had, true, err
		}
	}
	s.run.Changed("snapshots")
	return got, had, true, nil
}

// crateReach tells which objects that are here a crate's snapshots may rely on: those of the
// snapshots it builds on and of what is shared with the sites they are of.
func (s *Service) crateReach(h *transfer.CrateHead) func(ordinal uint32) bool {
	all := sync.OnceValue(func() *roaring.Bitmap {
		objects := roaring.New()
		routes, err := s.Catalog.Routes()
		if err != nil {
			s.Log.Error("the routes could not be read", "error", err)
		}
		done := map[string]bool{}
		for _, n := range h.Snapshots {
			v, err := s.Catalog.VolumeOfLineage(n.Lineage)
			if err == nil {
				space.Include(objects, s.newestObjects(v))
			}
			if peer, err := s.Catalog.Peer(n.Origin); err == nil && !done[n.Origin] {
				space.Include(objects, s.sharedObjects(peer, routes))
			}
			done[n.Origin] = true
		}
		for _, n := range h.Needs {
			id, err := object.ParseID(n)
			if err != nil {
				continue
			}
			if root, _, err := s.Store.Root(id); err != nil || !done[root.Origin] {
				continue
			}
			if set, err := s.Store.Census(id); err == nil {
				space.Include(objects, set)
			}
		}
		return objects
	})
	return func(ordinal uint32) bool { return all().Contains(ordinal) }
}

// crateRequest is what a carry of a crate's snapshot would announce.
func (s *Service) crateRequest(n *transfer.CrateSnapshot) (*transfer.CarryRequest, error) {
	id, err := object.ParseID(n.ID)
	if err != nil {
		return nil, fmt.Errorf("snapshot %q has no id that can be", n.ID)
	}
	known, err := s.Catalog.VolumeOfLineage(n.Lineage)
	if policy.CheckName("site", n.Origin) != nil || policy.CheckName("volume", n.Volume) != nil ||
		n.Origin == s.Name() && (err != nil || known.Origin != s.Name()) {
		return nil, fmt.Errorf("a volume %q of the site %q cannot be taken in here", n.Volume, n.Origin)
	}
	if err == nil && known.Origin != n.Origin {
		return nil, fmt.Errorf("the history of %s belongs to %s here", n.Volume, known.Name)
	}
	return &transfer.CarryRequest{Lineage: records.LineageOf(n.Lineage), Volume: n.Volume, Origin: n.Origin, Root: id,
		Rules: n.Rules, SetOf: n.SetOf, Authority: n.Authority}, nil
}

// crateRoot finds whether a root record of a crate is what its head says, signed by one
// who may. Of a site that is not paired nothing is taken in: nobody vouches for it.
func (s *Service) crateRoot(q *transfer.CarryRequest, record []byte) (signer string, err error) {
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
	t, err := s.crateTrust(q)
	if err != nil {
		return "", err
	}
	if !t.roots(root, key) {
		return "", fmt.Errorf("the root of snapshot %.12s is not signed by %s", q.Root, root.Taker())
	}
	return t.signer(root, key), nil
}

// crateSigners lists the keys that may have signed a crate's snapshot.
func (s *Service) crateSigners(v *catalog.Volume) ([]string, error) {
	if v.Origin == s.Name() {
		return s.ownKeys()
	}
	if origin, err := s.Catalog.Peer(v.Origin); err == nil && (v.Lineage == "" || s.bound(origin, v)) {
		return pairing.Signers(origin), nil
	}
	if v.Signer != "" {
		return []string{v.Signer}, nil
	}
	return nil, fmt.Errorf("%s is not paired with this site, so nobody vouches for its snapshots: pair first", v.Origin)
}

func (s *Service) crateTrust(q *transfer.CarryRequest) (*trust, error) {
	v, err := s.Catalog.VolumeOfLineage(hex.EncodeToString(q.Lineage[:]))
	if errors.Is(err, catalog.ErrNone) {
		return s.trustOf(nil, &catalog.Volume{Name: q.Volume + "@" + q.Origin, Origin: q.Origin}, q)
	}
	if err != nil {
		return nil, err
	}
	if err := s.authority.Learn("a crate", q.Authority); err != nil {
		return nil, err
	}
	return s.trustOf(nil, v, q)
}

func (s *Service) takeCrateMarks(id object.ID, q *transfer.CarryRequest, marks [][]byte) error {
	t, err := s.crateTrust(q)
	if err != nil {
		return err
	}
	return transfer.TakeMarks(s.Store, id, marks, s.mayMark(id, t, nil))
}
