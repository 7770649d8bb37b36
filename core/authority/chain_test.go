package authority

import (
	"crypto/ed25519"
	"crypto/sha256"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"testing"

	"candidharbor/core/lineage"
	"candidharbor/core/object"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func keyOf(name string) ed25519.PrivateKey {
	seed := sha256.Sum256([]byte(name))
	return ed25519.NewKeyFromSeed(seed[:])
}

func vouches(site string, key ed25519.PublicKey) bool {
	return keyOf(site).Public().(ed25519.PublicKey).Equal(key)
}

func strangerTo(string, ed25519.PublicKey) bool { return false }

func members(names ...string) (out []Member) {
	slices.Sort(names)
	for _, n := range names {
		out = append(out, Member{Site: n, Key: keyOf(n).Public().(ed25519.PublicKey)})
	}
	return out
}

var history = object.LineageID{7}

func signed(t require.TestingT, by, site string, m Move, next ...string) *Record {
	r, err := Sign(keyOf(by), &Record{Site: site, Next: members(next...), Moves: []Move{m}})
	require.NoError(t, err)
	return r
}

// Three sites hand over, claim without knowing of each other, list others, learn in any order, and lose what they knew.
// Whoever knows the same agrees; all agree in the end; what is in line is in line for all.
func TestSitesAgree(t *testing.T) {
	names := []string{"larkfield", "mereside", "stonewick"}
	rapid.Check(t, func(t *rapid.T) {
		chains := map[string]*Chain{}
		for _, n := range names {
			chains[n] = NewChain(history, names[0])
		}
		taken := uint64(0)
		all := map[object.ID]*Record{}
		put := func(at string, r *Record) {
			changed, err := chains[at].Add(r, vouches)
			require.NoError(t, err)
			require.True(t, changed, "what a site signs itself follows on what holds there")
			all[r.ID] = r
		}
		put(names[0], signed(t, names[0], names[0], chains[names[0]].NextEdition(), names...))
		learn := func(to string, from []*Record) {
			for again := true; again; {
				again = false
				for _, r := range from {
					had := chains[to].Has(r.ID)
					_, err := chains[to].Add(r, vouches)
					var no *Refused
					if errors.As(err, &no) {
						require.Equal(t, NoRecordBefore, no.Code)
					}
					again = again || err == nil && !had
				}
			}
		}
		steps := rapid.IntRange(1, 25).Draw(t, "steps")
		for range steps {
			at := rapid.SampledFrom(names).Draw(t, "at")
			c := chains[at]
			taken++
			from := lineage.Position{Term: max(c.Term(), 1), Sequence: taken}
			move := c.Next(0)
			move.From, move.FromTerm, move.FromSeq = object.Sum([]byte(fmt.Sprint(taken))), from.Term, from.Sequence
			switch act := rapid.SampledFrom([]string{"claim", "hand over", "list", "tell", "lose"}).Draw(t, "act"); {
			case act == "claim" && c.Top() != nil:
				put(at, signed(t, at, at, move, names...))
			case act == "hand over" && c.Top() != nil && c.Active() == at:
				to := rapid.SampledFrom(names).Draw(t, "to")
				put(at, signed(t, at, to, move, names...))
				require.Equal(t, to, c.Active(), "who hands over is passive with the record")
			case act == "list" && c.Active() == at && c.Top() != nil:
				put(at, signed(t, at, at, c.NextEdition(), names...))
			case act == "tell":
				learn(rapid.SampledFrom(names).Draw(t, "to"), c.All())
			case act == "lose" && at != names[0]:
				chains[at] = NewChain(history, names[0])
			}
		}
		for _, n := range names {
			some := slices.Collect(maps.Values(all))
			r := rand.New(rand.NewPCG(uint64(steps), taken))
			r.Shuffle(len(some), func(i, k int) { some[i], some[k] = some[k], some[i] })
			learn(n, some)
		}
		first := chains[names[0]]
		for _, n := range names[1:] {
			c := chains[n]
			require.Equal(t, first.Top().ID, c.Top().ID)
			require.Equal(t, first.Line(), c.Line())
		}
		for _, r := range first.All() {
			require.LessOrEqual(t, compare(history, r, first.Top()), 0)
		}
		// Only what one site took of each term is in line, and of that no more than what was gone on from.
		for term := uint64(1); term <= first.Term(); term++ {
			at, owners := lineage.Position{Term: term, Sequence: 1}, 0
			for _, n := range names {
				if first.InLine(at, n) {
					owners++
				}
			}
			require.LessOrEqual(t, owners, 1, "term %d", term)
			require.True(t, term < first.Term() || owners == 1)
		}
	})
}

// What a stranger, an outsider, or a site out of its place signs counts for nothing.
func TestForged(t *testing.T) {
	c := NewChain(history, "home")
	add := func(r *Record) error { _, err := c.Add(r, vouches); return err }
	code := func(err error) Code {
		var no *Refused
		require.ErrorAs(t, err, &no)
		return no.Code
	}
	require.Equal(t, MayNotSign, code(add(signed(t, "evil", "home", c.NextEdition(), "evil", "home"))))
	require.Equal(t, NotAfter, code(add(signed(t, "evil", "evil", c.NextEdition(), "evil"))))
	first := signed(t, "home", "home", c.NextEdition(), "dr", "home", "vault")
	require.NoError(t, add(first))
	next := c.Next(4)
	require.Equal(t, uint64(5), next.Term)
	for say, r := range map[string]*Record{
		"a stranger takes over":                         signed(t, "evil", "evil", next, "evil"),
		"a stranger signs for one that may":             signed(t, "evil", "dr", next, "dr"),
		"one that may hands over what is not its own":   signed(t, "vault", "dr", next, "dr", "vault"),
		"home hands over to a stranger":                 signed(t, "home", "evil", next, "evil", "home"),
		"one that may changes who may":                  signed(t, "dr", "home", c.NextEdition(), "dr", "evil", "home"),
		"a stranger's chain ends in one that may":       signed(t, "evil", "dr", next, "dr", "evil"),
		"home's edition is signed by one who might not": signed(t, "vault", "home", c.NextEdition(), "home", "vault"),
	} {
		require.Equal(t, MayNotSign, code(add(r)), say)
	}
	back := next
	back.Term = 0
	_, err := Sign(keyOf("dr"), &Record{Site: "dr", Next: members("dr"), Moves: []Move{back}})
	require.Error(t, err)
	skipped := c.NextEdition()
	skipped.Edition++
	require.Equal(t, NotAfter, code(add(signed(t, "home", "home", skipped, "home"))))
	far := next
	far.Term += MaxStep + 1
	require.Equal(t, NotAfter, code(add(signed(t, "dr", "dr", far, "dr"))), "nobody uses all terms up")
	unknown := next
	unknown.Before = object.Sum([]byte("nothing"))
	require.Equal(t, NoRecordBefore, code(add(signed(t, "dr", "dr", unknown, "dr"))))
	other := next
	other.Lineage[3]++
	require.Equal(t, OfOther, code(add(signed(t, "dr", "dr", other, "dr"))))

	// An altered record is refused when it is read.
	bent := slices.Clone(first.Raw)
	bent[len(bent)-80] ^= 1
	_, err = Read(bent)
	require.Error(t, err)

	// Who is listed no more may not take over, for those who know; a key that came later is vouched for.
	require.NoError(t, add(signed(t, "home", "home", c.NextEdition(), "home", "vault")))
	require.Equal(t, MayNotSign, code(add(signed(t, "dr", "dr", next, "dr", "home"))))
	_, err = c.Add(signed(t, "vault", "vault", c.Next(0), "home", "vault"), strangerTo)
	require.NoError(t, err, "the list has its key")
	require.True(t, c.MayHaveTaken(9, "vault", keyOf("vault").Public().(ed25519.PublicKey), strangerTo))
	require.False(t, c.MayHaveTaken(1, "vault", keyOf("vault").Public().(ed25519.PublicKey), strangerTo))
	require.False(t, c.MayHaveTaken(9, "vault", keyOf("evil").Public().(ed25519.PublicKey), vouches))
}

// What an active side did not have when it took over is left behind, also two terms later.
func TestInLine(t *testing.T) {
	c := NewChain(history, "home")
	at := func(term, seq uint64) lineage.Position { return lineage.Position{Term: term, Sequence: seq} }
	require.True(t, c.InLine(at(3, 9), "home"), "all is, while nobody took over")
	require.False(t, c.InLine(at(1, 1), "dr"))
	move := func(by, site string, from lineage.Position) {
		m := c.Next(0)
		m.From, m.FromTerm, m.FromSeq = object.Sum([]byte("x")), from.Term, from.Sequence
		_, err := c.Add(signed(t, by, site, m, "dr", "home", "vault"), vouches)
		require.NoError(t, err)
	}
	_, err := c.Add(signed(t, "home", "home", c.NextEdition(), "dr", "home", "vault"), vouches)
	require.NoError(t, err)
	move("dr", "dr", at(1, 10))
	require.True(t, c.InLine(at(1, 10), "home"))
	require.False(t, c.InLine(at(1, 11), "home"))
	require.True(t, c.InLine(at(2, 50), "dr"))
	require.False(t, c.InLine(at(2, 1), "home"), "it went on without knowing")
	move("vault", "vault", at(1, 7)) // it is behind, and takes over from there
	require.False(t, c.InLine(at(2, 50), "dr"))
	require.False(t, c.InLine(at(1, 8), "home"))
	require.True(t, c.InLine(at(1, 7), "home"))
	require.True(t, c.InLine(at(3, 1), "vault"))
}
