package upkeep

import (
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"

	"candidharbor/core/object"
	"candidharbor/internal/phrase"
	"candidharbor/internal/rules"
)

// Reconcile brings the catalogue in line with the store after a crash or a loss. It deletes
// nothing in the store. What a crash cannot have left says that one of the two is older than
// the other: then removal is held until a person has looked.
func (s *Service) Reconcile() error {
	known, err := s.Catalog.SnapshotIDs(s.Place())
	if err != nil {
		return err
	}
	have := make(map[string]bool, len(known))
	for _, id := range known {
		have[id] = true
	}
	var lost []object.ID
	for _, id := range s.Store.Roots() {
		if !have[id.String()] {
			lost = append(lost, id)
		}
		delete(have, id.String())
	}
	if err := s.forgetGone(have); err != nil {
		return err
	}
	if lost, err = s.routes.DropDerived(lost); err != nil {
		return err
	}
	older, err := s.catalogueIsOlder()
	if err != nil {
		return err
	}
	if len(lost) > 0 {
		// A catalogue that knows volumes was not lost: what it lacks a crash left, or it is an
		// older one. Of a single snapshot nothing could be removed in any case.
		vols, err := s.Catalog.Volumes()
		if err != nil {
			return err
		}
		rebuilt := len(known) == 0 && len(vols) == 0 && len(lost) > 1
		if !rebuilt && !s.leftByCrash(lost) {
			older = fmt.Sprintf("the store has %s that the catalogue did not know, more than a crash leaves: it is probably "+
				"an older copy", phrase.Many(len(lost), "snapshot"))
		}
		s.Log.Info("snapshots that the catalogue lacks are taken up from the store", "snapshots", len(lost))
		if err := s.records.TakeUp(lost); err != nil {
			return err
		}
		if rebuilt {
			older = "the catalogue was rebuilt from the store on " + phrase.Stamp(s.Clock.Now())
		}
	}
	if older == "" {
		return nil
	}
	return s.rules.Suspend(older + "; look at what is there and at your policies, then release removal with: candid " +
		"store release")
}

// forgetGone takes snapshots from the catalogue that the store does not have. Those that
// nobody let go were lost, and Today says so.
func (s *Service) forgetGone(gone map[string]bool) error {
	if len(gone) == 0 {
		return nil
	}
	var dead, missed []string
	for id := range gone {
		dead = append(dead, id)
		if row, err := s.Catalog.Snapshot(id); err == nil && row.Place == s.Place() && row.GraceUntil.IsZero() &&
			!row.Hidden {
			missed = append(missed, fmt.Sprintf("%s of %s, taken %s", id[:12], row.Volume, phrase.Stamp(row.Began.Time)))
		}
	}
	s.Log.Info("snapshots that the store does not have were taken from the catalogue", "snapshots", len(dead))
	if err := s.Catalog.ForgetSnapshots(s.Place(), dead...); err != nil || len(missed) == 0 {
		return err
	}
	slices.Sort(missed)
	s.Log.Error("snapshots that nobody let go are not in the store", "snapshots", missed)
	more := ""
	if n := len(missed); n > 3 {
		missed, more = missed[:3], fmt.Sprintf(" and %d more", n-3)
	}
	if err := s.pairing.CountStart(true); err != nil { // whoever carried them here compares
		return err
	}
	return s.rules.Suspend(fmt.Sprintf("snapshots that nobody let go are not in the store any more: %s%s. Where "+
		"another site has them, a route or a pull brings them back. When you have looked, release removal with: candid "+
		"store release",
		strings.Join(missed, "; "), more))
}

// leftByCrash reports whether snapshots that the catalogue lacks can be what a crash left: at
// most one of a history, and of those taken here the newest. Routes bring older ones too.
func (s *Service) leftByCrash(lost []object.ID) bool {
	seen := map[object.LineageID]bool{}
	for _, id := range lost {
		root, _, err := s.Store.Root(id)
		if err != nil {
			continue // told as damaged
		}
		last, err := s.Catalog.LastSnapshot(s.Place(), hex.EncodeToString(root.Lineage[:]))
		if err != nil || seen[root.Lineage] {
			return false
		}
		seen[root.Lineage] = true
		if root.Origin == s.Name() && last != nil && (last.Term > int64(root.Term) || last.Term == int64(root.Term) &&
			last.Sequence >= int64(root.Sequence)) {
			return false
		}
	}
	return true
}

// RebuildCatalogue makes the records of volumes and snapshots anew from the store and
// holds all removal until a person releases it.
func (s *Service) RebuildCatalogue() (int, error) {
	known, err := s.Catalog.SnapshotIDs(s.Place())
	if err != nil {
		return 0, err
	}
	if err := s.Catalog.Set(rules.HoldSetting, "the catalogue was rebuilt from the store on request; look at what is "+
		"there, then release it with: candid store release"); err != nil {
		return 0, err
	}
	roots, err := s.routes.DropDerived(s.Store.Roots())
	if err != nil {
		return 0, err
	}
	if err := s.records.TakeUp(roots); err != nil {
		return 0, err
	}
	have := map[string]bool{}
	for _, id := range roots {
		have[id.String()] = true
	}
	var dead []string
	for _, id := range known {
		if !have[id] {
			dead = append(dead, id)
		}
	}
	s.run.Changed("snapshots")
	return len(roots), s.Catalog.ForgetSnapshots(s.Place(), dead...)
}

// Release lets removal go on after a rebuild.
func (s *Service) Release() error {
	s.run.Changed("snapshots")
	return errors.Join(s.pairing.ConfirmPutBack(), s.Catalog.Set(rules.HoldSetting, ""))
}
