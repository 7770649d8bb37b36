package site

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"candidharbor/api"
	"candidharbor/core/ledger"
	"candidharbor/core/object"
	"candidharbor/internal/catalog"
)

// Record adds an act to the ledger before it is done, so that nothing is done unrecorded.
// The outcome is empty, or says how it was refused or failed.
func (s *Site) Record(c Caller, act, about, outcome string) (int64, error) {
	const most = 2000 // of each text: the ledger is no place to fill a disk by
	cut := func(t string) string {
		if len(t) > most {
			return strings.ToValidUTF8(t[:most], "") + "…"
		}
		return strings.ToValidUTF8(t, "?")
	}
	e := &catalog.Entry{At: catalog.At(s.clock.Now()), Who: cut(c.Name), Role: c.Role, Via: c.Via, Act: act, About: cut(about), Outcome: cut(outcome)}
	if err := s.cat.AddEntry(e); err != nil {
		return 0, fmt.Errorf("nothing was done, because it could not be written to the ledger: %w", err)
	}
	return e.N, nil
}

// Service is the site itself as who acts.
var Service = Caller{Name: "the service", Role: "service", Via: "service"}

func entryOfLedger(e *catalog.Entry) api.LedgerEntry {
	return api.LedgerEntry{N: e.N, At: e.At.Time, Who: e.Who, Role: e.Role, Via: e.Via, Act: e.Act, About: e.About, Outcome: e.Outcome, Sum: fmt.Sprintf("%x", e.Sum)}
}

// Ledger lists what was done, newest first.
func (s *Site) Ledger(f catalog.EntryFilter) (api.Page[api.LedgerEntry], error) {
	page := api.Page[api.LedgerEntry]{Items: []api.LedgerEntry{}}
	limit := f.Limit
	f.Limit++
	rows, err := s.cat.Entries(f)
	for i, e := range rows {
		if i == limit {
			page.Next = fmt.Sprint(rows[i-1].N)
			break
		}
		page.Items = append(page.Items, entryOfLedger(e))
	}
	return page, err
}

// ledgerHead is the last entry of a ledger, as one site tells another.
type ledgerHead struct {
	N   int64     `cbor:"1,keyasint"`
	Sum object.ID `cbor:"2,keyasint"`
}

// witnessSetting begins the settings that hold what other sites' ledgers came to.
const witnessSetting = "ledger of "

func (s *Site) ledgerHead() (h ledgerHead, err error) {
	rows, err := s.cat.Entries(catalog.EntryFilter{Limit: 1})
	if err != nil || len(rows) == 0 {
		return h, err
	}
	h.N = rows[0].N
	copy(h.Sum[:], rows[0].Sum)
	return h, nil
}

// witnessed is what this site saw last of a peer's ledger.
func (s *Site) witnessed(peer string) (h ledgerHead, err error) {
	text, err := s.cat.Setting(witnessSetting + peer)
	if err != nil || text == "" {
		return h, err
	}
	var sum string
	if _, err := fmt.Sscanf(text, "%d %s", &h.N, &sum); err != nil {
		return h, fmt.Errorf("setting %q: %w", witnessSetting+peer, err)
	}
	h.Sum, err = object.ParseID(sum)
	return h, err
}

// witness remembers what a peer's ledger came to. It never goes back: a ledger that was cut
// short is found out by that.
func (s *Site) witness(peer string, h ledgerHead) (was ledgerHead, err error) {
	was, err = s.witnessed(peer)
	if err != nil || h.N <= was.N {
		return was, err
	}
	return was, s.cat.Set(witnessSetting+peer, fmt.Sprintf("%d %s", h.N, h.Sum))
}

const ledgerPage = 2000

// VerifyLedger goes through the whole ledger, compares it with what paired sites saw of it,
// and tells whether it is whole.
func (s *Site) VerifyLedger(ctx context.Context) (*api.LedgerProof, error) {
	peers, err := s.cat.Peers()
	if err != nil {
		return nil, err
	}
	out := &api.LedgerProof{Whole: true, Witnesses: []api.LedgerWitness{}}
	seen := map[int64][]string{}
	sums := map[string]object.ID{}
	for _, p := range peers { // before the entries are read: they only get more
		w := api.LedgerWitness{Site: p.Name}
		var h hello
		head, err := s.ledgerHead()
		if err != nil {
			return nil, err
		}
		if err := s.askPeer(ctx, p, "hello", hello{Name: s.Name(), Head: &head}, &h); err != nil {
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
		rows, err := s.cat.Entries(catalog.EntryFilter{After: c.N, Limit: ledgerPage, Up: true})
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
		if len(rows) < ledgerPage {
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
		s.log.Error("the ledger does not hold", "entry", out.BrokenAt, "what", out.Sentence)
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
