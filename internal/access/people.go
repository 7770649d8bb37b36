package access

import (
	"os/user"
	"slices"
	"strconv"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/core/rights"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/policy"
	"candidharbor/internal/refusal"
	"candidharbor/internal/volume/tree"
)

// The roles of people.
const (
	Administrator = "administrator"
	Operator      = "operator"
	Auditor       = "auditor"
	FileOwner     = "file owner"
)

// Caller is who asks for something.
type Caller struct {
	Name string
	Role string
	Via  string // socket, console, token, line
	// Person is the name of a person of this site; empty for the host's administrator, tokens
	// that are no person's, and other sites.
	Person string
	Owner  *Owner // of a file owner
}

// Owner is a file owner: who that is on the host, and what was granted.
type Owner struct {
	Name string
	rights.Person
	Grants map[string][]string
}

const (
	leastPassword = 10
	mostPassword  = 200
	sessionIdle   = 12 * time.Hour      // after which a session that nobody used ends
	sessionMost   = 14 * 24 * time.Hour // after which any does
	sessionTouch  = 5 * time.Minute     // how exactly its use is noted
)

func callerOf(p *catalog.Person, via string) *Caller {
	c := &Caller{Name: p.Name, Person: p.Name, Role: p.Role, Via: via}
	if p.Role == FileOwner {
		c.Owner = OwnerOf(p)
	}
	return c
}

// OwnerOf is a file owner as the one for whom trees are shown and restores are done.
func OwnerOf(p *catalog.Person) *Owner {
	return &Owner{Name: p.Name, Person: rights.Person{UID: uint32(p.UID), GIDs: p.GIDs.V}, Grants: p.Grants.V}
}

func personView(p *catalog.Person) api.Person {
	v := api.Person{Name: p.Name, Role: p.Role, GIDs: append([]uint32{}, p.GIDs.V...), Grants: []api.FolderGrant{},
		Made: p.Made.Time}
	if p.UID >= 0 {
		uid := uint32(p.UID)
		v.UID = &uid
	}
	for volume, paths := range p.Grants.V {
		g := api.FolderGrant{Volume: volume, Paths: []string{}}
		for _, at := range paths {
			g.Paths = append(g.Paths, phrase.Printable([]byte(at)))
		}
		v.Grants = append(v.Grants, g)
	}
	slices.SortFunc(v.Grants, func(a, b api.FolderGrant) int { return strings.Compare(a.Volume, b.Volume) })
	return v
}

// People lists who may sign in.
func (s *Service) People() ([]api.Person, error) {
	rows, err := s.Catalog.People()
	out := make([]api.Person, len(rows))
	for i, p := range rows {
		out[i] = personView(p)
	}
	return out, err
}

// AddPerson lets someone sign in.
func (s *Service) AddPerson(ask api.PersonAdd) (*api.Person, error) {
	if err := policy.CheckName("person", ask.Name); err != nil {
		return nil, refusal.Wrap(refusal.Misuse, err)
	}
	if _, err := s.Catalog.Person(ask.Name); err == nil {
		return nil, refusal.Conflictf("there is a person %s already: candid person remove %s first, or change that one "+
			"with candid person change %s", ask.Name, ask.Name, ask.Name)
	}
	tokens, err := s.Catalog.Tokens()
	if err != nil {
		return nil, err
	}
	if slices.ContainsFunc(tokens, func(t *catalog.Token) bool { return t.Name == ask.Name }) {
		return nil, refusal.Conflictf("there is a token %q: what it did and what %s does could not be told apart; remove "+
			"it first, with candid token remove %s", ask.Name, ask.Name, ask.Name)
	}
	p := &catalog.Person{Name: ask.Name, UID: -1, Made: catalog.At(s.Clock.Now()),
		GIDs: catalog.JSON[[]uint32]{V: []uint32{}}, Grants: catalog.JSON[map[string][]string]{V: map[string][]string{}}}
	if err := s.setPerson(p, api.PersonChange{Role: ask.Role, Password: ask.Password, UID: ask.UID,
		GIDs: ask.GIDs}); err != nil {
		return nil, err
	}
	if p.Secret == "" {
		return nil, refusal.Badf("%s needs a password", ask.Name)
	}
	if err := s.Catalog.AddPerson(p); err != nil {
		return nil, err
	}
	v := personView(p)
	return &v, nil
}

// ChangePerson changes what is given of a person. A new password or role signs the person
// out everywhere.
func (s *Service) ChangePerson(name string, ask api.PersonChange) (*api.Person, error) {
	p, err := s.Catalog.Person(name)
	if err != nil {
		return nil, err
	}
	if err := s.setPerson(p, ask); err != nil {
		return nil, err
	}
	if err := s.Catalog.ChangePerson(p, ask.Password != "" || ask.Role != ""); err != nil {
		return nil, err
	}
	v := personView(p)
	return &v, nil
}

func (s *Service) setPerson(p *catalog.Person, ask api.PersonChange) error {
	switch ask.Role {
	case Administrator, Operator, Auditor, FileOwner:
		p.Role = ask.Role
	case "":
	default:
		return refusal.Badf("role %q: it must be administrator, operator, auditor or file owner", ask.Role)
	}
	if p.Role == "" {
		return refusal.Badf("say the role of %s: administrator, operator, auditor or file owner", p.Name)
	}
	if n := len(ask.Password); n > 0 {
		if n < leastPassword || n > mostPassword {
			return refusal.Badf("the password has %d bytes: give %d to %d", n, leastPassword, mostPassword)
		}
		p.Secret = hashPassword(ask.Password)
	}
	if ask.UID != nil {
		p.UID, p.GIDs.V = int64(*ask.UID), ask.GIDs
	}
	if p.Role != FileOwner {
		return nil
	}
	if p.UID < 0 {
		if err := lookUp(p); err != nil {
			return err
		}
	}
	if p.UID == 0 {
		return refusal.Badf("%s cannot be the file owner root, who may do anything: give the role operator or "+
			"administrator instead", p.Name)
	}
	if len(p.GIDs.V) == 0 || len(p.GIDs.V) > 1000 {
		return refusal.Badf("say with --gid in which groups user %d is, the main one first", p.UID)
	}
	return nil
}

// lookUp finds a person among the users of this host.
func lookUp(p *catalog.Person) error {
	u, err := user.Lookup(p.Name)
	if err != nil {
		return refusal.Badf("this host knows no user %s: say with --uid and --gid who that is on the files", p.Name)
	}
	ids, err := u.GroupIds()
	if err != nil {
		return refusal.Badf("the groups of user %s cannot be found (%s): say them with --uid and --gid", p.Name, err)
	}
	if p.UID, err = strconv.ParseInt(u.Uid, 10, 64); err != nil {
		return err
	}
	p.GIDs.V = nil
	for _, id := range append([]string{u.Gid}, ids...) {
		n, err := strconv.ParseUint(id, 10, 32)
		if err != nil {
			return err
		}
		if !slices.Contains(p.GIDs.V, uint32(n)) {
			p.GIDs.V = append(p.GIDs.V, uint32(n))
		}
	}
	return nil
}

// GrantFolders lets a file owner see folders of a volume, or no longer.
func (s *Service) GrantFolders(name string, ask api.FolderGrantAsk) (*api.Person, error) {
	p, err := s.Catalog.Person(name)
	if err != nil {
		return nil, err
	}
	if p.Role != FileOwner {
		return nil, refusal.Badf("%s is %s, whom grants of folders do not bound: only file owners have them", name,
			withArticle(p.Role))
	}
	if !ask.End {
		if _, err := s.Catalog.Volume(ask.Volume); err != nil {
			return nil, err
		}
	}
	if len(ask.Paths) == 0 {
		ask.Paths = []string{""}
	}
	have := p.Grants.V[ask.Volume]
	for _, raw := range ask.Paths {
		rel, err := tree.CleanPath(phrase.RawPath(raw))
		if err != nil {
			return nil, refusal.Wrap(refusal.Misuse, err)
		}
		i := slices.Index(have, rel)
		switch {
		case ask.End && i < 0:
			return nil, refusal.Missingf("%s was not granted %s of %s: candid person list shows what was", name, orTop(raw),
				ask.Volume)
		case ask.End:
			have = slices.Delete(have, i, i+1)
		case i < 0:
			have = append(have, rel)
		}
	}
	if p.Grants.V == nil {
		p.Grants.V = map[string][]string{}
	}
	if p.Grants.V[ask.Volume] = have; len(have) == 0 {
		delete(p.Grants.V, ask.Volume)
	}
	if err := s.Catalog.ChangePerson(p, false); err != nil {
		return nil, err
	}
	v := personView(p)
	return &v, nil
}

func orTop(p string) string {
	if p == "" {
		return "the whole"
	}
	return p
}

func withArticle(word string) string {
	if strings.ContainsAny(word[:1], "aeiou") {
		return "an " + word
	}
	return "a " + word
}

// RemovePerson lets someone sign in no more.
func (s *Service) RemovePerson(name string) error {
	if _, err := s.Catalog.Person(name); err != nil {
		return err
	}
	return s.Catalog.RemovePerson(name)
}

// SetOwnPassword changes a person's password by that person.
func (s *Service) SetOwnPassword(name, old, password, from string) error {
	if _, err := s.checkPerson(name, old, from); err != nil {
		return err
	}
	_, err := s.ChangePerson(name, api.PersonChange{Password: password})
	return err
}
