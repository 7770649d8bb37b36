package recovery

import (
	"context"
	"errors"
	"fmt"

	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/route"
	"candidharbor/internal/store"
	"candidharbor/internal/transfer"
	"candidharbor/internal/volume/disk"
)

// fetchObjects gets objects of a snapshot from a peer, each checked against its identity, and gives them to take as
// records; nil is one that the peer does not have whole.
func (s *Service) fetchObjects(ctx context.Context, peer *catalog.Peer, root object.ID, ids []object.ID,
	take func(id object.ID, raw []byte) error) error {
	for len(ids) > 0 {
		n := min(len(ids), route.MostObjects)
		if err := s.fetchSome(ctx, peer, route.ObjectsAsk{IDs: ids[:n], Root: root}, take); err != nil {
			return err
		}
		ids = ids[n:]
	}
	return nil
}

func (s *Service) fetchSome(ctx context.Context, peer *catalog.Peer, ask route.ObjectsAsk,
	take func(id object.ID, raw []byte) error) error {
	link, _, err := s.pairing.Link(ctx, peer)
	if err != nil {
		return err
	}
	st, err := link.Open("objects", ask)
	if err != nil {
		return err
	}
	defer st.Close()
	stop := context.AfterFunc(ctx, func() { st.Close() })
	defer stop()
	for _, want := range ask.IDs {
		var raw []byte
		if err := st.Answer(&raw); err != nil {
			return err
		}
		if got, _, err := store.OpenRecord(raw); err != nil || got != want {
			raw = nil
		}
		if err := take(want, raw); err != nil {
			return err
		}
	}
	return nil
}

// fetchForDisk gets what a disk that went back to a snapshot of another site lacks of that.
func (s *Service) fetchForDisk(ctx context.Context, from disk.From, ids []object.ID,
	take func(id object.ID, raw []byte) error) error {
	peer, err := s.Catalog.Peer(from.Site)
	if errors.Is(err, catalog.ErrNone) {
		return fmt.Errorf("%w: no site %s is paired any more", disk.ErrWithdrawn, from.Site)
	}
	if err != nil {
		return err
	}
	err = s.fetchObjects(ctx, peer, from.Root, ids, take)
	var refused *transfer.Refusal
	if errors.As(err, &refused) && refused.Final {
		return fmt.Errorf("%w: %w", disk.ErrWithdrawn, err)
	}
	return err
}
