package route

import (
	"encoding/hex"
	"time"

	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/rules"
	"candidharbor/internal/transfer"
)

// Report is what a site that pulls tells of its copies.
type Report struct {
	Lineage   object.LineageID `cbor:"1,keyasint"`
	Newest    int64            `cbor:"2,keyasint"` // 0: it has nothing yet
	Term      uint64           `cbor:"3,keyasint"`
	Sequence  uint64           `cbor:"4,keyasint"`
	Snapshots int64            `cbor:"5,keyasint"` // negative: it does not tell
}

// tellSource tells the other end how far its copies here are, as far as the route says.
func (s *Service) tellSource(r *catalog.Route, link *transfer.Link, work []*pullWork) error {
	if r.Terms.V.Tell == tellNothing {
		return nil
	}
	var out []Report
	var counts map[string][2]int
	if r.Terms.V.Tell == tellCounts {
		var err error
		if counts, err = s.Catalog.Counts(s.Place()); err != nil {
			return err
		}
	}
	for _, w := range work {
		last, err := s.Catalog.LastSnapshot(s.Place(), hex.EncodeToString(w.h.Lineage[:]))
		if err != nil {
			return err
		}
		t := Report{Lineage: w.h.Lineage, Snapshots: -1}
		if last != nil {
			t.Newest, t.Term, t.Sequence = rules.NewestState(last).UnixNano(), uint64(last.Term), uint64(last.Sequence)
		}
		if r.Terms.V.Tell == tellCounts {
			t.Snapshots = int64(counts[w.name][0])
		}
		out = append(out, t)
	}
	return link.Ask("report", out, &struct{}{})
}

// serveReport notes what a peer that may read tells of its copies.
func (s *Service) serveReport(peer *catalog.Peer, body []byte, st *transfer.Stream) error {
	var in []Report
	if err := transfer.Decode(body, &in); err != nil {
		return err
	}
	now := s.Clock.Now()
	for _, t := range in {
		v, err := s.readable(peer, hex.EncodeToString(t.Lineage[:]))
		if err != nil {
			return err
		}
		told := &catalog.Report{Peer: peer.Name, Lineage: v.Lineage, Term: int64(t.Term), Sequence: int64(t.Sequence),
			Snapshots: t.Snapshots, At: catalog.At(now)}
		if t.Newest != 0 { // its clock is no reason to take a copy for newer than it can be
			told.Newest = catalog.At(time.Unix(0, min(t.Newest, now.UnixNano())))
		}
		if err := s.Catalog.PutReport(told); err != nil {
			return err
		}
		if t.Newest != 0 {
			s.rules.Reached(v.Name, peer.Name, told.Newest.Time)
		}
		s.rules.ForgetVerdicts([]string{v.Name})
	}
	s.run.Tell("volumes")
	return st.Reply(struct{}{})
}

const (
	tellNothing = "nothing"
	tellCounts  = "counts"
)
