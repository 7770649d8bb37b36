package rules

import (
	"cmp"
	"maps"
	"slices"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
)

const longestNote = 1000 // characters

// ChangeSnapshot changes what is noted with a snapshot: its note, its labels, and the end of its own that one taken by
// hand has. Sites that have a copy learn of it with the next carry.
func (s *Service) ChangeSnapshot(id string, ask api.SnapshotChange) (*api.Snapshot, error) {
	if ask.Note == nil && len(ask.Set)+len(ask.Drop) == 0 && ask.KeepUntil == nil {
		return nil, refusal.Badf("say what to change: the note, labels, or until when it is kept")
	}
	return s.markBy(id, func(row *catalog.Snapshot) (marks []object.Mark, err error) {
		if ask.Note != nil {
			note := strings.TrimSpace(*ask.Note)
			if len([]rune(note)) > longestNote {
				return nil, refusal.Badf("the note has %d characters: give at most %d", len([]rune(note)), longestNote)
			}
			marks = append(marks, object.Mark{Kind: object.MarkNote, Text: note})
		}
		if len(ask.Set)+len(ask.Drop) > 0 {
			labels, err := changedLabels(row.Labels.V, ask.Set, ask.Drop)
			if err != nil {
				return nil, err
			}
			marks = append(marks, object.Mark{Kind: object.MarkLabels, Labels: labels})
		}
		if ask.KeepUntil != nil {
			if err := s.mayEnd(row, *ask.KeepUntil); err != nil {
				return nil, err
			}
			marks = append(marks, object.Mark{Kind: object.MarkEnd, Until: ask.KeepUntil.UnixNano()})
		}
		return marks, nil
	})
}

func (s *Service) mayEnd(row *catalog.Snapshot, at time.Time) error {
	short := row.ID[:12]
	switch {
	case row.Cause != string(object.CauseByHand):
		return refusal.Conflictf("snapshot %s was not taken by hand, so the rules say how long it stays: to keep it longer, "+
			"candid snapshot keep %s --reason WHY --until WHEN", short, short)
	case !at.After(s.Clock.Now()):
		return refusal.Badf("%s has passed already: give a time to come, or candid snapshot remove %s", phrase.Stamp(at),
			short)
	case !row.GraceUntil.IsZero():
		return refusal.Conflictf("snapshot %s is in grace: candid snapshot recall %s first", short, short)
	}
	return nil
}

func changedLabels(has, set map[string]string, drop []string) (map[string]string, error) {
	next := maps.Clone(has)
	if next == nil {
		next = map[string]string{}
	}
	if err := CheckLabels(set); err != nil {
		return nil, err
	}
	maps.Copy(next, set)
	for _, k := range drop {
		if _, there := next[k]; !there {
			return nil, refusal.Badf("the snapshot has no label %q: it has %s", k, cmp.Or(phrase.LabelWords(next), "none"))
		}
		delete(next, k)
	}
	return next, nil
}

// CheckLabels refuses labels without a key or a value, and those that are too long.
func CheckLabels(labels map[string]string) error {
	for _, k := range slices.Sorted(maps.Keys(labels)) {
		if v := labels[k]; strings.TrimSpace(k) == "" || strings.TrimSpace(v) == "" || len(k)+len(v) > 256 {
			return refusal.Badf("label %q=%q: give a key and a value of together at most 256 characters", k, v)
		}
	}
	return nil
}
