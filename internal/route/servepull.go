package route

import (
	"bytes"
	"context"
	"fmt"
	"slices"

	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/records"
	"candidharbor/internal/transfer"
)

// mayRead lists the volumes that a peer may read: none of its own.
func (s *Service) mayRead(peer *catalog.Peer) ([]*catalog.Volume, error) {
	vols, err := s.Catalog.Volumes()
	if err != nil {
		return nil, err
	}
	chosen := &peer.Grants.V.Volumes
	all := len(chosen.Labels) == 0 && len(chosen.Names) == 0
	return slices.DeleteFunc(vols, func(v *catalog.Volume) bool {
		return v.Origin == peer.Name || (!all && !chosen.Holds(v))
	}), nil
}

func (s *Service) readable(peer *catalog.Peer, lineage string) (*catalog.Volume, error) {
	vols, err := s.mayRead(peer)
	if err != nil {
		return nil, err
	}
	for _, v := range vols {
		if v.Lineage == lineage {
			return v, nil
		}
	}
	return nil, &transfer.Refusal{What: fmt.Sprintf("%s does not let %s read that history", s.Name(), peer.Name),
		Final: true}
}

// servePull answers a peer that takes snapshots for itself. It changes nothing here.
func (s *Service) servePull(ctx context.Context, peer *catalog.Peer, op string, body []byte,
	st *transfer.Stream) error {
	switch op {
	case "histories":
		var q HistoriesAsk
		if err := transfer.Decode(body, &q); err != nil {
			return err
		}
		out, err := s.histories(peer)
		if err != nil {
			return err
		}
		if bytes.Equal(q.Unless, out.State) {
			out.All, out.Same = nil, true
		}
		return st.Reply(out)
	}
	var q Fetch
	if err := transfer.Decode(body, &q); err != nil {
		return err
	}
	return s.serveFetch(ctx, peer, &q, st)
}

// histories lists what a peer may read, with a sum of it and of all its headers.
func (s *Service) histories(peer *catalog.Peer) (*Histories, error) {
	vols, err := s.mayRead(peer)
	if err != nil {
		return nil, err
	}
	out := &Histories{All: make([]history, 0, len(vols))}
	sum := object.NewSum()
	for _, v := range vols {
		rs, err := s.rules.RulesFor(v)
		if err != nil {
			return nil, err
		}
		h := history{Lineage: records.LineageOf(v.Lineage), Volume: NameAtOrigin(v), Origin: v.Origin, Labels: v.Labels.V,
			Rules: rs.Proposal(s.Place())}
		out.All = append(out.All, h)
		if err := transfer.Encode(sum, h); err != nil {
			return nil, err
		}
		for after, more := "", true; more; {
			page, err := s.headers(v, after)
			if err != nil {
				return nil, err
			}
			if err := transfer.Encode(sum, page); err != nil {
				return nil, err
			}
			more, after = page.Next != "", page.Next
		}
	}
	out.State = sum.Sum(nil)
	return out, nil
}

func (s *Service) headers(v *catalog.Volume, after string) (*HistoryPage, error) {
	rows, err := s.Catalog.Snapshots(s.Place(), v.Name, catalog.SnapshotFilter{After: after, Limit: headersPage})
	if err != nil {
		return nil, err
	}
	page := &HistoryPage{Headers: make([]header, 0, len(rows))}
	nano := func(t catalog.Time) int64 {
		if t.IsZero() {
			return 0
		}
		return t.UnixNano()
	}
	for _, r := range rows {
		id, err := object.ParseID(r.ID)
		if err != nil {
			return nil, err
		}
		if r.OutOfTurn != "" {
			continue
		}
		page.Headers = append(page.Headers, header{ID: id, Term: uint64(r.Term), Sequence: uint64(r.Sequence),
			Began: r.Began.UnixNano(), Seen: nano(r.SeenUntil), Marked: nano(r.Marked),
			Cause: r.Cause, Labels: r.Labels.V, Keep: r.KeepWhy, Ends: nano(r.OwnEnd), Set: r.SetID, Ended: nano(r.Ended),
			Watched: nano(r.WatchedUntil), Files: r.Files, Bytes: r.Bytes})
	}
	if len(rows) == headersPage {
		page.Next = rows[len(rows)-1].Cursor()
	}
	return page, nil
}

func (s *Service) serveFetch(ctx context.Context, peer *catalog.Peer, q *Fetch, st *transfer.Stream) error {
	row, err := s.Catalog.Snapshot(q.Root.String())
	if err != nil {
		return &transfer.Refusal{What: fmt.Sprintf("snapshot %s is not here any more", q.Root), Gone: true}
	}
	v, err := s.readable(peer, row.Lineage)
	if err != nil {
		return err
	}
	rs, err := s.rules.RulesFor(v)
	if err != nil {
		return err
	}
	marks, err := s.travelling(q.Root)
	if err != nil {
		return err
	}
	limit, err := s.pairing.Flow(peer, catalog.Terms{})
	if err != nil {
		return err
	}
	bases := slices.DeleteFunc(q.Bases[:min(len(q.Bases), basesNamed)], func(id object.ID) bool {
		return !s.Store.HasRoot(id)
	})
	c := &transfer.Sender{Store: s.Store, Marks: marks, Limit: limit,
		Request: transfer.CarryRequest{Lineage: records.LineageOf(v.Lineage), Volume: NameAtOrigin(v), Origin: v.Origin,
			Root: q.Root, Bases: bases, Rules: rs.Proposal(s.Place()), SetOf: q.SetOf, Authority: s.authority.Records(v)}}
	return c.Answer(ctx, st)
}
