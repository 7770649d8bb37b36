package route

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/pairing"
	"candidharbor/internal/phrase"
	"candidharbor/internal/run"
	"candidharbor/internal/transfer"
)

// present asks which of some snapshots a peer has.
type presentAsk struct {
	IDs []object.ID `cbor:"1,keyasint"`
}

type presentReply struct {
	Lacking []object.ID `cbor:"1,keyasint"`
}

// servePresent tells who brings snapshots which of them are here.
func (s *Service) servePresent(peer *catalog.Peer, body []byte, st *transfer.Stream) error {
	var q presentAsk
	if err := transfer.Decode(body, &q); err != nil {
		return err
	}
	if len(q.IDs) > pairing.MostPresentAsked {
		return fmt.Errorf("%d snapshots are too many for one request, at most %d", len(q.IDs), pairing.MostPresentAsked)
	}
	out := presentReply{}
	knows, _ := s.KnownTo(peer, "")
	for _, id := range q.IDs {
		if !s.Store.HasRoot(id) || !knows(id) {
			out.Lacking = append(out.Lacking, id)
		}
	}
	return st.Reply(out)
}

// compareFar asks a peer that was put back which snapshots it still has. What lacks is owed
// to it again.
func (s *Service) compareFar(ctx context.Context, j *run.Job, r *catalog.Route, peer *catalog.Peer) error {
	p, err := s.Catalog.PeerHistory(peer.Name)
	if err != nil || p.PutBack.IsZero() {
		return err
	}
	now, err := s.Catalog.Route(r.Name)
	if err != nil || now.Compared.Equal(p.PutBack.Time) {
		return err
	}
	ids, err := s.Catalog.AllCarried(r.Name)
	if err != nil {
		return err
	}
	var lacking []string
	for part := range slices.Chunk(ids, pairing.MostPresentAsked) {
		ask := presentAsk{}
		for _, text := range part {
			if id, err := object.ParseID(text); err == nil {
				ask.IDs = append(ask.IDs, id)
			}
		}
		var reply presentReply
		if err := s.pairing.AskPeer(ctx, peer, "present", ask, &reply); err != nil {
			return err
		}
		for _, id := range reply.Lacking {
			if slices.Contains(ask.IDs, id) {
				lacking = append(lacking, id.String())
			}
		}
	}
	err = s.Catalog.Atomically(func(c *catalog.Catalog) error {
		return errors.Join(c.ForgetCarried(r.Name, lacking), c.SetCompared(r.Name, p.PutBack),
			c.SetPutBack(peer.Name, p.PutBack, max(0, p.OwedAgain)+len(lacking)))
	})
	if err != nil {
		return err
	}
	if len(lacking) > 0 {
		j.Logf("%s was put back to an earlier state; not there any more, and owed again: %s", peer.Name,
			phrase.Many(len(lacking), "snapshot"))
		j.Remark()
		s.run.Changed("snapshots")
	}
	return nil
}
