package access

import (
	"crypto/rand"
	"encoding/hex"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/refusal"
	"candidharbor/internal/visible"
)

// firstTokenFor is how long the token lets in that a new site prints: it is for making people
// and tokens of one's own.
const firstTokenFor = 7 * 24 * time.Hour

// FirstToken makes a new site's token, if it has none yet; its text is empty otherwise.
func (s *Service) FirstToken() (api.Token, error) {
	tokens, err := s.Catalog.Tokens()
	if err != nil || len(tokens) > 0 {
		return api.Token{}, err
	}
	end := s.Clock.Now().Add(firstTokenFor)
	return s.NewToken(api.TokenAdd{Name: "first", Until: &end})
}

// NewToken makes a token for clients that come by HTTP, of a person or of none, which may do what
// administrators may. Its text is not kept.
func (s *Service) NewToken(ask api.TokenAdd) (api.Token, error) {
	if ask.Name == "" {
		return api.Token{}, refusal.Badf("a token needs a name, so that you can tell later whose it is")
	}
	now := s.Clock.Now()
	if ask.Until != nil && !ask.Until.After(now) {
		return api.Token{}, refusal.Badf("until %s has passed already: give a time to come", ask.Until.Format(time.RFC3339))
	}
	if ask.Person != "" {
		if _, err := s.Catalog.Person(ask.Person); err != nil {
			return api.Token{}, err
		}
	}
	if _, err := s.Catalog.Person(ask.Name); err == nil {
		return api.Token{}, refusal.Conflictf("there is a person %s: what both did could not be told apart; choose "+
			"another name", ask.Name)
	}
	var b [24]byte
	rand.Read(b[:])
	text := "cht_" + hex.EncodeToString(b[:])
	t := &catalog.Token{Name: ask.Name, Person: ask.Person, Hash: object.Sum([]byte(text)).String(), Made: catalog.At(now)}
	if ask.Until != nil {
		t.Until = catalog.At(*ask.Until)
	}
	if added, err := s.Catalog.AddToken(t); err != nil {
		return api.Token{}, err
	} else if !added {
		return api.Token{}, refusal.Conflictf("there is a token %q already: choose another name, "+
			"or remove that one first, with candid token remove %s", ask.Name, visible.Word(ask.Name))
	}
	out := s.tokenOut(t)
	out.Text = text
	return out, nil
}

// Tokens lists the tokens without their texts.
func (s *Service) Tokens() ([]api.Token, error) {
	rows, err := s.Catalog.Tokens()
	out := make([]api.Token, len(rows))
	for i, t := range rows {
		out[i] = s.tokenOut(t)
	}
	return out, err
}

// RemoveToken makes a token useless.
func (s *Service) RemoveToken(name string) error { return s.Catalog.RemoveToken(name) }

func (s *Service) tokenOut(t *catalog.Token) api.Token {
	return api.Token{Name: t.Name, Person: t.Person, Made: t.Made.Time, Until: t.Until.Ptr(), Ended: s.tokenEnded(t)}
}

func (s *Service) tokenEnded(t *catalog.Token) bool {
	return !t.Until.IsZero() && !s.Clock.Now().Before(t.Until.Time)
}
