package site

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

	"golang.org/x/crypto/argon2"
)

// The cost of a password (RFC 9106 §4, the second recommended option).
const (
	argonTime    = 3
	argonMemory  = 64 << 10 // KiB
	argonThreads = 2
)

// signing holds back who guesses passwords.
type signing struct {
	slots chan struct{} // of the memory that a check takes
	mu    sync.Mutex
	fails map[string]*failures // by name and address
	known map[object.ID]known  // what was found right of late, by keyed sum
	key   [32]byte
}

type failures struct {
	count int
	until time.Time
}

type known struct {
	secret string
	until  time.Time
}

func newSigning() *signing {
	s := &signing{slots: make(chan struct{}, 2), fails: map[string]*failures{}, known: map[object.ID]known{}}
	rand.Read(s.key[:])
	return s
}

func hashPassword(password string) string {
	salt := make([]byte, 16)
	rand.Read(salt)
	sum := argon2.IDKey([]byte(password), salt, argonTime, argonMemory, argonThreads, 32)
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, argonMemory, argonTime, argonThreads, base64.RawStdEncoding.EncodeToString(salt), base64.RawStdEncoding.EncodeToString(sum))
}

func checkPassword(secret, password string) bool {
	var version, memory, passes, threads int
	parts := strings.Split(secret, "$")
	if len(parts) != 6 || parts[1] != "argon2id" {
		return false
	}
	if _, err := fmt.Sscanf(parts[2]+" "+parts[3], "v=%d m=%d,t=%d,p=%d", &version, &memory, &passes, &threads); err != nil || version != argon2.Version {
		return false
	}
	salt, err1 := base64.RawStdEncoding.DecodeString(parts[4])
	sum, err2 := base64.RawStdEncoding.DecodeString(parts[5])
	if err1 != nil || err2 != nil || len(sum) == 0 {
		return false
	}
	return subtle.ConstantTimeCompare(sum, argon2.IDKey([]byte(password), salt, uint32(passes), uint32(memory), uint8(threads), uint32(len(sum)))) == 1
}

const (
	freeTries  = 5               // wrong passwords before anyone has to wait
	mostWait   = 5 * time.Minute // between tries
	knownFor   = 5 * time.Minute // a password that was right is not computed anew
	mostKnown  = 1000
	nobodySalt = "$argon2id$v=19$m=65536,t=3,p=2$AAAAAAAAAAAAAAAAAAAAAA$AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA"
)

// errWrongPassword is told for names that do not exist too.
var errWrongPassword = errors.New("the name or the password is wrong")

// checkPerson finds a person by name and password. from is where the request came from.
func (s *Site) checkPerson(name, password, from string) (*catalog.Person, error) {
	g := s.signing
	key := name + " " + from
	now := time.Now()
	g.mu.Lock()
	f := g.fails[key]
	if f != nil && now.Before(f.until) {
		g.mu.Unlock()
		return nil, &Error{Busy, fmt.Errorf("too many wrong passwords: wait %s and try again", ago(f.until.Sub(now)))}
	}
	g.mu.Unlock()
	p, err := s.cat.Person(name)
	if err != nil && !errors.Is(err, catalog.ErrNone) {
		return nil, err
	}
	secret := nobodySalt
	if err == nil {
		secret = p.Secret
	}
	sum := object.Sum([]byte(string(g.key[:]) + name + "\x00" + password))
	g.mu.Lock()
	k, ok := g.known[sum]
	g.mu.Unlock()
	right := ok && k.secret == secret && now.Before(k.until)
	if !right && len(password) <= mostPassword {
		g.slots <- struct{}{}
		right = checkPassword(secret, password)
		<-g.slots
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	if err != nil || !right {
		if len(g.fails) > mostKnown {
			clear(g.fails)
		}
		if f = g.fails[key]; f == nil {
			f = &failures{}
			g.fails[key] = f
		}
		if f.count++; f.count >= freeTries {
			f.until = time.Now().Add(min(mostWait, time.Second<<min(f.count-freeTries, 10)))
		}
		return nil, &Error{Refused, errWrongPassword}
	}
	delete(g.fails, key)
	if len(g.known) > mostKnown {
		clear(g.known)
	}
	g.known[sum] = known{secret, now.Add(knownFor)}
	return p, nil
}

// SignIn returns the text of a new session of a person.
func (s *Site) SignIn(name, password, from string) (string, *Caller, error) {
	p, err := s.checkPerson(name, password, from)
	if err != nil {
		return "", nil, err
	}
	var b [24]byte
	rand.Read(b[:])
	text := "chs_" + hex.EncodeToString(b[:])
	now := s.clock.Now()
	row := &catalog.Session{Hash: object.Sum([]byte(text)).String(), Person: p.Name, Made: catalog.At(now), Used: catalog.At(now)}
	if err := s.cat.PutSession(row, catalog.At(now.Add(-sessionIdle))); err != nil {
		return "", nil, err
	}
	return text, callerOf(p, "console"), nil
}

// SignOut ends a session.
func (s *Site) SignOut(text string) error {
	return s.cat.EndSession(object.Sum([]byte(text)).String())
}

// ByPassword finds who a name and password belong to; nil when they are wrong.
func (s *Site) ByPassword(name, password, from string) (*Caller, error) {
	p, err := s.checkPerson(name, password, from)
	if err != nil {
		return nil, err
	}
	return callerOf(p, "password"), nil
}

// ByText finds who shows the text of a token or of a session; nil when it is neither.
func (s *Site) ByText(text string) *Caller {
	hash := object.Sum([]byte(text)).String()
	switch {
	case strings.HasPrefix(text, "cht_"):
		t, err := s.cat.TokenByHash(hash)
		if err != nil {
			return nil
		}
		if t.Person == "" {
			return &Caller{Name: t.Name, Role: Administrator, Via: "token"}
		}
		p, err := s.cat.Person(t.Person)
		if err != nil {
			return nil
		}
		return callerOf(p, "token "+t.Name)
	case strings.HasPrefix(text, "chs_"):
		row, err := s.cat.Session(hash)
		if err != nil {
			return nil
		}
		now := s.clock.Now()
		if now.Sub(row.Used.Time) > sessionIdle || now.Sub(row.Made.Time) > sessionMost {
			return nil
		}
		p, err := s.cat.Person(row.Person)
		if err != nil {
			return nil
		}
		if now.Sub(row.Used.Time) > sessionTouch {
			row.Used = catalog.At(now)
			if err := s.cat.PutSession(row, catalog.At(now.Add(-sessionIdle))); err != nil {
				s.log.Warn("that a session is used could not be noted", "person", p.Name, "error", err)
			}
		}
		return callerOf(p, "console")
	}
	return nil
}
