package access

import (
	"fmt"
	"strings"

	"candidharbor/api"
	"candidharbor/internal/catalog"
)

// Record adds an act to the ledger before it is done, so that nothing is done unrecorded.
// The outcome is empty, or says how it was refused or failed.
func (s *Service) Record(c Caller, act, about, outcome string) (int64, error) {
	const most = 2000 // of each text: the ledger is no place to fill a disk by
	cut := func(t string) string {
		if len(t) > most {
			return strings.ToValidUTF8(t[:most], "") + "…"
		}
		return strings.ToValidUTF8(t, "?")
	}
	e := &catalog.Entry{At: catalog.At(s.Clock.Now()), Who: cut(c.Name), Role: c.Role, Via: c.Via, Act: act,
		About: cut(about), Outcome: cut(outcome)}
	if err := s.Catalog.AddEntry(e); err != nil {
		return 0, fmt.Errorf("nothing was done, because it could not be written to the ledger: %w", err)
	}
	return e.N, nil
}

// ByService is the site itself as who acts.
var ByService = Caller{Name: "the service", Role: "service", Via: "service"}

func entryOfLedger(e *catalog.Entry) api.LedgerEntry {
	return api.LedgerEntry{N: e.N, At: e.At.Time, Who: e.Who, Role: e.Role, Via: e.Via, Act: e.Act, About: e.About,
		Outcome: e.Outcome, Sum: fmt.Sprintf("%x", e.Sum)}
}

// Ledger lists what was done, newest first.
func (s *Service) Ledger(f catalog.EntryFilter) (api.Page[api.LedgerEntry], error) {
	page := api.Page[api.LedgerEntry]{Items: []api.LedgerEntry{}}
	limit := f.Limit
	f.Limit++
	rows, err := s.Catalog.Entries(f)
	for i, e := range rows {
		if i == limit {
			page.Next = fmt.Sprint(rows[i-1].N)
			break
		}
		page.Items = append(page.Items, entryOfLedger(e))
	}
	return page, err
}

// LedgerPage is how many entries are read at once.
const LedgerPage = 2000
