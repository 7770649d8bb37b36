package access

import (
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"

	lru "github.com/hashicorp/golang-lru/v2"
	"golang.org/x/crypto/argon2"
)

// The cost of a password (RFC 9106 §4, the second recommended option).
const (
	argonTime    = 3
	argonMemory  = 64 << 10 // KiB
	argonThreads = 2
)

// loginThrottle holds back who guesses passwords. What strangers can fill is bounded and forgets
// what was used least of late.
type loginThrottle struct {
	slots chan struct{}                // of the memory that a check takes
	tries *lru.Cache[string, *tried]   // by name and address, and by address
	good  *lru.Cache[string, struct{}] // names and addresses that signed in
	known *lru.Cache[object.ID, known] // what was found right of late, by keyed sum
	mu    sync.Mutex
	busy  map[string]int // checks of a person that wait or are being made
	took  time.Duration  // the last check
	key   [32]byte
}

type tried struct {
	count int
	last  time.Time
	until time.Time
}

type known struct {
	secret string
	until  time.Time
}

func newLoginThrottle() *loginThrottle {
	s := &loginThrottle{slots: make(chan struct{}, 2), busy: map[string]int{}, took: 100 * time.Millisecond}
	s.tries, _ = lru.New[string, *tried](mostTried)
	s.good, _ = lru.New[string, struct{}](mostKnown)
	s.known, _ = lru.New[object.ID, known](mostKnown)
	rand.Read(s.key[:])
	return s
}

// count counts a try before it is judged, so that many at once are not all judged. It returns
// how long to wait when there were too many.
func (g *loginThrottle) count(key string, free int, most time.Duration) time.Duration {
	g.mu.Lock()
	defer g.mu.Unlock()
	now := time.Now()
	t, ok := g.tries.Get(key)
	if !ok || now.Sub(t.last) > triesForgotten {
		t = &tried{}
		g.tries.Add(key, t)
	}
	if wait := t.until.Sub(now); wait > 0 {
		return wait
	}
	t.last = now
	if t.count++; t.count >= free {
		t.until = now.Add(min(most, time.Second<<min(t.count-free, 10)))
	}
	return 0
}

// waits reports whether too many tries were wrong: then the right one waits as well, or
// guessing would tell.
func (g *loginThrottle) waits(key string) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	t, ok := g.tries.Get(key)
	return ok && time.Now().Before(t.until)
}

// enter lets few checks of one person in at once, so that those of others get their turn.
func (g *loginThrottle) enter(name string) (leave func(), ok bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.busy[name] >= mostAtOnce {
		return nil, false
	}
	g.busy[name]++
	return func() {
		g.mu.Lock()
		defer g.mu.Unlock()
		if g.busy[name]--; g.busy[name] == 0 {
			delete(g.busy, name)
		}
	}, true
}

// check computes whether a password is right, when there is memory for it.
func (g *loginThrottle) check(secret, password string) bool {
	begin := time.Now()
	g.slots <- struct{}{}
	right := checkPassword(secret, password)
	<-g.slots
	g.mu.Lock()
	g.took = time.Since(begin)
	g.mu.Unlock()
	return right
}

// pretend takes as long as a check, for a name that nobody has, and nothing else.
func (g *loginThrottle) pretend() {
	g.mu.Lock()
	took := g.took
	g.mu.Unlock()
	time.Sleep(min(took, time.Second))
}

func hashPassword(password string) string {
	salt := make([]byte, 16)
	rand.Read(salt)
	sum := argon2.IDKey([]byte(password), salt, argonTime, argonMemory, argonThreads, 32)
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, argonMemory, argonTime, argonThreads,
		base64.RawStdEncoding.EncodeToString(salt), base64.RawStdEncoding.EncodeToString(sum))
}

func checkPassword(secret, password string) bool {
	var version, memory, passes, threads int
	parts := strings.Split(secret, "$")
	if len(parts) != 6 || parts[1] != "argon2id" {
		return false
	}
	if _, err := fmt.Sscanf(parts[2]+" "+parts[3], "v=%d m=%d,t=%d,p=%d", &version, &memory, &passes,
		&threads); err != nil || version != argon2.Version {
		return false
	}
	salt, err1 := base64.RawStdEncoding.DecodeString(parts[4])
	sum, err2 := base64.RawStdEncoding.DecodeString(parts[5])
	if err1 != nil || err2 != nil || len(sum) == 0 {
		return false
	}
	return subtle.ConstantTimeCompare(sum, argon2.IDKey([]byte(password), salt, uint32(passes), uint32(memory),
		uint8(threads), uint32(len(sum)))) == 1
}

const (
	freeTries      = 5               // wrong passwords of a person from an address before either has to wait
	freeFrom       = 20              // of all persons from an address
	mostWait       = 5 * time.Minute // between tries of a person
	mostWaitFrom   = time.Minute     // between tries from an address
	triesForgotten = time.Hour
	mostTried      = 20_000
	mostAtOnce     = 3
	knownFor       = 5 * time.Minute // a password that was right is not computed anew
	mostKnown      = 1000
)

// errWrongPassword is the answer for names that do not exist too.
var errWrongPassword = errors.New("the name or the password is wrong")

func tooMany(wait time.Duration) error {
	return refusal.Wrap(refusal.Busy, fmt.Errorf("too many tries: wait %s and try again", phrase.Ago(wait)))
}

// checkPerson finds a person by name and password. from is where the request came from.
func (s *Service) checkPerson(name, password, from string) (*catalog.Person, error) {
	g := s.throttle
	p, err := s.Catalog.Person(name)
	if err != nil && !errors.Is(err, catalog.ErrNone) {
		return nil, err
	}
	pair := name + " " + from
	if err != nil {
		// In all that can be seen from outside as for a name that somebody has.
		if wait := g.count(pair, freeTries, mostWait); wait > 0 {
			return nil, tooMany(wait)
		}
		if g.waits(from) {
			return nil, tooMany(time.Second)
		}
		leave, ok := g.enter(name)
		if !ok {
			return nil, tooMany(time.Second)
		}
		defer leave()
		g.pretend()
		return nil, refusal.Wrap(refusal.Refused, errWrongPassword)
	}
	sum := object.Sum([]byte(string(g.key[:]) + name + "\x00" + password))
	if k, ok := g.known.Get(sum); ok && k.secret == p.Secret && time.Now().Before(k.until) && !g.waits(pair) {
		return p, nil
	}
	if wait := g.count(pair, freeTries, mostWait); wait > 0 {
		return nil, tooMany(wait)
	}
	if !g.good.Contains(pair) { // who signed in from there before is not held up by strangers
		if wait := g.count(from, freeFrom, mostWaitFrom); wait > 0 {
			return nil, tooMany(wait)
		}
	}
	leave, ok := g.enter(name)
	if !ok {
		return nil, tooMany(time.Second)
	}
	defer leave()
	if len(password) > mostPassword {
		g.pretend()
		return nil, refusal.Wrap(refusal.Refused, errWrongPassword)
	}
	if !g.check(p.Secret, password) {
		return nil, refusal.Wrap(refusal.Refused, errWrongPassword)
	}
	g.tries.Remove(pair)
	g.good.Add(pair, struct{}{})
	g.known.Add(sum, known{p.Secret, time.Now().Add(knownFor)})
	return p, nil
}

// SignIn returns the text of a new session of a person.
func (s *Service) SignIn(name, password, from string) (string, *Caller, error) {
	p, err := s.checkPerson(name, password, from)
	if err != nil {
		return "", nil, err
	}
	text, err := s.newSession(&catalog.Session{Person: p.Name})
	return text, callerOf(p, "console"), err
}

// SignInByToken returns the text of a new session of whoever shows a token; nil when it is none.
// It ends with the token, and does not show it.
func (s *Service) SignInByToken(token string) (string, *Caller, error) {
	c := s.ByText(token)
	if c == nil || !strings.HasPrefix(token, "cht_") {
		return "", nil, nil
	}
	text, err := s.newSession(&catalog.Session{Token: object.Sum([]byte(token)).String()})
	return text, c, err
}

func (s *Service) newSession(row *catalog.Session) (text string, err error) {
	var b [24]byte
	rand.Read(b[:])
	text = "chs_" + hex.EncodeToString(b[:])
	now := s.Clock.Now()
	row.Hash, row.Made, row.Used = object.Sum([]byte(text)).String(), catalog.At(now), catalog.At(now)
	return text, s.Catalog.PutSession(row, catalog.At(now.Add(-sessionIdle)))
}

// SignOut ends a session.
func (s *Service) SignOut(text string) error {
	return s.Catalog.EndSession(object.Sum([]byte(text)).String())
}

// ByPassword finds who a name and password belong to; nil when they are wrong.
func (s *Service) ByPassword(name, password, from string) (*Caller, error) {
	p, err := s.checkPerson(name, password, from)
	if err != nil {
		return nil, err
	}
	return callerOf(p, "password"), nil
}

// ByText finds who shows the text of a token or of a session; nil when it is neither.
func (s *Service) ByText(text string) *Caller {
	hash := object.Sum([]byte(text)).String()
	switch {
	case strings.HasPrefix(text, "cht_"):
		return s.byToken(hash)
	case strings.HasPrefix(text, "chs_"):
		row, err := s.Catalog.Session(hash)
		if err != nil {
			return nil
		}
		now := s.Clock.Now()
		if now.Sub(row.Used.Time) > sessionIdle || now.Sub(row.Made.Time) > sessionMost {
			return nil
		}
		var c *Caller
		if row.Person == "" {
			c = s.byToken(row.Token)
		} else if p, err := s.Catalog.Person(row.Person); err == nil {
			c = callerOf(p, "console")
		}
		if c == nil {
			return nil
		}
		if now.Sub(row.Used.Time) > sessionTouch {
			row.Used = catalog.At(now)
			if err := s.Catalog.PutSession(row, catalog.At(now.Add(-sessionIdle))); err != nil {
				s.Log.Warn("that a session is used could not be noted", "person", c.Name, "error", err)
			}
		}
		return c
	}
	return nil
}

func (s *Service) byToken(hash string) *Caller {
	t, err := s.Catalog.TokenByHash(hash)
	if err != nil || s.tokenEnded(t) {
		return nil
	}
	if t.Person == "" {
		return &Caller{Name: t.Name, Role: Administrator, Via: "token"}
	}
	p, err := s.Catalog.Person(t.Person)
	if err != nil {
		return nil
	}
	return callerOf(p, "token "+t.Name)
}

// CountTry counts a try of something that is guessed at, by whom it is made; it fails when they
// come too fast.
func (s *Service) CountTry(by string) error {
	if wait := s.throttle.count(by, freeTries, mostWait); wait > 0 {
		return tooMany(wait)
	}
	return nil
}

// ForgetTries is for who was right.
func (s *Service) ForgetTries(by string) { s.throttle.tries.Remove(by) }
