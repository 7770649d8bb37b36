package site

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/transfer"
)

// Each start of the service adds a random number to a list that paired sites are told. A
// site that was put back to an earlier state lacks the number that others saw last, and two
// sites that go on from one image each lack the other's. What was seen of a peer is a
// setting by its name.
const (
	startsSetting    = "starts"
	seenStarts       = "seen starts of "
	putBackSetting   = "put back: "
	twoSitesSetting  = "two sites: "
	ownStateSetting  = "this site was put back"
	mostStarts       = 256
	startsTold       = 256
	mostPresentAsked = 2048
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

func (s *Site) readStarts(key string) (all []startNumber, err error) {
	raw, err := s.cat.Setting(key)
	if err != nil || raw == "" {
		return nil, err
	}
	return all, json.Unmarshal([]byte(raw), &all)
}

func (s *Site) writeStarts(key string, all []startNumber) error {
	raw, err := json.Marshal(all[max(0, len(all)-mostStarts):])
	if err != nil {
		return err
	}
	return s.cat.Set(key, string(raw))
}

// countStart adds this start to the list. With anew the list begins anew, so that every site
// that has seen an earlier one compares what it carried here.
func (s *Site) countStart(anew bool) error {
	all, err := s.readStarts(startsSetting)
	if err != nil {
		return err
	}
	if anew {
		all = nil
	}
	var n startNumber
	rand.Read(n[:])
	return s.writeStarts(startsSetting, append(all, n))
}

// starts are the latest starts, for others.
func (s *Site) starts() ([]startNumber, error) {
	all, err := s.readStarts(startsSetting)
	return all[max(0, len(all)-startsTold):], err
}

// putBack is what was noticed of a site that went back to an earlier state.
type putBack struct {
	At        time.Time `json:"at"`
	OwedAgain int       `json:"owedAgain"`
}

// seeStarts compares the starts that a peer tells with those seen of it. It returns those
// seen before, for the peer to compare too.
func (s *Site) seeStarts(peer *catalog.Peer, told []startNumber) (seen []startNumber, err error) {
	s.startsMu.Lock()
	defer s.startsMu.Unlock()
	seen, err = s.readStarts(seenStarts + peer.Name)
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
		s.log.Error("two sites show the key of one peer", "peer", peer.Name)
		if err := s.cat.Set(twoSitesSetting+peer.Name, s.clock.Now().Format(time.RFC3339)); err != nil {
			return seen, err
		}
		s.tell("sites")
		return seen, nil
	default:
		s.log.Warn("a paired site was put back to an earlier state, or its catalogue was", "peer", peer.Name)
		text, err := json.Marshal(putBack{At: s.clock.Now(), OwedAgain: -1})
		if err != nil {
			return seen, err
		}
		if err := s.cat.Set(putBackSetting+peer.Name, string(text)); err != nil {
			return seen, err
		}
		s.tell("sites")
	}
	return seen, s.writeStarts(seenStarts+peer.Name, append(slices.DeleteFunc(slices.Clone(seen), func(n startNumber) bool { return n == last }), last))
}

// seenOfUs compares what a peer has seen of this site with its own starts. A start that it
// does not know says that this site was put back: its histories then go on in a term of
// their own, so that nothing is taken for what was taken after the image.
func (s *Site) seenOfUs(peer *catalog.Peer, seen []startNumber) error {
	if len(seen) == 0 {
		return nil
	}
	s.startsMu.Lock()
	defer s.startsMu.Unlock()
	all, err := s.readStarts(startsSetting)
	if err != nil || slices.Contains(all, seen[len(seen)-1]) {
		return err
	}
	vols, err := s.cat.Volumes()
	if err != nil {
		return err
	}
	for _, v := range vols {
		if v.Origin != s.Name() {
			continue
		}
		term, _, err := s.cat.HighestPosition(v.Lineage)
		if err != nil {
			return err
		}
		if err := s.cat.Set(termSetting+v.Lineage, fmt.Sprint(term+1)); err != nil {
			return err
		}
	}
	// What the peer saw counts as known from here on, in the order in which it was seen.
	if err := s.writeStarts(startsSetting, append(seen, all[max(0, len(all)-1):]...)); err != nil {
		return err
	}
	s.log.Warn("this site was put back to an earlier state; its histories go on in a new term", "seen by", peer.Name)
	s.tell("sites")
	return s.cat.Set(ownStateSetting, fmt.Sprintf("%s|%s", s.clock.Now().Format(time.RFC3339), peer.Name))
}

// termSetting is the term in which a history goes on, where it is not that of its last
// snapshot.
const termSetting = "term "

// twoSites refuses a peer of which two are alive, until a person has ended that.
func (s *Site) twoSites(peer string) error {
	since, err := s.cat.Setting(twoSitesSetting + peer)
	if err != nil || since == "" {
		return err
	}
	return &transfer.Refusal{What: fmt.Sprintf("two sites show the key of %s, so neither brings anything to %s: stop one of them, then say so at %s with candid site confirm %s", peer, s.Name(), s.Name(), peer), Final: true}
}

// ConfirmPeer says that of two sites with one key only one is alive any more.
func (s *Site) ConfirmPeer(name string) (string, error) {
	if _, err := s.cat.Peer(name); err != nil {
		return "", err
	}
	since, err := s.cat.Setting(twoSitesSetting + name)
	if err != nil {
		return "", err
	}
	if since == "" {
		return "", conflict("nothing about %s is in doubt", name)
	}
	defer s.tell("sites")
	if err := errors.Join(s.cat.Set(twoSitesSetting+name, ""), s.cat.Set(seenStarts+name, "")); err != nil {
		return "", err
	}
	return fmt.Sprintf("%s is taken for one site again; its routes go on with their next run.", name), nil
}

// present asks which of some snapshots a peer has.
type presentAsk struct {
	IDs []object.ID `cbor:"1,keyasint"`
}

type presentReply struct {
	Lacking []object.ID `cbor:"1,keyasint"`
}

// servePresent tells who brings snapshots which of them are here.
func (s *Site) servePresent(peer *catalog.Peer, body []byte, st *transfer.Stream) error {
	var q presentAsk
	if err := transfer.Decode(body, &q); err != nil {
		return err
	}
	if len(q.IDs) > mostPresentAsked {
		return fmt.Errorf("%d snapshots are too many for one request, at most %d", len(q.IDs), mostPresentAsked)
	}
	out := presentReply{}
	knows, _ := s.knownTo(peer, "")
	for _, id := range q.IDs {
		if !s.store.HasRoot(id) || !knows(id) {
			out.Lacking = append(out.Lacking, id)
		}
	}
	return st.Reply(out)
}

// compareFar asks a peer that was put back which snapshots it still has. What lacks is owed
// to it again.
func (s *Site) compareFar(ctx context.Context, j *job, r *catalog.Route, peer *catalog.Peer) error {
	raw, err := s.cat.Setting(putBackSetting + peer.Name)
	if err != nil || raw == "" {
		return err
	}
	var p putBack
	if err := json.Unmarshal([]byte(raw), &p); err != nil {
		return err
	}
	key := "compared with " + r.Name
	done, err := s.cat.Setting(key)
	if err != nil || done == p.At.Format(time.RFC3339Nano) {
		return err
	}
	ids, err := s.cat.AllCarried(r.Name)
	if err != nil {
		return err
	}
	var lacking []string
	for part := range slices.Chunk(ids, mostPresentAsked) {
		ask := presentAsk{}
		for _, text := range part {
			if id, err := object.ParseID(text); err == nil {
				ask.IDs = append(ask.IDs, id)
			}
		}
		var reply presentReply
		if err := s.askPeer(ctx, peer, "present", ask, &reply); err != nil {
			return err
		}
		for _, id := range reply.Lacking {
			if slices.Contains(ask.IDs, id) {
				lacking = append(lacking, id.String())
			}
		}
	}
	if err := s.cat.ForgetCarried(r.Name, lacking); err != nil {
		return err
	}
	if len(lacking) > 0 {
		j.logf("%s was put back to an earlier state: %s that were carried are not there any more, and are owed again", peer.Name, many(len(lacking), "snapshot"))
		j.remark()
		s.changed("snapshots")
	}
	p.OwedAgain = max(0, p.OwedAgain) + len(lacking)
	text, err := json.Marshal(p)
	if err != nil {
		return err
	}
	return errors.Join(s.cat.Set(putBackSetting+peer.Name, string(text)), s.cat.Set(key, p.At.Format(time.RFC3339Nano)))
}

// ConfirmPutBack ends what is told of sites that were put back, once a person has looked.
func (s *Site) ConfirmPutBack() error {
	all, err := s.cat.Settings(putBackSetting)
	if err != nil {
		return err
	}
	for key := range all {
		err = errors.Join(err, s.cat.Set(key, ""))
	}
	return errors.Join(err, s.cat.Set(ownStateSetting, ""))
}

// startSentences tell of sites that were put back, this one too, and of doubles.
func (s *Site) startSentences(add func(api.Sentence)) error {
	doubles, err := s.cat.Settings(twoSitesSetting)
	if err != nil {
		return err
	}
	for key := range doubles {
		peer := strings.TrimPrefix(key, twoSitesSetting)
		add(api.Sentence{Text: fmt.Sprintf("Two sites show the key of %s: one is a copy of the other. Nothing is taken in from either.", peer),
			Weight: "act", About: "two sites: " + peer, Next: "Stop one of them, then say so", Command: "candid site confirm " + peer, Link: "/sites"})
	}
	back, err := s.cat.Settings(putBackSetting)
	if err != nil {
		return err
	}
	for key, raw := range back {
		var p putBack
		if err := json.Unmarshal([]byte(raw), &p); err != nil {
			return err
		}
		peer := strings.TrimPrefix(key, putBackSetting)
		text := fmt.Sprintf("%s was put back to an earlier state; noticed %s.", peer, stamp(p.At))
		switch {
		case p.OwedAgain > 0:
			text += fmt.Sprintf(" %s that were carried there are not there any more and are carried again.", many(p.OwedAgain, "snapshot"))
		case p.OwedAgain == 0:
			text += " All that was carried there is there."
		}
		add(api.Sentence{Text: text, Weight: "act", About: "put back: " + peer, Next: "Look at it, then say that you have", Command: "candid store release", Link: "/sites"})
	}
	own, err := s.cat.Setting(ownStateSetting)
	if err != nil || own == "" {
		return err
	}
	at, peer, _ := strings.Cut(own, "|")
	when, _ := time.Parse(time.RFC3339, at)
	add(api.Sentence{Text: fmt.Sprintf("This site was put back to an earlier state; %s noticed it %s. Its histories go on in a new term: what was taken after the image stays at the other sites, before it.", peer, stamp(when)),
		Weight: "act", About: "this site was put back", Next: "Look what the other sites have, then say that you have", Command: "candid store release", Link: "/sites"})
	return nil
}
