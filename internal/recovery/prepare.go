package recovery

import (
	"context"
	"errors"
	"os"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/authority"
	"candidharbor/internal/capture"
	"candidharbor/internal/catalog"
	"candidharbor/internal/datadir"
	"candidharbor/internal/pairing"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
	"candidharbor/internal/store"
	"candidharbor/internal/volume/tree"
)

// restoring is a restore that was checked and can begin.
type restoring struct {
	v       *catalog.Volume
	row     *catalog.Snapshot
	answer  string
	opt     tree.RestoreOptions
	ask     api.RestoreAsk
	eyes    *Viewer
	live    *catalog.Volume // that is written into: this one in place, or another; nil: neither
	undoes  int64
	recipe  string                      // by which it is made
	Cut     *catalog.InterruptedRestore // the run that this one goes on with
	isNoted bool                        // the next start goes on with it
	safety  string                      // the snapshot of what was there before; empty: none yet
	far     *recall                     // when another site has the snapshot
	found   *store.Lease                // when it is of what others left: what was read of it
}

// done lets go what a restore that was prepared relies on.
func (r *restoring) done() {
	if r.far != nil {
		r.far.lease.Release()
	}
	if r.found != nil {
		r.found.Release()
	}
}

// getter reads a snapshot by a function.
type getter object.Getter

func (g getter) Get(id object.ID) (object.Envelope, error) { return g(id) }

// get reads the snapshot, wherever it is.
func (r *restoring) get(id object.ID) (object.Envelope, error) { return r.opt.Source.Get(id) }

// asOf is what names that are put beside others get.
func asOf(row *catalog.Snapshot) string { return row.Began.Local().Format(".as-of-20060102-1504") }

// PrepareRestore checks a request and changes nothing.
func (e *Viewer) PrepareRestore(ctx context.Context, ask api.RestoreAsk) (ready *restoring, err error) {
	s := e.s
	v, err := e.tree(ask.Volume)
	if err != nil {
		return nil, err
	}
	if err := e.mayRestore(v, &ask); err != nil {
		return nil, err
	}
	where := 0
	for _, said := range []bool{ask.To != "", ask.InPlace, ask.Into != ""} {
		if said {
			where++
		}
	}
	if where != 1 {
		return nil, refusal.Badf("say where to: either a directory on the site's host, or in place, or another volume")
	}
	if ask.Disconnect || ask.Anew {
		return nil, refusal.Badf("volume %s is a directory: --disconnect and --anew are of disks", v.Name)
	}
	choice := tree.Skip
	if ask.OnConflict == undoing {
		choice = tree.Replace
	} else if ask.OnConflict != "" {
		if choice, err = tree.ParseConflict(ask.OnConflict); err != nil {
			return nil, refusal.Wrap(refusal.Misuse, err)
		}
	}
	if ask.Found != "" && e.who != nil {
		return nil, refusal.Wrap(refusal.Refused, errors.New("what others left is for operators to restore from: ask one"))
	}
	row, answer, peer, err := s.resolveOrExternal(ctx, v, &ask)
	if err != nil {
		return nil, err
	}
	alsoHere := peer == nil && ask.From != "" && ask.From != s.Name()
	if alsoHere { // who names a site wants to see that its copy is whole
		if peer, err = s.Catalog.Peer(ask.From); err != nil {
			return nil, err
		}
		answer += "; all of it comes from " + peer.Name + " nevertheless"
	}
	ck, err := capture.ChunkerOf(v)
	if err != nil {
		return nil, err
	}
	r := &restoring{v: v, row: row, answer: answer, ask: ask, eyes: e}
	r.ask.From = ""
	var source tree.Source = s.Store
	var root *object.Root
	if peer != nil {
		if r.far, err = s.RecallOf(ctx, peer, v, row); err != nil {
			return nil, err
		}
		source, root, r.ask.From, r.far.all = r.far, r.far.root, peer.Name, alsoHere
		defer func() {
			if ready == nil {
				r.done()
			}
		}()
	} else if ask.Found != "" {
		if root, err = s.heldExternal(ctx, r); err != nil {
			return nil, err
		}
		defer func() {
			if ready == nil {
				r.done()
			}
		}()
	} else if root, err = s.rules.RootOf(row); err != nil {
		return nil, err
	}
	if e.who != nil {
		get, filtered := e.through(v.Name, source.Get, root)
		source, root = getter(get), filtered
	}
	r.opt = tree.RestoreOptions{Source: source, Root: root, As: e.person(), OnConflict: choice, Chunker: ck,
		Suffix: asOf(row)}
	for _, p := range ask.Paths {
		rel, err := tree.CleanPath(phrase.RawPath(p))
		if err != nil {
			return nil, refusal.Wrap(refusal.Misuse, err)
		}
		if _, err := tree.Lookup(r.get, root, rel); err != nil && ask.OnConflict != undoing {
			if !errors.Is(err, tree.ErrNoPath) {
				return nil, err
			}
			return nil, refusal.Missingf("%s has no %s as of %s: candid browse %s --at %s shows what there is", v.Name, p,
				phrase.Stamp(row.Began.Time), v.Name, row.ID[:12])
		}
		if rel != "" {
			r.opt.Paths = append(r.opt.Paths, rel)
		}
	}
	target := ask.To
	if s.IsPlace && (ask.InPlace || ask.Into != "") { // where a volume lies is what the disk says
		return nil, pairing.ErrPlaceHolds
	}
	if ask.InPlace {
		if !v.ActiveAt(s.Name()) {
			return nil, authority.Elsewhere(v, "restore it there in place, or here to a directory with --to")
		}
		target = v.Path
		r.opt.Live = true
		if ask.OnConflict == "" {
			r.opt.OnConflict = tree.Replace
		}
		// A whole volume in place becomes exactly as it was; what was made since is in
		// the safety snapshot.
		r.opt.Exact = len(r.opt.Paths) == 0 && r.opt.OnConflict == tree.Replace || ask.OnConflict == undoing
	}
	if ask.InPlace {
		r.live = v
	} else if ask.Into != "" {
		if r.live, err = s.liveVolume(ask.Into, v); err != nil {
			return nil, err
		}
		target, r.opt.Live = r.live.Path, true
	}
	if r.live != nil {
		r.opt.Target, r.opt.Beneath, err = s.Fixed(target)
		if _, serr := os.Lstat(r.opt.Target); err == nil && serr != nil {
			err = refusal.Badf("path %s: %s", target, datadir.Plain(serr))
		}
		if err == nil {
			r.opt.Excludes, err = s.LeftOut(r.opt.Target, r.live.Excludes.V)
		}
	} else {
		r.opt.Target, r.opt.Beneath, err = s.UnderRoot(target, false)
	}
	if err != nil {
		return nil, err
	}
	if st, err := os.Stat(r.opt.Target); err == nil && !st.IsDir() {
		return nil, refusal.Badf("target %s is not a directory", r.opt.Target)
	}
	if tree.ReadOnly(r.opt.Target) {
		return nil, refusal.Conflictf("target %s lies on a filesystem that is mounted read-only: nothing can be "+
			"restored there", r.opt.Target)
	}
	return r, nil
}

// liveVolume is another volume of this site that can be restored into.
func (s *Service) liveVolume(name string, from *catalog.Volume) (*catalog.Volume, error) {
	v, err := s.tree(name)
	switch {
	case err != nil:
		return nil, err
	case v.Name == from.Name:
		return nil, refusal.Badf("%s into itself is in place: say so", name)
	case !v.ActiveAt(s.Name()) || !v.Protected:
		return nil, refusal.Conflictf("volume %s is not one that this site protects: restore to a directory instead", name)
	}
	return v, nil
}
