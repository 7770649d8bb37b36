package site

import (
	"context"
	"crypto/ed25519"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"

	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/policy"
	"candidharbor/internal/store"
	"candidharbor/internal/transfer"
)

// answerRoutes has requests answered by which snapshots go from site to site.
func (s *Site) answerRoutes() {
	s.handle(transfer.OpCarry, needsOffer, func(ctx context.Context, q *request) error {
		if err := s.twoSites(q.peer.Name); err != nil {
			return err
		}
		return s.serveCarry(ctx, q.peer, q.link.Key, q.body, q.stream)
	})
	s.handle("present", needsOffer, func(_ context.Context, q *request) error { return s.servePresent(q.peer, q.body, q.stream) })
	s.handle("report", needsRead, func(_ context.Context, q *request) error { return s.serveReport(q.peer, q.body, q.stream) })
	for _, op := range []string{"histories", "fetch"} {
		s.handle(op, needsRead, func(ctx context.Context, q *request) error { return s.servePull(ctx, q.peer, q.op, q.body, q.stream) })
	}
	for _, op := range []string{"history", "root", "objects"} {
		s.handle(op, needsNothing, func(_ context.Context, q *request) error { return s.serveRecall(q.peer, q.op, q.body, q.stream) })
	}
}

// serveCarry takes in a snapshot that a peer brings.
func (s *Site) serveCarry(ctx context.Context, peer *catalog.Peer, key ed25519.PublicKey, body []byte, st *transfer.Stream) error {
	var q transfer.CarryRequest
	if err := transfer.Decode(body, &q); err != nil {
		return err
	}
	return s.takeIn(ctx, peer, key, &q, st, &transfer.Meter{})
}

// takeIn receives a snapshot from a peer, whichever of both asked for it.
func (s *Site) takeIn(ctx context.Context, peer *catalog.Peer, key ed25519.PublicKey, q *transfer.CarryRequest, st *transfer.Stream, meter *transfer.Meter) error {
	if q.Origin == s.Name() || policy.CheckName("site", q.Origin) != nil || policy.CheckName("volume", q.Volume) != nil {
		return &transfer.Refusal{What: fmt.Sprintf("a volume %q of the site %q cannot be taken in here", q.Volume, q.Origin), Final: true}
	}
	known, err := s.cat.VolumeOfLineage(hex.EncodeToString(q.Lineage[:]))
	if err == nil && known.Origin != q.Origin {
		return &transfer.Refusal{What: fmt.Sprintf("the history that %s brings as %s belongs to %s here", peer.Name, q.Volume, known.Name), Final: true}
	} else if err != nil && !errors.Is(err, catalog.ErrNone) {
		return err
	}
	asked := known
	if err != nil { // the first of its history
		asked = &catalog.Volume{Name: q.Volume + "@" + q.Origin, Origin: q.Origin, Via: via(peer, q.Origin)}
	}
	var most int64
	if !s.store.HasRoot(q.Root) { // marks of what is here come in all the same
		why, room, err := s.full(asked)
		if err != nil {
			return err
		} else if why != "" {
			return &transfer.Refusal{What: roomless + why}
		}
		most = room
	}
	trusted, err := s.maySign(peer, asked)
	if err != nil {
		return err
	}
	release, err := s.hold(ctx, "lineage "+hex.EncodeToString(q.Lineage[:]))
	if err != nil {
		return err
	}
	defer release()
	if err := s.proposed(q); err != nil {
		return err
	}
	signer := ""
	knows, sees := s.knownTo(peer, hex.EncodeToString(q.Lineage[:]))
	rc := &transfer.Receiver{Knows: knows, Sees: sees, Store: s.store, Peer: key, Meter: meter, Most: most,
		Trusted: func(_ *object.Root, by ed25519.PublicKey) error {
			signer = hex.EncodeToString(by)
			if len(trusted) > 0 && !slices.Contains(trusted, signer) {
				return errors.New("the root is not signed by the site that took it")
			}
			return nil
		},
		MayMark: s.mayMark(q.Root, q.Origin, trusted, peer),
		Arrived: func(id object.ID, stored int64) (int64, error) {
			return s.arrived(id, stored, q.SetOf, signer, via(peer, q.Origin))
		},
	}
	if err := rc.Run(ctx, st, q); err != nil {
		var full *store.FullError
		if errors.As(err, &full) || errors.Is(err, transfer.ErrTooMuch) {
			return &transfer.Refusal{What: roomless + err.Error()}
		}
		return err
	}
	here, err := s.cat.VolumeOfLineage(hex.EncodeToString(q.Lineage[:]))
	if err != nil {
		return err
	}
	s.changed("snapshots", here.Name)
	if err := s.proposed(q); err != nil {
		return err
	}
	return s.standbyArrived(hex.EncodeToString(q.Lineage[:]), q.Standby)
}

// via is who brings a volume of another site, whose quota it then counts against too.
func via(peer *catalog.Peer, origin string) string {
	if peer.Name == origin {
		return ""
	}
	return peer.Name
}

// roomless begins the refusal of a place that is full, until there is room again.
const roomless = "nothing more is taken in: "

// maySign lists the keys that may have signed a volume's snapshots: those of its origin
// where that is paired; else the one that signed the first that came. None: any, and that
// one from then on.
func (s *Site) maySign(peer *catalog.Peer, v *catalog.Volume) ([]string, error) {
	if v.Origin == peer.Name {
		if v.Lineage != "" && !s.bound(peer, v) {
			return nil, s.otherOfThatName(peer, v)
		}
		return signers(peer), nil
	}
	origin, err := s.cat.Peer(v.Origin)
	if err == nil && (v.Lineage == "" || s.bound(origin, v)) {
		return signers(origin), nil
	} else if err == nil {
		return []string{v.Signer}, nil
	} else if !errors.Is(err, catalog.ErrNone) {
		return nil, err
	}
	if v.Signer != "" {
		return []string{v.Signer}, nil
	}
	return nil, nil
}

// mayMark tells whose marks of a snapshot count here: those of the site that took it, under
// its name; and of who brings it those by which it is kept there, under that one's name. Who
// says something in the name of another is told of.
func (s *Site) mayMark(root object.ID, origin string, trusted []string, from *catalog.Peer) func(m *object.Mark, signer ed25519.PublicKey) bool {
	told := false // once for all that comes at once
	return func(m *object.Mark, signer ed25519.PublicKey) bool {
		by := hex.EncodeToString(signer)
		if len(trusted) == 0 { // nothing is known of its origin yet but who signed the snapshot
			if _, key, err := s.store.Root(root); err == nil && key.Equal(signer) {
				return m.Place == "" || m.Place == origin
			}
		}
		if slices.Contains(trusted, by) {
			return m.Place == "" || m.Place == origin
		}
		if from != nil && slices.Contains(signers(from), by) && m.Place == from.Name {
			return m.Kind == object.MarkKeep || m.Kind == object.MarkLetGo
		}
		if !told && (m.Place == s.Place() || m.Place == origin || from != nil && m.Place == from.Name) {
			told = true
			who := "a crate"
			if from != nil {
				who = from.Name
			}
			s.log.Warn("a mark in the name of a site that did not sign it was left out", "snapshot", root, "mark", m.Kind, "place", m.Place, "brought by", who, "signer", by[:16])
			if _, err := s.Record(Caller{Name: who, Via: "line"}, "mark", root.String()+" "+string(m.Kind)+" in the name of "+m.Place, "refused: not signed by it"); err != nil {
				s.log.Error("the ledger could not be written", "error", err)
			}
		}
		return false
	}
}

// proposed stores the rules that the origin proposes for its volume's copies here. A
// document that cannot be used is refused as a whole.
func (s *Site) proposed(q *transfer.CarryRequest) error {
	if q.Rules != "" {
		for _, body := range strings.Split(q.Rules, "\n---\n") {
			if _, err := policy.Parse(body); err != nil {
				return &transfer.Refusal{What: "the proposed rules: " + err.Error(), Final: true}
			}
		}
	}
	v, err := s.cat.VolumeOfLineage(hex.EncodeToString(q.Lineage[:]))
	if err != nil {
		return nil // not known before its first snapshot arrived; asked again after that
	}
	proposed, offered, err := s.weigh(v, q.Rules)
	if err != nil || (v.Proposed == proposed && v.Offered == offered) {
		return err
	}
	if err := s.cat.SetRules(v.Name, proposed, offered); err != nil {
		return err
	}
	s.changed("policies")
	return nil
}

// arrived enters a snapshot that is whole and verified into the catalogue. It stays hidden
// while not all setOf snapshots of its set are there.
func (s *Site) arrived(id object.ID, stored int64, setOf uint32, signer, via string) (int64, error) {
	root, _, err := s.store.Root(id)
	if err != nil {
		return 0, err
	}
	now := s.clock.Now()
	if _, err := s.cat.VolumeOfLineage(hex.EncodeToString(root.Lineage[:])); errors.Is(err, catalog.ErrNone) {
		v := s.volumeOf(root)
		v.Signer, v.Via = signer, via
		if err := s.cat.PutVolume(v); err != nil {
			return 0, err
		}
		s.changed("volumes")
	} else if err != nil {
		return 0, err
	}
	row, err := s.rowOf(id, root)
	if err != nil {
		return 0, err
	}
	old, err := s.cat.Snapshot(row.ID)
	if errors.Is(err, catalog.ErrNone) && old == nil {
		m := &object.Mark{Kind: object.MarkArrival, Root: id, At: now.UnixNano(), Place: s.Place()}
		if m.Text, err = s.outOfTurn(row); err != nil {
			return 0, err
		}
		if err := s.store.PutMark(m); err != nil {
			return 0, err
		}
		applyMark(row, m, s.Place())
		if m.Text != "" {
			s.log.Warn("a snapshot arrived out of turn; it stays and stands for nothing until it is admitted", "snapshot", row.ID, "volume", row.Volume, "why", m.Text)
		}
	} else if err != nil && !errors.Is(err, catalog.ErrNone) {
		return 0, err
	}
	row.Stored = stored
	if old != nil && old.Place == s.Place() {
		row.Stored = old.Stored
	}
	if row.SetID == "" || setOf < 2 {
		s.reached(row.Volume, s.Place(), newestState(row))
		return now.UnixNano(), s.cat.PutSnapshot(row)
	}
	row.Hidden = old == nil || old.Hidden
	if err := s.cat.PutSnapshot(row); err != nil {
		return 0, err
	}
	if !row.Hidden {
		s.reached(row.Volume, s.Place(), newestState(row))
	}
	return now.UnixNano(), s.unveil(row, setOf)
}

func (s *Site) initRoutes() {
	s.going, s.looked = map[string]*going{}, map[string]*looked{}
	s.answerRoutes()
	s.onPace, s.onAttached = s.paceChanged, s.awaken
	s.owedFar = s.owed
}
