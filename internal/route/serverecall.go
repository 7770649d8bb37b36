package route

import (
	"encoding/hex"
	"errors"
	"fmt"
	"slices"

	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/store"
	"candidharbor/internal/transfer"

	"github.com/RoaringBitmap/roaring/v2"
)

// RootAsk asks for the signed root of a snapshot.
type RootAsk struct {
	Root object.ID `cbor:"1,keyasint"`
}

// Recallable finds a history here that a peer may take back: one that it may read, one that
// goes to it whole, and its own unless it is a source that may not look at all. It is nil when
// there is none.
func (s *Service) Recallable(peer *catalog.Peer, lineage string) (*catalog.Volume, error) {
	may := peer.Grants.V
	refused := &transfer.Refusal{What: fmt.Sprintf("%s does not let %s look at its copies: a person there can, with "+
		"candid site grant %s read", s.Name(), peer.Name, peer.Name), Final: true}
	v, err := s.Catalog.VolumeOfLineage(lineage)
	switch {
	case errors.Is(err, catalog.ErrNone) && (may.Offer || may.Read):
		return nil, nil
	case errors.Is(err, catalog.ErrNone):
		return nil, refused
	case err != nil:
		return nil, err
	case v.Origin == peer.Name && (may.Offer || may.Read):
		if s.bound(peer, v) || may.Read && (len(may.Volumes.Labels)+len(may.Volumes.Names) == 0 || may.Volumes.Holds(v)) {
			return v, nil
		}
		return nil, s.otherOfThatName(peer, v)
	}
	if may.Read {
		if _, err := s.readable(peer, lineage); err == nil {
			return v, nil
		}
	}
	routes, err := s.Catalog.Routes()
	if err != nil {
		return nil, err
	}
	if slices.ContainsFunc(routes, func(r *catalog.Route) bool {
		return r.Peer == peer.Name && termParts(r.Terms.V).Whole() && s.Carries(r, v)
	}) {
		return v, nil
	}
	return nil, refused
}

// serveRecall answers a peer that looks for what it wants back. It changes nothing here.
func (s *Service) serveRecall(peer *catalog.Peer, op string, body []byte, st *transfer.Stream) error {
	switch op {
	case "history":
		var q HistoryAsk
		if err := transfer.Decode(body, &q); err != nil {
			return err
		}
		v, err := s.Recallable(peer, hex.EncodeToString(q.Lineage[:]))
		if err != nil {
			return err
		}
		page := &HistoryPage{}
		if v != nil {
			if page, err = s.headers(v, q.After); err != nil {
				return err
			}
		}
		return st.Reply(page)
	case "root":
		var q RootAsk
		if err := transfer.Decode(body, &q); err != nil {
			return err
		}
		if err := s.recallableSnapshot(peer, q.Root); err != nil {
			return err
		}
		raw, err := s.Store.RootRecord(q.Root)
		if err != nil {
			return err
		}
		return st.Reply(raw)
	case "objects":
		return s.serveObjects(peer, body, st)
	}
	return fmt.Errorf("the request %q is none of these", op)
}

func (s *Service) recallableSnapshot(peer *catalog.Peer, id object.ID) error {
	row, err := s.Catalog.Snapshot(id.String())
	if err != nil {
		return &transfer.Refusal{What: fmt.Sprintf("snapshot %s is not at %s any more", id.String()[:12], s.Name()),
			Final: true}
	}
	_, err = s.Recallable(peer, row.Lineage)
	return err
}

// MostObjects is how many objects one request asks for.
const MostObjects = 512

// ObjectsAsk asks for objects by their identities.
type ObjectsAsk struct {
	IDs  []object.ID `cbor:"1,keyasint"`
	Root object.ID   `cbor:"2,keyasint,omitempty"` // of the snapshot that they are of; zero: of any
}

// serveObjects gives a peer objects of one snapshot that it may take back, or of all
// histories that it may have: those it may read, those that go to it, those that it brought.
// The pace does not hold it back: whoever asks is in need.
func (s *Service) serveObjects(peer *catalog.Peer, body []byte, st *transfer.Stream) error {
	var q ObjectsAsk
	if err := transfer.Decode(body, &q); err != nil {
		return err
	}
	if len(q.IDs) > MostObjects {
		return fmt.Errorf("%d objects are too many for one request, at most %d", len(q.IDs), MostObjects)
	}
	var held *roaring.Bitmap
	var err error
	if q.Root.IsZero() {
		held, err = s.HeldFor(peer)
	} else if err = s.recallableSnapshot(peer, q.Root); err == nil {
		held, err = s.Store.Census(q.Root)
	}
	if err != nil {
		return err
	}
	for _, id := range q.IDs {
		var raw []byte
		if s.Store.Contains(held, id) {
			if raw, err = s.Store.Record(id, nil); err != nil && !errors.Is(err, store.ErrDamaged) &&
				!errors.Is(err, store.ErrNoObject) {
				return err
			} else if err != nil {
				raw = nil
			}
		}
		if err := st.Reply(raw); err != nil {
			return err
		}
	}
	return nil
}
