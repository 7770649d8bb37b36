package authority

import (
	"crypto/ed25519"
	"fmt"
	"slices"

	"candidharbor/core/lineage"
	"candidharbor/core/object"
)

// Chain has the records of one history whose chains are whole.
type Chain struct {
	Lineage object.LineageID
	Origin  string // the site that began the history
	known   map[object.ID]*Record
	top     *Record
	line    []*Record // that the highest stands on, the first first, itself last
}

// NewChain is the chain of a history of which no record is known.
func NewChain(of object.LineageID, origin string) *Chain {
	return &Chain{Lineage: of, Origin: origin, known: map[object.ID]*Record{}}
}

// Refused says why a record does not count.
type Refused struct {
	Code Code
	Text string
}

func (r *Refused) Error() string { return r.Text }

// Code is why a record does not count.
type Code string

// The codes of Refused.
const (
	NoRecordBefore Code = "no record before" // the one before is not known, or does not count itself
	MayNotSign     Code = "may not sign"     // who signed it is not listed by the record before
	NotAfter       Code = "not after"        // its term or edition does not follow on the one before
	OfOther        Code = "of another history"
)

func refuse(code Code, format string, args ...any) error {
	return &Refused{code, fmt.Sprintf(format, args...)}
}

// Add takes a record in. It reports whether another record holds now. Those that it stands on come before it.
func (c *Chain) Add(r *Record, vouch Vouch) (changed bool, err error) {
	if _, has := c.known[r.ID]; has {
		return false, nil
	}
	if err := c.Check(r, vouch); err != nil {
		return false, err
	}
	return c.add(r), nil
}

// Restore takes in records that counted before, in any order. What stands on nothing is left out.
func (c *Chain) Restore(all []*Record) {
	for again := true; again; {
		again = false
		for _, r := range all {
			m := r.Of(c.Lineage)
			if m == nil || c.Has(r.ID) || !m.Before.IsZero() && !c.Has(m.Before) {
				continue
			}
			c.add(r)
			again = true
		}
	}
}

// add takes in a record that counts, and reports whether it holds now.
func (c *Chain) add(r *Record) bool {
	c.known[r.ID] = r
	if c.top != nil && compare(c.Lineage, c.top, r) >= 0 {
		return false
	}
	c.top, c.line = r, nil
	for at := r; at != nil; at = c.known[at.Of(c.Lineage).Before] {
		c.line = append(c.line, at)
	}
	slices.Reverse(c.line)
	return true
}

// Check says why a record does not count, if it does not.
func (c *Chain) Check(r *Record, vouch Vouch) error {
	m := r.Of(c.Lineage)
	if m == nil {
		return refuse(OfOther, "the record %.12s says nothing of the history", r.ID)
	}
	if m.Before.IsZero() {
		switch {
		case m.Edition != 1 || m.Term > MaxStep || r.Site != c.Origin:
			return refuse(NotAfter, "the first record of a history of %s names %s", c.Origin, r.Site)
		case !r.signedBy(c.Origin, vouch):
			return refuse(MayNotSign, "the first record of the history is not signed by %s", c.Origin)
		}
		return nil
	}
	p := c.known[m.Before]
	if p == nil {
		return refuse(NoRecordBefore, "the record before %.12s is not known", r.ID)
	}
	before := p.Of(c.Lineage)
	signer := p.member(r.Signer, vouch)
	if m.Term == before.Term {
		switch {
		case r.Site != p.Site || m.Edition != before.Edition+1:
			return refuse(NotAfter, "the record %.12s does not follow on the one before", r.ID)
		case signer != p.Site:
			return refuse(MayNotSign, "a record of term %d is not signed by %s, which is active in it", m.Term, p.Site)
		}
		return nil
	}
	switch {
	case m.Term > before.Term+MaxStep:
		return refuse(NotAfter, "the record %.12s goes from term %d to %d at once", r.ID, before.Term, m.Term)
	case m.Term < before.Term || m.Edition != 1:
		return refuse(NotAfter, "the record %.12s goes back from term %d to %d", r.ID, before.Term, m.Term)
	case signer == "":
		return refuse(MayNotSign, "who signed term %d is none of the sites that might", m.Term)
	case signer != r.Site && (signer != p.Site || !p.May(r.Site)):
		return refuse(MayNotSign, "%s signed term %d for %s: only the active site hands over, to one that may", signer,
			m.Term, r.Site)
	}
	// A site that a later edition of the same term does not list any more is a stranger, for those who know that edition.
	for _, o := range c.known {
		if x := o.Of(c.Lineage); x.Term == before.Term && o.Site == p.Site && x.Edition > before.Edition && !o.May(r.Site) {
			return refuse(MayNotSign, "%s may not take the history over any more", r.Site)
		}
	}
	return nil
}

// signedBy reports whether the key that signed a record is its own of a site, or one that others vouch for.
func (r *Record) signedBy(site string, vouch Vouch) bool {
	return vouch(site, r.Signer)
}

// Top is the record that holds, or nil.
func (c *Chain) Top() *Record { return c.top }

// Line are the records that the one that holds stands on, the first first, itself last.
func (c *Chain) Line() []*Record { return c.line }

// Active is the site that is active, and Term since which term.
func (c *Chain) Active() string {
	if c.top == nil {
		return c.Origin
	}
	return c.top.Site
}

// Term is the term of the record that holds; 0: there is none.
func (c *Chain) Term() uint64 {
	if c.top == nil {
		return 0
	}
	return c.top.Of(c.Lineage).Term
}

// All are all records whose chains are whole, each after the one that it stands on.
func (c *Chain) All() []*Record {
	all := make([]*Record, 0, len(c.known))
	for _, r := range c.known {
		all = append(all, r)
	}
	slices.SortFunc(all, func(a, b *Record) int { return compare(c.Lineage, a, b) })
	return all
}

// Has reports whether a record is known.
func (c *Chain) Has(id object.ID) bool { return c.known[id] != nil }

// Next is the move to another term, above all that are known. There is a record before it: the first one only lists.
func (c *Chain) Next(above uint64) Move {
	m := Move{Lineage: c.Lineage, Term: max(above, 1) + 1, Edition: 1}
	if c.top != nil {
		m.Before, m.Term = c.top.ID, max(above, c.Term())+1
	}
	return m
}

// NextEdition is the move of a record by which the sites that may sign the next are others.
func (c *Chain) NextEdition() Move {
	m := Move{Lineage: c.Lineage, Term: 1, Edition: 1}
	if c.top != nil {
		m = *c.top.Of(c.Lineage)
		m.Before, m.Edition = c.top.ID, m.Edition+1
	}
	return m
}

// InLine reports whether a snapshot at a place of the history, that a site took, is part of what the active side goes
// on from. What is not was left behind.
func (c *Chain) InLine(at lineage.Position, site string) bool {
	owner := c.Origin
	for _, r := range c.line {
		m := r.Of(c.Lineage)
		if m.Term <= at.Term {
			owner = r.Site
			continue
		}
		if !m.From.IsZero() && at.Compare(m.FromPosition()) > 0 {
			return false
		}
	}
	return owner == site
}

// MayHaveTaken reports whether a record, of whatever branch, made a site active in a term, or before it, so that it may
// have taken snapshots of that term.
func (c *Chain) MayHaveTaken(term uint64, site string, key ed25519.PublicKey, vouch Vouch) bool {
	for _, r := range c.known {
		if r.Site != site || r.Of(c.Lineage).Term > term {
			continue
		}
		if vouch(site, key) || slices.ContainsFunc(r.Next, func(m Member) bool {
			return m.Site == site && key.Equal(ed25519.PublicKey(m.Key))
		}) {
			return true
		}
	}
	return false
}
