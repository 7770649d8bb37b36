package pairing

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"candidharbor/api"
	"candidharbor/core/ledger"
	"candidharbor/core/object"
	"candidharbor/internal/access"
	"candidharbor/internal/catalog"
)

// ledgerHead is the last entry of a ledger, as one site tells another.
type ledgerHead struct {
	N   int64     `cbor:"1,keyasint"`
	Sum object.ID `cbor:"2,keyasint"`
}

func (s *Service) ledgerHead() (h ledgerHead, err error) {
	rows, err := s.Catalog.Entries(catalog.EntryFilter{Limit: 1})
	if err != nil || len(rows) == 0 {
		return h, err
	}
	h.N = rows[0].N
	copy(h.Sum[:], rows[0].Sum)
	return h, nil
}

// witnessed is what this site saw last of a peer's ledger.
func (s *Service) witnessed(peer string) (h ledgerHead, err error) {
	seen, err := s.Catalog.PeerHistory(peer)
	if err != nil || seen.LedgerEntries == 0 {
		return h, err
	}
	h.N = seen.LedgerEntries
	h.Sum, err = object.ParseID(seen.LedgerSum)
	return h, err
}

// witness remembers what a peer's ledger came to. It never goes back: a ledger that was cut
// short is found out by that.
func (s *Service) witness(peer string, h ledgerHead) (was ledgerHead, err error) {
	was, err = s.witnessed(peer)
	if err != nil || h.N <= was.N {
		return was, err
	}
	return was, s.Catalog.SetLedgerSeen(peer, h.N, h.Sum.String())
}

// VerifyLedger goes through the whole ledger, compares it with what paired sites saw of it,
// and tells whether it is whole.
func (s *Service) VerifyLedger(ctx context.Context) (*api.LedgerProof, error) {
	peers, err := s.Catalog.Peers()
	if err != nil {
		return nil, err
	}
	out := &api.LedgerProof{Whole: true, Witnesses: []api.LedgerWitness{}}
	seen := map[int64][]string{}
	sums := map[string]object.ID{}
	for _, p := range peers { // before the entries are read: they only get more
		w := api.LedgerWitness{Site: p.Name}
		var h Hello
		head, err := s.ledgerHead()
		if err != nil {
			return nil, err
		}
		if err := s.AskPeer(ctx, p, "hello", Hello{Name: s.Name(), Head: &head}, &h); err != nil {
			w.Silent = err.Error()
		} else if h.Seen != nil && h.Seen.N > 0 {
			w.Entries = h.Seen.N
			seen[h.Seen.N] = append(seen[h.Seen.N], p.Name)
			sums[p.Name] = h.Seen.Sum
		}
		out.Witnesses = append(out.Witnesses, w)
	}
	broken := func(n int64, format string, args ...any) {
		if out.Whole {
			out.Whole, out.BrokenAt, out.Sentence = false, n, fmt.Sprintf(format, args...)
		}
	}
	var c ledger.Chain
	for out.Whole {
		rows, err := s.Catalog.Entries(catalog.EntryFilter{After: c.N, Limit: access.LedgerPage, Up: true})
		if err != nil {
			return nil, err
		}
		for _, e := range rows {
			var sum object.ID
			copy(sum[:], e.Sum)
			var b *ledger.Broken
			if err := c.Add(e.Chained(), sum); errors.As(err, &b) {
				broken(b.N, "The ledger is not as it was written: %s.", err)
				break
			}
			for _, site := range seen[c.N] {
				if sums[site] != sum {
					broken(c.N, "The ledger was written anew: entry %d is another than the one that %s saw.", c.N, site)
				}
			}
			delete(seen, c.N)
		}
		if len(rows) < access.LedgerPage {
			break
		}
	}
	for n, sites := range seen {
		if out.Whole {
			broken(c.N+1, "The ledger was cut short: %s saw %d entries, and %d are here.", strings.Join(sites, ", "), n, c.N)
		}
	}
	out.Entries, out.Head = c.N, c.Last.String()
	if !out.Whole {
		s.Log.Error("the ledger does not hold", "entry", out.BrokenAt, "what", out.Sentence)
		return out, nil
	}
	out.Sentence = fmt.Sprintf("The ledger is whole: %s, each as it was written.", fmt.Sprintf("%d entries", c.N))
	var by []string
	for _, w := range out.Witnesses {
		if w.Entries > 0 {
			by = append(by, fmt.Sprintf("%s saw the first %d", w.Site, w.Entries))
		}
	}
	if len(by) > 0 {
		out.Sentence += " " + strings.Join(by, ", ") + ", and they are the same."
	} else {
		out.Sentence += " No other site has seen it yet: that its end is not cut off is known from then on."
	}
	return out, nil
}
