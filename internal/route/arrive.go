package route

import (
	"context"
	"crypto/ed25519"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
	"time"

	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/pairing"
	"candidharbor/internal/policy"
	"candidharbor/internal/records"
	"candidharbor/internal/rules"
	"candidharbor/internal/run"
	"candidharbor/internal/store"
	"candidharbor/internal/transfer"
)

// answerRoutes has requests answered by which snapshots go from site to site.
func (s *Service) answerRoutes() {
	s.pairing.Handle(transfer.OpCarry, pairing.NeedsOffer, func(ctx context.Context, q *pairing.Request) error {
		if err := s.pairing.TwoSites(q.Peer.Name); err != nil {
			return err
		}
		return s.serveCarry(ctx, q.Peer, q.Link.Key, q.Body, q.Stream)
	})
	s.pairing.Handle("present", pairing.NeedsOffer, func(_ context.Context, q *pairing.Request) error {
		return s.servePresent(q.Peer, q.Body, q.Stream)
	})
	s.pairing.Handle("report", pairing.NeedsRead, func(_ context.Context, q *pairing.Request) error {
		return s.serveReport(q.Peer, q.Body, q.Stream)
	})
	for _, op := range []string{"histories", "fetch"} {
		s.pairing.Handle(op, pairing.NeedsRead, func(ctx context.Context, q *pairing.Request) error {
			return s.servePull(ctx, q.Peer, q.Op, q.Body, q.Stream)
		})
	}
	for _, op := range []string{"history", "root", "objects"} {
		s.pairing.Handle(op, pairing.NeedsNothing, func(_ context.Context, q *pairing.Request) error {
			return s.serveRecall(q.Peer, q.Op, q.Body, q.Stream)
		})
	}
}

// serveCarry takes in a snapshot that a peer brings.
func (s *Service) serveCarry(ctx context.Context, peer *catalog.Peer, key ed25519.PublicKey, body []byte,
	st *transfer.Stream) error {
	var q transfer.CarryRequest
	if err := transfer.Decode(body, &q); err != nil {
		return err
	}
	return s.takeIn(ctx, peer, key, &q, st, &transfer.Meter{})
}

// takeIn receives a snapshot from a peer, whichever of both asked for it.
func (s *Service) takeIn(ctx context.Context, peer *catalog.Peer, key ed25519.PublicKey, q *transfer.CarryRequest,
	st *transfer.Stream, meter *transfer.Meter) error {
	ended := s.incoming.begin(peer.Name, q, meter, s.Clock.Now())
	err := s.receive(ctx, peer, key, q, st, meter, func() { ended(nil, s.Clock.Now()) })
	ended(err, s.Clock.Now())
	return err
}

// receive takes a snapshot in; isHere is called once it is, before the sender knows.
func (s *Service) receive(ctx context.Context, peer *catalog.Peer, key ed25519.PublicKey, q *transfer.CarryRequest,
	st *transfer.Stream, meter *transfer.Meter, isHere func()) error {
	known, err := s.Catalog.VolumeOfLineage(hex.EncodeToString(q.Lineage[:]))
	if policy.CheckName("site", q.Origin) != nil || policy.CheckName("volume", q.Volume) != nil ||
		q.Origin == s.Name() && (err != nil || !s.comesHome(peer, known)) {
		return &transfer.Refusal{What: fmt.Sprintf("a volume %q of the site %q cannot be taken in here", q.Volume, q.Origin),
			Final: true}
	}
	if err == nil && known.Origin != q.Origin {
		return &transfer.Refusal{What: fmt.Sprintf("the history that %s brings as %s belongs to %s here", peer.Name, q.Volume,
			known.Name), Final: true}
	} else if err != nil && !errors.Is(err, catalog.ErrNone) {
		return err
	}
	asked := known
	if err != nil { // the first of its history
		if len(q.Authority) > transfer.MaxAuthority {
			return fmt.Errorf("%d records of authority are more than are heard at once", len(q.Authority))
		}
		asked = &catalog.Volume{Name: q.Volume + "@" + q.Origin, Origin: q.Origin, Via: via(peer, q.Origin)}
	}
	isKnown := err == nil
	var most int64
	if !s.Store.HasRoot(q.Root) { // marks of what is here come in all the same
		why, room, err := s.rules.Full(asked)
		if err != nil {
			return err
		} else if why != "" {
			return transfer.Full(why)
		}
		most = room
	}
	if isKnown && len(q.Authority) > 0 { // of a history that is known; else after it has arrived
		if err := s.authority.Learn(peer.Name, q.Authority); err != nil {
			return err
		}
		if known, err = s.Catalog.VolumeOfLineage(known.Lineage); err != nil {
			return err
		}
		asked = known
	}
	trust, err := s.trustOf(peer, asked, q)
	if err != nil {
		return err
	}
	release, err := s.run.Hold(ctx, run.KeyLineage.Of(hex.EncodeToString(q.Lineage[:])))
	if err != nil {
		return err
	}
	defer release()
	if err := s.proposed(q); err != nil {
		return err
	}
	if q.Keep != nil && !s.mayWish(peer, known, isKnown, q) {
		q.Keep = nil
	}
	signer := ""
	knows, sees := s.KnownTo(peer, hex.EncodeToString(q.Lineage[:]))
	rc := &transfer.Receiver{Knows: knows, Sees: sees, Store: s.Store, Peer: key, Meter: meter, Most: most,
		Trusted: func(root *object.Root, by ed25519.PublicKey) error {
			if !trust.roots(root, by) {
				return errors.New("the root is not signed by the site that took it")
			}
			signer = trust.signer(root, by)
			return nil
		},
		MayMark: s.mayMark(q.Root, trust, peer),
		Arrived: func(id object.ID, stored int64) (int64, error) {
			at, err := s.arrived(id, stored, q.SetOf, signer, via(peer, q.Origin))
			if err == nil && !isKnown { // before it is acknowledged who is active is known here too
				err = s.authority.Learn(peer.Name, q.Authority)
			}
			if err == nil && q.Keep != nil {
				err = s.rules.KeepAsAsked(id, peer.Name, q.Keep.Why, q.Keep.Time())
			}
			if err == nil {
				isHere()
			}
			return at, err
		},
	}
	if err := rc.Run(ctx, st, q); err != nil {
		var full *store.FullError
		if errors.As(err, &full) || errors.Is(err, transfer.ErrTooMuch) {
			return transfer.Full(err.Error())
		}
		return err
	}
	here, err := s.Catalog.VolumeOfLineage(hex.EncodeToString(q.Lineage[:]))
	if err != nil {
		return err
	}
	s.run.Changed("snapshots", here.Name)
	if err := s.proposed(q); err != nil {
		return err
	}
	return s.standbyArrived(hex.EncodeToString(q.Lineage[:]), q.Standby)
}

// mayWish reports whether a peer may ask that a snapshot is kept here: of a history that it brings first, or that is
// shared with it. It cannot hold here what others brought.
func (s *Service) mayWish(peer *catalog.Peer, known *catalog.Volume, isKnown bool, q *transfer.CarryRequest) bool {
	if root, _, err := s.Store.Root(q.Root); err == nil && root.Lineage != q.Lineage {
		return false
	}
	if !isKnown {
		return true
	}
	routes, err := s.Catalog.Routes()
	return err == nil && s.sharesWith(peer, known, routes)
}

// proposed stores the rules that the origin proposes for its volume's copies here. A
// document that cannot be used is refused as a whole.
func (s *Service) proposed(q *transfer.CarryRequest) error {
	if q.Rules != "" {
		for _, body := range strings.Split(q.Rules, "\n---\n") {
			if _, err := policy.Parse(body); err != nil {
				return &transfer.Refusal{What: "the proposed rules: " + err.Error(), Final: true}
			}
		}
	}
	v, err := s.Catalog.VolumeOfLineage(hex.EncodeToString(q.Lineage[:]))
	if err != nil {
		return nil // not known before its first snapshot arrived; asked again after that
	}
	if v.Origin == s.Name() || v.ActiveAt(s.Name()) { // its rules are made here, or came before this site took over
		return nil
	}
	proposed, offered, err := s.rules.EvaluateOffer(v, q.Rules)
	if err != nil || (v.Proposed == proposed && v.Offered == offered) {
		return err
	}
	if err := s.Catalog.SetRules(v.Name, proposed, offered); err != nil {
		return err
	}
	s.run.Changed("policies")
	return nil
}

// arrived enters a snapshot that is whole and verified into the catalogue. It stays hidden
// while not all setOf snapshots of its set are there.
func (s *Service) arrived(id object.ID, stored int64, setOf uint32, signer, via string) (int64, error) {
	root, _, err := s.Store.Root(id)
	if err != nil {
		return 0, err
	}
	now := s.Clock.Now()
	if _, err := s.Catalog.VolumeOfLineage(hex.EncodeToString(root.Lineage[:])); errors.Is(err, catalog.ErrNone) {
		v := s.records.VolumeOf(root)
		v.Signer, v.Via = signer, via
		if err := s.Catalog.PutVolume(v); err != nil {
			return 0, err
		}
		if err := s.authority.Enter(v); err != nil { // it may have been known here before
			return 0, err
		}
		s.run.Changed("volumes")
	} else if err != nil {
		return 0, err
	}
	row, err := s.records.RowOf(id, root)
	if err != nil {
		return 0, err
	}
	old, err := s.Catalog.Snapshot(row.ID)
	if errors.Is(err, catalog.ErrNone) && old == nil {
		m := &object.Mark{Kind: object.MarkArrival, Root: id, At: now.UnixNano(), Place: s.Place()}
		disorder, err := s.capture.OutOfTurn(row)
		if err != nil {
			return 0, err
		}
		m.Text, m.Cause, m.Branch, m.Until = disorder.Text, disorder.Cause, disorder.Branch, untilOf(disorder.Until)
		if err := s.Store.PutMark(m); err != nil {
			return 0, err
		}
		records.ApplyMark(row, m, s.Place())
		if m.Text != "" {
			s.Log.Warn("a snapshot arrived out of turn; it stays and stands for nothing until it is admitted", "snapshot",
				row.ID, "volume", row.Volume, "why", m.Text)
		}
	} else if err != nil && !errors.Is(err, catalog.ErrNone) {
		return 0, err
	}
	row.Stored = stored
	if old != nil && old.Place == s.Place() {
		row.Stored = old.Stored
	}
	if row.SetID == "" || setOf < 2 {
		s.rules.Reached(row.Volume, s.Place(), rules.NewestState(row))
		return now.UnixNano(), errors.Join(s.Catalog.PutSnapshot(row), s.capture.Weigh(row))
	}
	row.Hidden = old == nil || old.Hidden
	if err := errors.Join(s.Catalog.PutSnapshot(row), s.capture.Weigh(row)); err != nil {
		return 0, err
	}
	if !row.Hidden {
		s.rules.Reached(row.Volume, s.Place(), rules.NewestState(row))
	}
	return now.UnixNano(), s.capture.Unveil(row, setOf)
}

// untilOf is a time as marks have it; the zero time is none.
func untilOf(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixNano()
}
