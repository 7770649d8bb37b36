package outlet

import (
	"context"
	"errors"
	"fmt"
	"net"
	"path"
	"slices"
	"strings"

	"golang.org/x/crypto/ssh"
	"golang.org/x/time/rate"

	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/run"
	"candidharbor/internal/store"
	"candidharbor/internal/visible"
)

// outletRun is a run of an outlet, over all its volumes.
type outletRun struct {
	s      *Service
	j      *run.Job
	o      *catalog.Outlet
	verify bool
	res    *result

	host  *host
	limit *rate.Limiter
	laid  int // volumes that lie there as of their newest state now
}

func (r *outletRun) all(ctx context.Context) (string, error) {
	s := r.s
	known, err := knownKey(r.o.HostKey)
	if err != nil {
		return "", fmt.Errorf("the key of the machine in the catalogue is damaged; add the outlet anew: %w", err)
	}
	own, err := s.key()
	if err != nil {
		return "", err
	}
	r.j.Say("connecting")
	r.host, err = dial(ctx, addressOf(r.o), own, known.Type(), func(k ssh.PublicKey) bool {
		return slices.Equal(k.Marshal(), known.Marshal())
	})
	if err != nil {
		var other *otherKey
		var out *notIn
		if !errors.As(err, &other) && !errors.As(err, &out) {
			err = unreachable{plain(err)}
		}
		return "", err
	}
	defer r.host.Close()
	if r.o.Cap > 0 {
		r.limit = rate.NewLimiter(rate.Limit(r.o.Cap), int(min(max(r.o.Cap/10, 64<<10), 4<<20)))
	}
	vols, err := s.Catalog.Volumes()
	if err != nil {
		return "", err
	}
	lies, err := s.lies(r.o.Name)
	if err != nil {
		return "", err
	}
	files, _ := chosen(r.o, vols)
	var failed []string
	for _, v := range files {
		row := lies[v.Lineage]
		if row == nil {
			row = &catalog.LaidOut{Outlet: r.o.Name, Lineage: v.Lineage}
		}
		err := r.volume(ctx, v, row)
		if ctx.Err() != nil {
			return "", ctx.Err()
		}
		why := ""
		if err != nil {
			why = err.Error()
			failed = append(failed, v.Name+": "+why)
		}
		if row.Error != why {
			row.Error = why
			if err := s.put(row); err != nil {
				return "", err
			}
		}
		if lost(err) { // the others would fare alike
			r.tell()
			return "", unreachable{err}
		}
	}
	r.tell()
	if n := len(failed); n > 0 {
		more := ""
		if n > 3 {
			more = fmt.Sprintf("; and %d more", n-3)
		}
		return "", fmt.Errorf("%s%s", strings.Join(failed[:min(n, 3)], "; "), more)
	}
	return r.words(len(files)), nil
}

func (r *outletRun) tell() {
	lines := append(slices.Clone(r.res.failed), r.res.remarks...)
	slices.Sort(lines)
	if r.res.further > 0 {
		lines = append(lines, fmt.Sprintf("and %d more", r.res.further))
	}
	if len(lines) > 0 {
		r.j.LogAll(lines)
	}
	if len(r.res.remarks) > 0 || r.res.Righted.Load() > 0 {
		r.j.Remark()
	}
}

func (r *outletRun) words(volumes int) string {
	if volumes == 0 {
		return "it chooses no volume of files at present"
	}
	words := "everything lies there as it should"
	changed := r.res.Written.Load() + r.res.Removed.Load()
	if r.laid > 0 {
		words = phrase.Many(r.laid, "volume") + " brought up to date"
	} else if r.verify {
		words = fmt.Sprintf("all of %s was read back", phrase.Many(volumes, "volume"))
		if changed == 0 && r.res.Righted.Load() == 0 {
			words += " and is as it should be"
		}
	}
	if changed > 0 {
		words += fmt.Sprintf("; %s, %s sent and read back", phrase.CountWords([]phrase.Counted{
			{N: r.res.Written.Load(), What: "written"}, {N: r.res.Removed.Load(), What: "removed"}}),
			phrase.Size(r.res.Bytes.Load()))
	} else if r.laid > 0 {
		words += "; no file differs"
	}
	if n := r.res.Righted.Load(); n > 0 {
		words += fmt.Sprintf("; %s others had changed there, and this site put right", phrase.Many(int(n), "path"))
	}
	if n := len(r.res.remarks) + r.res.further; n > 0 {
		words += fmt.Sprintf("; %s the log names", phrase.Many(n, "remark"))
	}
	return words
}

// volume brings the directory of one volume up to its newest state.
func (r *outletRun) volume(ctx context.Context, v *catalog.Volume, row *catalog.LaidOut) error {
	s := r.s
	last, err := s.Catalog.LastSnapshot(s.Place(), v.Lineage)
	if err != nil || last == nil {
		return err
	}
	if row.Snapshot == last.ID && !r.verify && row.Error == "" {
		return nil
	}
	r.j.Say("looking at what lies there of " + v.Name)
	dir := path.Join(r.o.Dir, v.Name)
	was, err := r.marked(dir, v)
	if err != nil {
		return err
	}
	if was.State == whole && was.Snapshot == last.ID && slices.Contains(row.Bases.V, last.ID) && !r.verify &&
		row.Error == "" {
		return r.record(row, last, false) // the end of the run before was not recorded
	}
	lease := s.Store.NewLease()
	defer lease.Release()
	will := s.routes.Leased(lease, last.ID)
	if will == nil {
		return fmt.Errorf("snapshot %s was removed before it could be laid out", last.ID[:12])
	}
	bases, sure := r.bases(lease, was, row, will, last.ID)
	ours := slices.DeleteFunc(slices.Clone(row.Bases.V), func(id string) bool {
		return id == last.ID || !slices.Contains(was.Bases, id)
	})
	// Before anything of it lies there: it is not to go meanwhile. Of many, the oldest may.
	row.Bases.V = append(ours[max(0, len(ours)-mostKept):], last.ID)
	if err := s.put(row); err != nil {
		return err
	}
	now := marker{Site: s.Name(), Volume: v.Name, Lineage: v.Lineage, State: changing, Snapshot: last.ID,
		AsOf: last.Began.UTC(), Partial: was.Partial || len(was.Bases) == 0,
		Bases: append(slices.DeleteFunc(slices.Clone(was.Bases),
			func(id string) bool { return id == last.ID }), last.ID)} // those too that are not known here
	now.Bases = now.Bases[max(0, len(now.Bases)-mostBases-1):]
	if err := r.host.writeMarker(dir, &now); err != nil {
		return err
	}
	r.j.Say("laying out " + v.Name)
	failed := len(r.res.failed)
	l := &layer{host: r.host, get: s.Store.Get, verify: r.verify, doubt: was.Partial, limit: r.limit, res: r.res}
	if err := l.lay(ctx, dir, bases, sure, will); err != nil {
		return err
	}
	row.Bases.V, now.Bases = []string{last.ID}, []string{last.ID}
	if n := len(r.res.failed) - failed; n > 0 {
		now.Partial = true
		if err := errors.Join(r.host.writeMarker(dir, &now), s.put(row)); err != nil {
			return err
		}
		return fmt.Errorf("%s could not be laid out: the log of the run names them", phrase.Many(n, "path"))
	}
	now.State, now.Partial = whole, false
	if err := r.host.writeMarker(dir, &now); err != nil {
		return err
	}
	if row.Snapshot != last.ID {
		r.laid++
	}
	return r.record(row, last, r.verify)
}

// bases are the snapshots of which something lies there, by the marker, but for the one that was being laid out. sure
// says that all of them are known here: this site named them itself and has them still. What the marker names beside
// these was not written by this site as it is now, or is gone here.
func (r *outletRun) bases(lease *store.Lease, was *marker, row *catalog.LaidOut, will *object.Root,
	newest string) (bases []*object.Root, sure bool) {
	sure = len(was.Bases) <= mostBases
	for _, id := range was.Bases[:min(len(was.Bases), mostBases)] {
		if id == newest && was.State == changing && !was.Partial {
			continue
		}
		root := r.s.routes.Leased(lease, id)
		if root == nil || root.Lineage != will.Lineage {
			sure = false
			continue
		}
		sure = sure && slices.Contains(row.Bases.V, id)
		bases = append(bases, root)
	}
	return bases, sure
}

const (
	mostBases = 16 // of so many snapshots something may lie there, before all that lies there is compared
	mostKept  = 8  // so many of them are kept from expiring for it
)

// record notes that a snapshot lies there whole.
func (r *outletRun) record(row *catalog.LaidOut, last *catalog.Snapshot, verified bool) error {
	now := catalog.At(r.s.Clock.Now())
	if row.Snapshot != last.ID {
		row.At = now
	}
	if verified {
		row.Verified = now
	}
	row.Snapshot, row.Bases.V, row.Error = last.ID, []string{last.ID}, ""
	return r.s.put(row)
}

// plain leaves out of an error of the network the address, which is told beside it.
func plain(err error) error {
	var op *net.OpError
	if errors.As(err, &op) {
		return op.Err
	}
	return err
}

// marked has a directory for a volume that holds nothing of anybody else, and reads what lies there.
func (r *outletRun) marked(dir string, v *catalog.Volume) (*marker, error) {
	info, err := r.host.Lstat(dir)
	switch {
	case err == nil && !info.IsDir():
		return nil, fmt.Errorf("%s is no directory there", dir)
	case err != nil:
		if err := r.host.MkdirAll(dir); err != nil {
			return nil, fmt.Errorf("the directory %s cannot be made there: %w", dir, err)
		}
	}
	m, err := r.host.readMarker(dir)
	if err != nil {
		return nil, err
	}
	if m == nil {
		there, err := r.host.ReadDirContext(r.s.run.Context(), dir)
		if err != nil {
			return nil, err
		}
		if len(there) > 0 {
			return nil, fmt.Errorf("%s holds what this site did not lay out: empty it, or choose another directory", dir)
		}
		return &marker{State: whole}, nil
	}
	if m.Lineage != v.Lineage || m.Site != r.s.Name() {
		return nil, fmt.Errorf("%s holds %s of the site %s: choose another directory, or empty it there", dir,
			visible.Line(m.Volume), visible.Line(m.Site))
	}
	return m, nil
}
