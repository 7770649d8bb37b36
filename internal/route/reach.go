package route

import (
	"encoding/hex"
	"slices"
	"sync"

	"candidharbor/core/object"
	"candidharbor/core/space"
	"candidharbor/internal/catalog"
	"candidharbor/internal/pairing"
	"candidharbor/internal/transfer"

	"github.com/RoaringBitmap/roaring/v2"
)

// bound reports whether a volume's history is that of a paired site, and not of another one of
// the same name: one of its keys signed the first snapshot that came, or the newest.
func (s *Service) bound(peer *catalog.Peer, v *catalog.Volume) bool {
	if v.Origin != peer.Name {
		return false
	}
	if slices.Contains(pairing.Signers(peer), v.Signer) {
		return true
	}
	last, err := s.Catalog.LastSnapshot(s.Place(), v.Lineage)
	if err != nil || last == nil {
		return err == nil && v.Signer == ""
	}
	id, err := object.ParseID(last.ID)
	if err != nil {
		return false
	}
	root, key, err := s.Store.Root(id)
	if err == nil && root.TakenBy != "" { // by another site; who began the history signed its first record of authority
		line := s.authority.Line(v)
		return len(line) > 0 && slices.Contains(pairing.Signers(peer), hex.EncodeToString(line[0].Signer))
	}
	return err == nil && slices.Contains(pairing.Signers(peer), hex.EncodeToString(key))
}

// otherOfThatName is the refusal of who has the name of a history's origin, but not its key.
func (s *Service) otherOfThatName(peer *catalog.Peer, v *catalog.Volume) error {
	return &transfer.Refusal{What: "the history of " + v.Name + " at " + s.Name() +
		" was signed by another key than any of " + peer.Name +
		"'s: a person there who knows that both are one site can let it take that back, with candid site grant " + peer.Name +
		" read", Final: true}
}

// sharesWith reports whether a peer may know what is here of a history: its own, one that it
// brings or may read, or one that goes to it whole.
func (s *Service) sharesWith(peer *catalog.Peer, v *catalog.Volume, routes []*catalog.Route) bool {
	if s.bound(peer, v) || v.Via == peer.Name {
		return true
	}
	if g := peer.Grants.V; g.Read && ((len(g.Volumes.Labels) == 0 && len(g.Volumes.Names) == 0) || g.Volumes.Holds(v)) {
		return true
	}
	return slices.ContainsFunc(routes, func(r *catalog.Route) bool {
		return r.Peer == peer.Name && termParts(r.Terms.V).Whole() && s.Carries(r, v)
	})
}

// newestShared is how many snapshots of each history that is shared with a peer are looked into for
// what it need not send again.
const newestShared = 8

// KnownTo tells what a peer that brings a snapshot of a history may be told of: of which
// snapshots that they are here, and of which objects. Of everything else it is to send what it
// has, so that it learns nothing of what others have here, and gets nothing by its identity.
func (s *Service) KnownTo(peer *catalog.Peer, lineage string) (knows func(object.ID) bool, sees func(uint32) bool) {
	routes := sync.OnceValue(func() []*catalog.Route {
		all, err := s.Catalog.Routes()
		if err != nil {
			s.Log.Error("the routes could not be read", "error", err)
		}
		return all
	})
	knows = func(root object.ID) bool {
		r, _, err := s.Store.Root(root)
		if err != nil {
			return false
		}
		own := hex.EncodeToString(r.Lineage[:])
		if own == lineage {
			return true
		}
		v, err := s.Catalog.VolumeOfLineage(own)
		return err == nil && s.sharesWith(peer, v, routes())
	}
	all := sync.OnceValue(func() *roaring.Bitmap { return s.sharedObjects(peer, routes()) })
	return knows, func(ordinal uint32) bool { return all().Contains(ordinal) }
}

func (s *Service) sharedObjects(peer *catalog.Peer, routes []*catalog.Route) *roaring.Bitmap {
	all := roaring.New()
	vols, err := s.Catalog.Volumes()
	if err != nil {
		s.Log.Error("the volumes could not be read", "error", err)
		return all
	}
	for _, v := range vols {
		if s.sharesWith(peer, v, routes) {
			space.Include(all, s.newestObjects(v))
		}
	}
	return all
}

// newestObjects are those of a history's newest snapshots.
func (s *Service) newestObjects(v *catalog.Volume) *roaring.Bitmap {
	all := roaring.New()
	rows, err := s.Catalog.Snapshots(s.Place(), v.Name, catalog.SnapshotFilter{Limit: newestShared})
	if err != nil {
		s.Log.Error("the snapshots of a volume could not be read", "volume", v.Name, "error", err)
	}
	for _, row := range rows {
		if id, err := object.ParseID(row.ID); err == nil {
			if set, err := s.Store.Census(id); err == nil { // of a damaged one what is whole is sent again
				space.Include(all, set)
			}
		}
	}
	return all
}
