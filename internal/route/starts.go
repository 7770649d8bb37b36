package route

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

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
	raw, err := s.Catalog.Setting(pairing.PutBackSetting + peer.Name)
	if err != nil || raw == "" {
		return err
	}
	var p pairing.PutBack
	if err := json.Unmarshal([]byte(raw), &p); err != nil {
		return err
	}
	key := "compared with " + r.Name
	done, err := s.Catalog.Setting(key)
	if err != nil || done == p.At.Format(time.RFC3339Nano) {
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
	if err := s.Catalog.ForgetCarried(r.Name, lacking); err != nil {
		return err
	}
	if len(lacking) > 0 {
		j.Logf("%s was put back to an earlier state: %s that were carried are not there any more, and are owed again",
			peer.Name, phrase.Many(len(lacking), "snapshot"))
		j.Remark()
		s.run.Changed("snapshots")
	}
	p.OwedAgain = max(0, p.OwedAgain) + len(lacking)
	text, err := json.Marshal(p)
	if err != nil {
		return err
	}
	return s.Catalog.SetAll(map[string]string{pairing.PutBackSetting + peer.Name: string(text),
		key: p.At.Format(time.RFC3339Nano)})
}
