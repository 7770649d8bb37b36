package overview

import (
	"strings"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
)

const longestDescription = 500 // characters

// Describe says what a policy, a route, a group or a site is for, in the words of people. An empty text takes it away.
func (s *Service) Describe(kind catalog.Described, name string, ask api.Description) (*api.Description, error) {
	text := strings.TrimSpace(ask.Text)
	if n := len([]rune(text)); n > longestDescription || strings.ContainsAny(text, "\n\r") {
		return nil, refusal.Badf("the description has %s: give one line of at most %d", phrase.Many(n, "character"),
			longestDescription)
	}
	var err error
	topic := ""
	switch kind {
	case catalog.DescribedPolicy:
		topic = "policies"
		_, err = s.Catalog.Policy(name)
	case catalog.DescribedRoute:
		topic = "routes"
		_, err = s.Catalog.Route(name)
	case catalog.DescribedGroup:
		topic = "volumes"
		_, err = s.Catalog.Group(name)
	case catalog.DescribedSite:
		topic = "sites"
		_, err = s.Catalog.Peer(name)
	default:
		err = refusal.Badf("a %q has no description: it is of a policy, a route, a group or a site", kind)
	}
	if err != nil {
		return nil, err
	}
	if err := s.Catalog.Describe(kind, name, text); err != nil {
		return nil, err
	}
	s.run.Changed(topic)
	return &api.Description{Text: text}, nil
}
