package access

import (
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"strings"
	"sync"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
)

const (
	linkFor      = 10 * time.Minute // in which it signs in
	linkSession  = 12 * time.Hour   // for which it lets in then
	linkPrefix   = "chl_"
	linkTokens   = "link-" // names of the tokens behind links
	mostLinks    = 100
	linkFragment = "/#enter="
)

// links are what signs in once each, by the sum of their texts. They end with the service.
type links struct {
	mu  sync.Mutex
	all map[object.ID]link
}

type link struct {
	token string // sum of the token that the session is of
	until time.Time
}

// Link makes an address of the console that signs in once, soon, as who asks for it: an administrator. The session is
// that of a token which ends by itself and whose text nobody has.
func (s *Service) Link(by *Caller, console string) (*api.SignInLink, error) {
	if by.Role != Administrator || by.Via == "line" {
		return nil, refusal.Wrap(refusal.Refused, errors.New("only an administrator of this site makes links that sign in"))
	}
	if console == "" {
		return nil, refusal.Conflictf("it is not known where the console of this site is")
	}
	s.links.mu.Lock()
	defer s.links.mu.Unlock()
	now := s.Clock.Now()
	maps.DeleteFunc(s.links.all, func(_ object.ID, l link) bool { return !now.Before(l.until) })
	if len(s.links.all) >= mostLinks {
		return nil, refusal.Wrap(refusal.Busy, fmt.Errorf("%d links wait to be used: use one of them, or wait %s", mostLinks,
			phrase.Ago(linkFor)))
	}
	if err := s.endLinkTokens(); err != nil {
		return nil, err
	}
	var b [28]byte
	rand.Read(b[:])
	until, ends := now.Add(linkFor), now.Add(linkSession)
	t, err := s.NewToken(api.TokenAdd{Name: linkTokens + hex.EncodeToString(b[24:]), Person: by.Person, Until: &ends})
	if err != nil {
		return nil, err
	}
	text := linkPrefix + hex.EncodeToString(b[:24])
	if s.links.all == nil {
		s.links.all = map[object.ID]link{}
	}
	s.links.all[object.Sum([]byte(text))] = link{object.Sum([]byte(t.Text)).String(), until}
	return &api.SignInLink{Address: strings.TrimSuffix(console, "/") + linkFragment + text, Until: until, Ends: ends}, nil
}

// endLinkTokens forgets the tokens of links that let nobody in any more.
func (s *Service) endLinkTokens() error {
	all, err := s.Catalog.Tokens()
	for _, t := range all {
		if err == nil && strings.HasPrefix(t.Name, linkTokens) && s.tokenEnded(t) {
			err = s.Catalog.RemoveToken(t.Name)
		}
	}
	return err
}

// SignInByLink returns the text of a new session of whoever has a link; nil when it was used, has ended or never was.
func (s *Service) SignInByLink(text string) (string, *Caller, error) {
	key := object.Sum([]byte(text))
	s.links.mu.Lock()
	l, is := s.links.all[key]
	delete(s.links.all, key)
	s.links.mu.Unlock()
	if !is || !s.Clock.Now().Before(l.until) {
		return "", nil, nil
	}
	c := s.byToken(l.token)
	if c == nil {
		return "", nil, nil
	}
	session, err := s.newSession(&catalog.Session{Token: l.token})
	return session, c, err
}
