package pairing

import (
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
	"candidharbor/internal/transfer"
)

// Each start of the service adds a random number to a list that it sends to paired sites. A
// site that was put back to an earlier state lacks the number that others saw last, and two
// sites that go on from one image each lack the other's.
const (
	startsSetting    = "starts"
	ownStateSetting  = "this site was put back"
	mostStarts       = 256
	startsTold       = 256
	MostPresentAsked = 2048
)

type startNumber [8]byte

// MarshalText writes the number in hexadecimal.
func (n startNumber) MarshalText() ([]byte, error) { return hex.AppendEncode(nil, n[:]), nil }

// UnmarshalText reads what MarshalText wrote.
func (n *startNumber) UnmarshalText(text []byte) error {
	if len(text) != 2*len(n) {
		return fmt.Errorf("%q is not the number of a start", text)
	}
	_, err := hex.Decode(n[:], text)
	return err
}

// readStarts reads numbers of starts as they are stored.
func readStarts(texts []string) ([]startNumber, error) {
	all := make([]startNumber, len(texts))
	for i, text := range texts {
		if err := all[i].UnmarshalText([]byte(text)); err != nil {
			return nil, err
		}
	}
	return all, nil
}

// startTexts are the latest numbers, for storing.
func startTexts(all []startNumber) []string {
	all = all[max(0, len(all)-mostStarts):]
	texts := make([]string, len(all))
	for i, n := range all {
		texts[i] = hex.EncodeToString(n[:])
	}
	return texts
}

// ownStarts are the starts of this site.
func (s *Service) ownStarts() ([]startNumber, error) {
	raw, err := s.Catalog.Setting(startsSetting)
	if err != nil || raw == "" {
		return nil, err
	}
	var texts []string
	if err := json.Unmarshal([]byte(raw), &texts); err != nil {
		return nil, fmt.Errorf("setting %q: %w", startsSetting, err)
	}
	return readStarts(texts)
}

func setOwnStarts(c *catalog.Catalog, all []startNumber) error {
	raw, err := json.Marshal(startTexts(all))
	if err != nil {
		return err
	}
	return c.Set(startsSetting, string(raw))
}

// CountStart adds this start to the list. With anew the list begins anew, so that every site
// that has seen an earlier one compares what it carried here.
func (s *Service) CountStart(anew bool) error {
	all, err := s.ownStarts()
	if err != nil {
		return err
	}
	if anew {
		all = nil
	}
	var n startNumber
	rand.Read(n[:])
	return setOwnStarts(s.Catalog, append(all, n))
}

// starts are the latest starts, for others.
func (s *Service) starts() ([]startNumber, error) {
	all, err := s.ownStarts()
	return all[max(0, len(all)-startsTold):], err
}

// peerStarts are the starts that were seen of a peer.
func (s *Service) peerStarts(peer string) ([]startNumber, error) {
	h, err := s.Catalog.PeerHistory(peer)
	if err != nil {
		return nil, err
	}
	return readStarts(h.Starts.V)
}

// seeStarts compares the starts that a peer tells with those seen of it. It returns those
// seen before, for the peer to compare too.
func (s *Service) seeStarts(peer *catalog.Peer, told []startNumber) (seen []startNumber, err error) {
	s.startsMu.Lock()
	defer s.startsMu.Unlock()
	seen, err = s.peerStarts(peer.Name)
	if err != nil || len(told) == 0 {
		return seen, err
	}
	last := told[len(told)-1]
	switch {
	case len(seen) == 0 || slices.Contains(told, seen[len(seen)-1]):
		if len(seen) > 0 && seen[len(seen)-1] == last {
			return seen, nil
		}
	case slices.Contains(seen, last):
		// It was seen, then another one that it does not know, and now it again: two are alive.
		s.Log.Error("two sites show the key of one peer", "peer", peer.Name)
		if err := s.Catalog.SetTwoSites(peer.Name, catalog.At(s.Clock.Now())); err != nil {
			return seen, err
		}
		s.run.Tell("sites")
		return seen, nil
	default:
		s.Log.Warn("a paired site was put back to an earlier state, or its catalogue was", "peer", peer.Name)
		if err := s.Catalog.SetPutBack(peer.Name, catalog.At(s.Clock.Now()), -1); err != nil {
			return seen, err
		}
		s.run.Tell("sites")
	}
	others := slices.DeleteFunc(slices.Clone(seen), func(n startNumber) bool { return n == last })
	return seen, s.Catalog.SetPeerStarts(peer.Name, startTexts(append(others, last)))
}

// seenOfUs compares what a peer has seen of this site with its own starts. A start that it
// does not know says that this site was put back: its histories then go on in a term of
// their own, so that nothing is taken for what was taken after the image.
func (s *Service) seenOfUs(peer *catalog.Peer, seen []startNumber) error {
	if len(seen) == 0 {
		return nil
	}
	back, err := s.compareStarts(peer, seen)
	if err != nil || !back {
		return err
	}
	return s.onPutBack(peer.Name, false)
}

func (s *Service) compareStarts(peer *catalog.Peer, seen []startNumber) (back bool, err error) {
	s.startsMu.Lock()
	defer s.startsMu.Unlock()
	all, err := s.ownStarts()
	if err != nil || slices.Contains(all, seen[len(seen)-1]) {
		return false, err
	}
	vols, err := s.Catalog.Volumes()
	if err != nil {
		return false, err
	}
	err = s.Catalog.Atomically(func(c *catalog.Catalog) error {
		for _, v := range vols {
			if !v.ActiveAt(s.Name()) {
				continue
			}
			term, _, err := c.HighestPosition(v.Lineage)
			if err != nil {
				return err
			}
			if err := c.SetTerm(v.Lineage, uint64(term)+1); err != nil {
				return err
			}
		}
		// What the peer saw counts as known from here on, in the order in which it was seen.
		return errors.Join(setOwnStarts(c, append(seen, all[max(0, len(all)-1):]...)),
			c.Set(ownStateSetting, fmt.Sprintf("%s|%s", s.Clock.Now().Format(time.RFC3339), peer.Name)))
	})
	if err != nil {
		return false, err
	}
	s.Log.Warn("this site was put back to an earlier state; its histories go on in a new term", "seen by", peer.Name)
	s.run.Tell("sites")
	return true, nil
}

// TwoSites refuses a peer of which two are alive, until a person has ended that.
func (s *Service) TwoSites(peer string) error {
	h, err := s.Catalog.PeerHistory(peer)
	if err != nil || h.TwoSites.IsZero() {
		return err
	}
	return &transfer.Refusal{What: fmt.Sprintf("two sites show the key of %s, so neither brings anything to %s: stop "+
		"one of them, then say so at %s with candid site confirm %s", peer, s.Name(), s.Name(), peer), Final: true}
}

// ConfirmPeer says that of two sites with one key only one is alive any more.
func (s *Service) ConfirmPeer(name string) (string, error) {
	if _, err := s.Catalog.Peer(name); err != nil {
		return "", err
	}
	h, err := s.Catalog.PeerHistory(name)
	if err != nil {
		return "", err
	}
	if h.TwoSites.IsZero() {
		return "", refusal.Conflictf("nothing about %s is in doubt", name)
	}
	defer s.run.Tell("sites")
	if err := s.Catalog.ForgetTwoSites(name); err != nil {
		return "", err
	}
	return fmt.Sprintf("%s is taken for one site again; its routes go on with their next run.", name), nil
}

// ConfirmPutBack ends the sentences about sites that were put back, once a person has looked.
func (s *Service) ConfirmPutBack() error {
	return s.Catalog.Atomically(func(c *catalog.Catalog) error {
		return errors.Join(c.ForgetPutBacks(), c.Set(ownStateSetting, ""))
	})
}

// StartSentences tell of sites that were put back, this one too, and of doubles.
func (s *Service) StartSentences(add func(api.Sentence)) error {
	peers, err := s.Catalog.PeerHistories()
	if err != nil {
		return err
	}
	for _, h := range peers {
		if h.TwoSites.IsZero() {
			continue
		}
		peer := h.Peer
		add(api.Sentence{Text: fmt.Sprintf("Two sites show the key of %s: one is a copy of the other. Nothing is taken in "+
			"from either.", peer),
			Weight: "act", About: "two sites: " + peer, Next: "Stop one of them, then say so", Command: "candid site confirm " +
				peer, Link: "/sites"})
	}
	for _, p := range peers {
		if p.PutBack.IsZero() {
			continue
		}
		peer := p.Peer
		text := fmt.Sprintf("%s was put back to an earlier state; noticed %s.", peer, phrase.Stamp(p.PutBack.Time))
		switch {
		case p.OwedAgain > 0:
			text += fmt.Sprintf(" %s that %s carried there %s not there any more, and will be carried again.",
				phrase.Many(p.OwedAgain, "snapshot"), phrase.Pick(p.OwedAgain, "was", "were"),
				phrase.Pick(p.OwedAgain, "is", "are"))
		case p.OwedAgain == 0:
			text += " All that was carried there is there."
		}
		add(api.Sentence{Text: text, Weight: "act", About: "put back: " + peer, Next: "Look at it, then say that you have",
			Command: "candid store release", Link: "/sites"})
	}
	own, err := s.Catalog.Setting(ownStateSetting)
	if err != nil || own == "" {
		return err
	}
	at, peer, _ := strings.Cut(own, "|")
	when, _ := time.Parse(time.RFC3339, at)
	add(api.Sentence{Text: fmt.Sprintf("This site was put back to an earlier state; %s noticed it %s. Its histories go "+
		"on in a new term: what was taken after the image stays at the other sites, before it.", peer, phrase.Stamp(when)),
		Weight: "act", About: "this site was put back", Next: "Look what the other sites have, then say that you have",
		Command: "candid store release", Link: "/sites"})
	return nil
}
