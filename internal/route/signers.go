package route

import (
	"crypto/ed25519"
	"encoding/hex"
	"errors"
	"slices"

	"candidharbor/core/authority"
	"candidharbor/core/object"
	"candidharbor/internal/access"
	"candidharbor/internal/catalog"
	"candidharbor/internal/pairing"
	"candidharbor/internal/transfer"
)

// via is who brings a volume of another site, whose quota it then counts against too.
func via(peer *catalog.Peer, origin string) string {
	if peer.Name == origin {
		return ""
	}
	return peer.Name
}

// ownKeys are the keys of this site, now and before.
func (s *Service) ownKeys() ([]string, error) {
	former, err := s.Catalog.FormerKeys()
	return append(former, transfer.KeyText(s.Identity().Public())), err
}

// MaySign lists the keys that may have signed a volume's snapshots at the site of its origin: those of its origin
// where that is paired; else the one that signed the first that came. None: any, and that
// one from then on.
func (s *Service) MaySign(peer *catalog.Peer, v *catalog.Volume) ([]string, error) {
	if v.Origin == s.Name() {
		return s.ownKeys()
	}
	if v.Origin == peer.Name {
		if v.Lineage != "" && !s.bound(peer, v) {
			return nil, s.otherOfThatName(peer, v)
		}
		return pairing.Signers(peer), nil
	}
	origin, err := s.Catalog.Peer(v.Origin)
	if err == nil && (v.Lineage == "" || s.bound(origin, v)) {
		return pairing.Signers(origin), nil
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

// comesHome reports whether a peer may bring snapshots of a history that began here: one that may take it over, or that
// is shared with it.
func (s *Service) comesHome(peer *catalog.Peer, v *catalog.Volume) bool {
	if v.Origin != s.Name() || s.IsPlace {
		return false
	}
	line := s.authority.Line(v)
	return slices.ContainsFunc(line, func(r *authority.Record) bool { return r.May(peer.Name) })
}

// trust decides who may have signed the snapshots of a history.
type trust struct {
	s         *Service
	v         *catalog.Volume
	origin    []string         // keys that may have signed what the site of its origin took; none: any, of the first
	authority *authority.Chain // of a history that is not known here yet; nil: what is known here decides
	first     ed25519.PublicKey
}

// trustOf is who may have signed a volume's snapshots, as a peer, or a crate, brings them with records of who
// was active.
func (s *Service) trustOf(peer *catalog.Peer, v *catalog.Volume, q *transfer.CarryRequest) (*trust, error) {
	t := &trust{s: s, v: v}
	var err error
	if peer == nil {
		t.origin, err = s.crateSigners(v)
	} else {
		t.origin, err = s.MaySign(peer, v)
	}
	if err != nil {
		return nil, err
	}
	if v.Lineage == "" && len(q.Authority) > 0 {
		t.authority, t.first, err = s.authority.Foresee(q.Lineage, v.Origin, t.origin, q.Authority)
	}
	return t, err
}

// roots reports whether a key may have signed a root.
func (t *trust) roots(root *object.Root, key ed25519.PublicKey) bool {
	switch by := hex.EncodeToString(key); {
	case root.TakenBy == "" && len(t.origin) == 0:
		return t.first == nil || t.first.Equal(key)
	case root.TakenBy == "":
		return slices.Contains(t.origin, by)
	case t.authority != nil:
		return t.authority.Lineage == root.Lineage && t.s.authority.Foreseen(t.authority, root.Term, root.TakenBy, key)
	case t.v.Lineage == "":
		return false
	}
	return t.s.authority.MayHaveTaken(t.v, root.Term, root.TakenBy, key)
}

// signer is the key that stays the one of the history's origin where that is not paired, once a root has arrived.
func (t *trust) signer(root *object.Root, key ed25519.PublicKey) string {
	switch {
	case root.TakenBy == "":
		return hex.EncodeToString(key)
	case t.first != nil:
		return hex.EncodeToString(t.first)
	}
	return ""
}

// marks reports whether a key may speak for a site in marks of a snapshot of the history: for the one that took it, or
// for one that was active later.
func (t *trust) marks(root *object.Root, m *object.Mark, key ed25519.PublicKey) bool {
	if m.Place == "" || m.Place == root.Taker() {
		return t.roots(root, key)
	}
	as := *root
	as.TakenBy, as.Term = m.Place, ^uint64(0)
	if m.Place == root.Origin {
		as.TakenBy = ""
		return len(t.origin) > 0 && t.roots(&as, key)
	}
	return t.roots(&as, key)
}

// mayMark tells whose marks of a snapshot count here: those of the sites that took it or were active later, each under
// its name; and of who brings it those by which it is kept there, under that one's name. Who says something in the name
// of another is told of.
func (s *Service) mayMark(id object.ID, t *trust, from *catalog.Peer) func(m *object.Mark,
	signer ed25519.PublicKey) bool {
	told := false // once for all that comes at once
	return func(m *object.Mark, signer ed25519.PublicKey) bool {
		by := hex.EncodeToString(signer)
		root, _, err := s.Store.Root(id)
		if err != nil {
			return false
		}
		if len(t.origin) == 0 && root.TakenBy == "" { // nothing is known of its origin yet but who signed the snapshot
			if _, key, err := s.Store.Root(id); err == nil && key.Equal(signer) {
				return m.Place == "" || m.Place == root.Origin
			}
		} else if t.marks(root, m, signer) {
			return true
		}
		if from != nil && slices.Contains(pairing.Signers(from), by) && m.Place == from.Name {
			return m.Kind == object.MarkKeep || m.Kind == object.MarkLetGo
		}
		if !told && (m.Place == s.Place() || m.Place == root.Taker() || from != nil && m.Place == from.Name) {
			told = true
			who := "a crate"
			if from != nil {
				who = from.Name
			}
			s.Log.Warn("a mark in the name of a site that did not sign it was left out", "snapshot", id, "mark", m.Kind,
				"place", m.Place, "brought by", who, "signer", by[:16])
			if _, err := s.access.Record(access.Caller{Name: who, Via: "line"}, "mark", id.String()+" "+string(m.Kind)+
				" in the name of "+m.Place, "refused: not signed by it"); err != nil {
				s.Log.Error("the ledger could not be written", "error", err)
			}
		}
		return false
	}
}
