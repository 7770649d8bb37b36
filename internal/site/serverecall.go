package site

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

// rootAsk asks for the signed root of a snapshot.
type rootAsk struct {
	Root object.ID `cbor:"1,keyasint"`
}

// recallable finds a history here that a peer may take back: one that it may read, one that
// goes to it whole, and its own unless it is a source that may not look at all. It is nil when
// there is none.
func (s *Site) recallable(peer *catalog.Peer, lineage string) (*catalog.Volume, error) {
	may := peer.Grants.V
	refused := &transfer.Refusal{What: fmt.Sprintf("%s does not let %s look at its copies: a person there can, with candid site grant %s read", s.Name(), peer.Name, peer.Name), Final: true}
	v, err := s.cat.VolumeOfLineage(lineage)
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
	routes, err := s.cat.Routes()
	if err != nil {
		return nil, err
	}
	if slices.ContainsFunc(routes, func(r *catalog.Route) bool {
		return r.Peer == peer.Name && termParts(r.Terms.V).Whole() && s.carries(r, v)
	}) {
		return v, nil
	}
	return nil, refused
}

// serveRecall answers a peer that looks for what it wants back. It changes nothing here.
func (s *Site) serveRecall(peer *catalog.Peer, op string, body []byte, st *transfer.Stream) error {
	switch op {
	case "history":
		var q historyAsk
		if err := transfer.Decode(body, &q); err != nil {
			return err
		}
		v, err := s.recallable(peer, hex.EncodeToString(q.Lineage[:]))
		if err != nil {
			return err
		}
		page := &historyPage{}
		if v != nil {
			if page, err = s.headers(v, q.After); err != nil {
				return err
			}
		}
		return st.Reply(page)
	case "root":
		var q rootAsk
		if err := transfer.Decode(body, &q); err != nil {
			return err
		}
		if err := s.recallableSnapshot(peer, q.Root); err != nil {
			return err
		}
		raw, err := s.store.RootRecord(q.Root)
		if err != nil {
			return err
		}
		return st.Reply(raw)
	case "objects":
		return s.serveObjects(peer, body, st)
	}
	return fmt.Errorf("the request %q is none of these", op)
}

func (s *Site) recallableSnapshot(peer *catalog.Peer, id object.ID) error {
	row, err := s.cat.Snapshot(id.String())
	if err != nil {
		return &transfer.Refusal{What: fmt.Sprintf("snapshot %s is not at %s any more", id.String()[:12], s.Name()), Final: true}
	}
	_, err = s.recallable(peer, row.Lineage)
	return err
}

// mostObjects is how many objects one request asks for.
const mostObjects = 512

type objectsAsk struct {
	IDs  []object.ID `cbor:"1,keyasint"`
	Root object.ID   `cbor:"2,keyasint,omitempty"` // of the snapshot that they are of; zero: of any
}

// serveObjects gives a peer objects of one snapshot that it may take back, or of all
// histories that it may have: those it may read, those that go to it, those that it brought.
// The pace does not hold it back: whoever asks is in need.
func (s *Site) serveObjects(peer *catalog.Peer, body []byte, st *transfer.Stream) error {
	var q objectsAsk
	if err := transfer.Decode(body, &q); err != nil {
		return err
	}
	if len(q.IDs) > mostObjects {
		return fmt.Errorf("%d objects are too many for one request, at most %d", len(q.IDs), mostObjects)
	}
	var held *roaring.Bitmap
	var err error
	if q.Root.IsZero() {
		held, err = s.heldFor(peer)
	} else if err = s.recallableSnapshot(peer, q.Root); err == nil {
		held, err = s.store.Census(q.Root)
	}
	if err != nil {
		return err
	}
	for _, id := range q.IDs {
		var raw []byte
		if s.store.Contains(held, id) {
			if raw, err = s.store.Record(id, nil); err != nil && !errors.Is(err, store.ErrDamaged) && !errors.Is(err, store.ErrNoObject) {
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
