package recovery

import (
	"context"
	"crypto/ed25519"
	"errors"
	"fmt"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/records"
	"candidharbor/internal/refusal"
	"candidharbor/internal/route"
	"candidharbor/internal/run"
	"candidharbor/internal/store"
	"candidharbor/internal/transfer"
	"candidharbor/internal/volume/tree"

	"golang.org/x/sync/errgroup"
)

// recall reads a snapshot that another site has. What the store here has is not asked for;
// directories that it lacks are kept in memory until what is below them is here, for a store
// takes nothing that is not whole below.
type recall struct {
	s    *Service
	ctx  context.Context
	peer *catalog.Peer
	row  *catalog.Snapshot
	root *object.Root

	// all is fetched of it, also what the store here has: a person wants that site's copy.
	all bool

	lease   *store.Lease
	mu      sync.Mutex
	kept    map[object.ID][]byte
	hurt    map[object.ID]bool // what the peer does not have whole
	order   []object.ID        // of kept: what leads to another comes before it
	content []object.ID        // of files below what was looked through, that are not here
	bytes   int64              // of those files, at most to be fetched
	Fetched atomic.Int64
}

// RecallOf begins to read a snapshot of another site. It must be signed as those that came
// here before.
func (s *Service) RecallOf(ctx context.Context, peer *catalog.Peer, v *catalog.Volume, row *catalog.Snapshot) (*recall,
	error) {
	id, err := object.ParseID(row.ID)
	if err != nil {
		return nil, err
	}
	var raw []byte
	if err := s.pairing.AskPeer(ctx, peer, "root", route.RootAsk{Root: id}, &raw); err != nil {
		return nil, refusal.Wrap(refusal.Elsewhere, fmt.Errorf("site %s: %w", peer.Name, err))
	}
	env, signer, err := object.OpenRecord("root", raw)
	if err != nil || object.Sum(env) != id {
		return nil, refusal.Wrap(refusal.Elsewhere, fmt.Errorf("site %s answered with something else than snapshot %s",
			peer.Name, row.ID[:12]))
	}
	root, err := object.DecodeRoot(env)
	if err != nil {
		return nil, err
	}
	if root.Lineage != records.LineageOf(v.Lineage) {
		return nil, refusal.Wrap(refusal.Elsewhere, fmt.Errorf("site %s answered with a snapshot of another volume",
			peer.Name))
	}
	if ok, err := s.signedWell(peer, v, root, signer); err != nil {
		return nil, err
	} else if !ok {
		return nil, refusal.Wrap(refusal.Elsewhere, fmt.Errorf("snapshot %s at %s is not signed by %s, which took it: "+
			"nothing was brought back", row.ID[:12], peer.Name, root.Taker()))
	}
	return &recall{s: s, ctx: ctx, peer: peer, row: row, root: root, lease: s.Store.NewLease(),
		kept: map[object.ID][]byte{}, hurt: map[object.ID]bool{}}, nil
}

// signedWell tells whether a key may have signed snapshots of a volume.
func (s *Service) signedWell(peer *catalog.Peer, v *catalog.Volume, root *object.Root,
	key ed25519.PublicKey) (bool, error) {
	if root.TakenBy != "" {
		return s.authority.MayHaveTaken(v, root.Term, root.TakenBy, key), nil
	}
	text := transfer.KeyText(key)
	if v.Origin != s.Name() {
		trusted, err := s.routes.MaySign(peer, v)
		return err == nil && (len(trusted) == 0 || slices.Contains(trusted, text)), err
	}
	if text == transfer.KeyText(s.Identity().Public()) {
		return true, nil
	}
	if is, err := s.Catalog.IsFormerKey(text); err != nil || is {
		return is, err
	}
	rows, err := s.Catalog.Snapshots(s.Place(), v.Name, catalog.SnapshotFilter{})
	if err != nil {
		return false, err
	}
	for _, row := range rows { // a key of before those were noted
		id, err := object.ParseID(row.ID)
		if err != nil {
			return false, err
		}
		if _, by, err := s.Store.Root(id); err == nil && by.Equal(key) {
			return true, nil
		}
	}
	return false, nil
}

// Get returns an object from here or from there.
func (r *recall) Get(id object.ID) (object.Envelope, error) {
	if ok, err := r.lease.Acquire(id); err != nil {
		return object.Envelope{}, err
	} else if ok {
		return r.s.Store.Get(id)
	}
	r.mu.Lock()
	raw, hurt := r.kept[id], r.hurt[id]
	r.mu.Unlock()
	if raw == nil && !hurt {
		err := r.fetch(r.ctx, []object.ID{id}, func(got object.ID, one []byte) error {
			raw = one
			r.keep(got, one)
			return nil
		})
		if err != nil {
			return object.Envelope{}, err
		}
	}
	if raw == nil {
		return object.Envelope{}, &damagedThere{r.peer.Name, id}
	}
	_, env, err := store.OpenRecord(raw)
	return env, err
}

func (r *recall) keep(id object.ID, raw []byte) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.kept[id] == nil {
		r.kept[id] = raw
		r.order = append(r.order, id)
	}
}

// fetch gets objects, each checked against its identity, as the peer sends them. What it does
// not have whole is noted and passed over: all else comes back.
func (r *recall) fetch(ctx context.Context, ids []object.ID, take func(object.ID, []byte) error) error {
	id, err := object.ParseID(r.row.ID)
	if err != nil {
		return err
	}
	return r.s.fetchObjects(ctx, r.peer, id, ids, func(got object.ID, raw []byte) error {
		r.Fetched.Add(int64(len(raw)))
		if raw == nil {
			r.mu.Lock()
			r.hurt[got] = true
			r.mu.Unlock()
			return nil
		}
		return take(got, raw)
	})
}

// damagedThere says that a peer has not whole what it said it has.
type damagedThere struct {
	site string
	id   object.ID
}

func (e *damagedThere) Unwrap() error { return store.ErrDamaged }

func (e *damagedThere) Error() string {
	return fmt.Sprintf("%s has object %s no more, or damaged: candid store verify there tells what is hurt; another "+
		"site or moment may have it whole", e.site, e.id.String()[:12])
}

// recallWays is how many requests are on their way at the same time.
const recallWays = 4

// each fetches many objects, several requests at the same time.
func (r *recall) each(ids []object.ID, take func(object.ID, []byte) error) error {
	g, ctx := errgroup.WithContext(r.ctx)
	g.SetLimit(recallWays)
	for len(ids) > 0 {
		some := ids[:min(len(ids), route.MostObjects)]
		ids = ids[len(some):]
		g.Go(func() error { return r.fetch(ctx, some, take) })
	}
	return g.Wait()
}

// lack returns those of ids that the store here does not have, or that are to come from there anyway, each once.
func (r *recall) lack(ids []object.ID, seen map[object.ID]bool) (out []object.ID, err error) {
	for _, id := range ids {
		if seen[id] {
			continue
		}
		seen[id] = true
		ok, err := r.lease.Acquire(id)
		if err != nil {
			return nil, err
		}
		if !ok || r.all {
			out = append(out, id)
		}
	}
	return out, nil
}

// fetchNodes fetches and keeps those of some nodes that the store here lacks, but for what the peer does not have
// whole.
func (r *recall) fetchNodes(level []object.ID, seen map[object.ID]bool) (nodes []object.Envelope, err error) {
	lacking, err := r.lack(level, seen)
	if err != nil {
		return nil, err
	}
	var ask []object.ID
	for _, id := range lacking {
		if r.kept[id] == nil && !r.hurt[id] {
			ask = append(ask, id)
		}
	}
	if err := r.each(ask, func(id object.ID, raw []byte) error { r.keep(id, raw); return nil }); err != nil {
		return nil, err
	}
	for _, id := range lacking {
		if r.hurt[id] {
			continue
		}
		_, env, err := store.OpenRecord(r.kept[id])
		if err != nil {
			return nil, err
		}
		nodes = append(nodes, env)
	}
	return nodes, nil
}

// lookThrough fetches the directories that the store here lacks, of paths or of all, level
// by level, and sums up the files below them.
func (r *recall) lookThrough(paths []string) error {
	if len(paths) == 0 {
		paths = []string{""}
	}
	seen := map[object.ID]bool{}
	var level []object.ID
	file := func(e *object.Entry) error {
		lacking, err := r.lack([]object.ID{e.Content}, seen)
		if len(lacking) > 0 {
			r.content = append(r.content, e.Content)
			r.bytes += e.Size
		}
		return err
	}
	for _, rel := range paths {
		e, err := tree.Lookup(r.Get, r.root, rel)
		if errors.Is(err, tree.ErrNoPath) {
			continue
		}
		if err != nil {
			return err
		}
		switch {
		case e.Kind == object.Dir:
			level = append(level, e.Content)
		case e.HasContent:
			if err := file(&e); err != nil {
				return err
			}
		}
	}
	if r.root.HasLinks {
		links := []object.ID{r.root.Links}
		for len(links) > 0 { // small, and all of them children of one another
			var below []object.ID
			for _, id := range links {
				env, err := r.Get(id)
				if errors.Is(err, store.ErrDamaged) {
					continue
				}
				if err != nil {
					return err
				}
				below = append(below, env.Children()...)
			}
			links = below
		}
	}
	for len(level) > 0 {
		nodes, err := r.fetchNodes(level, seen)
		if err != nil {
			return err
		}
		level = nil
		for _, env := range nodes {
			pages, err := object.DirPages(env)
			if err != nil {
				return err
			}
			if level = append(level, pages...); len(pages) > 0 {
				continue
			}
			err = object.PageEntries(env, func(e object.Entry) error {
				switch {
				case e.Kind == object.Dir:
					level = append(level, e.Content)
				case e.HasContent:
					return file(&e)
				}
				return nil
			})
			if err != nil {
				return err
			}
		}
	}
	return nil
}

// lookThroughDisk fetches the nodes of a disk's map that the store here lacks, level by level, and sums up the
// blocks below them.
func (r *recall) lookThroughDisk() error {
	seen, level := map[object.ID]bool{}, []object.ID{r.root.Tree()}
	for height := int(r.root.Map().Level); height >= 0; height-- {
		nodes, err := r.fetchNodes(level, seen)
		if err != nil {
			return err
		}
		level = nil
		for _, env := range nodes {
			if env.Kind != object.KindMap {
				return refusal.Wrap(refusal.Elsewhere, fmt.Errorf("%s answered with something else than a map of the disk",
					r.peer.Name))
			}
			level = append(level, env.Children()...)
		}
	}
	lacking, err := r.lack(level, seen)
	r.content, r.bytes = lacking, int64(len(lacking))*int64(r.root.Block)
	return err
}

// bring puts everything that lookThrough found lacking into the store. What arrived stays
// under a durable lease until release, so that a restore which goes on has it.
func (r *recall) bring() (release func(), err error) {
	lease, err := r.s.Store.DurableLease(store.LeaseName("recall " + r.row.ID))
	if err != nil {
		return nil, err
	}
	w := r.s.Store.NewWriter(lease)
	defer func() {
		if ferr := w.Flush(); err == nil {
			err = ferr
		}
		w.Close()
	}()
	seen := map[object.ID]bool{}
	var lists [][]object.ID
	put := func(raw []byte) error {
		_, err := w.PutRecord(raw)
		return err
	}
	var mu sync.Mutex
	for level := r.content; len(level) > 0; {
		lacking, err := r.lack(level, seen)
		if err != nil {
			return nil, err
		}
		var below, here []object.ID
		err = r.each(lacking, func(id object.ID, raw []byte) error {
			_, env, err := store.OpenRecord(raw)
			if err != nil {
				return err
			}
			if env.NumChildren() == 0 {
				return put(raw)
			}
			r.keep(id, raw)
			mu.Lock()
			here, below = append(here, id), append(below, env.Children()...)
			mu.Unlock()
			return nil
		})
		if err != nil {
			return nil, err
		}
		lists = append(lists, here)
		level = below
	}
	for i := len(lists) - 1; i >= 0; i-- {
		for _, id := range lists[i] {
			if err := put(r.kept[id]); err != nil && !errors.Is(err, store.ErrNotClosed) {
				return nil, err
			}
		}
	}
	// Of a directory on the way to what was asked for, and of what has something damaged below,
	// not everything is here: it stays in memory.
	for i := len(r.order) - 1; i >= 0; i-- {
		if err := put(r.kept[r.order[i]]); err != nil && !errors.Is(err, store.ErrNotClosed) {
			return nil, err
		}
	}
	return lease.Release, nil
}

// again tries what needs the other site until it is done, the site said no, or it was tried
// often enough.
func (r *recall) again(j *run.Job, do func() error) error {
	wait := time.Second
	for try := 0; ; try++ {
		err := do()
		var hurt *damagedThere
		var refused *transfer.Refusal
		no := errors.As(err, &hurt) || refusal.ClassOf(err) == refusal.Full || errors.As(err, &refused) && refused.Final
		if err == nil || no || try == recallTries || r.ctx.Err() != nil {
			return err
		}
		j.Logf("%s went away: %v; trying again in %s, what arrived stays here", r.peer.Name, err, wait)
		select {
		case <-time.After(wait):
		case <-r.ctx.Done():
			return r.ctx.Err()
		}
		wait *= 2
	}
}

// recallTries is how often a site that went away is tried anew, over about two minutes.
const recallTries = 6
