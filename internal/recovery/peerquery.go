package recovery

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/records"
	"candidharbor/internal/refusal"
	"candidharbor/internal/route"
	"candidharbor/internal/rules"
)

// peerHistory is what another site has of a volume's history.
type peerHistory struct {
	peer *catalog.Peer
	rows []*catalog.Snapshot // newest first; only what headers say
	err  error               // why it cannot be told
}

const (
	askAnew  = 20 * time.Second // how long what a site told is relied on
	orderKey = "recovery order"
)

// RecoveryOrder lists the paired sites in the order in which they are asked for what this
// one does not have.
func (s *Service) RecoveryOrder() ([]string, error) {
	peers, err := s.peersInOrder()
	names := make([]string, len(peers))
	for i, p := range peers {
		names[i] = p.Name
	}
	return names, err
}

// SetRecoveryOrder sets which sites are asked first. Those not named come after, by name.
func (s *Service) SetRecoveryOrder(sites []string) ([]string, error) {
	for i, name := range sites {
		if _, err := s.Catalog.Peer(name); err != nil {
			return nil, refusal.Missingf("there is no paired site %s: candid site list shows those there are", name)
		}
		if slices.Contains(sites[:i], name) {
			return nil, refusal.Badf("%s is named twice", name)
		}
	}
	if err := s.Catalog.Set(orderKey, strings.Join(sites, " ")); err != nil {
		return nil, err
	}
	s.run.Tell("sites")
	return s.RecoveryOrder()
}

func (s *Service) peersInOrder() ([]*catalog.Peer, error) {
	peers, err := s.Catalog.Peers()
	if err != nil {
		return nil, err
	}
	text, err := s.Catalog.Setting(orderKey)
	order := strings.Fields(text)
	place := func(p *catalog.Peer) int {
		if i := slices.Index(order, p.Name); i >= 0 {
			return i
		}
		return len(order)
	}
	slices.SortFunc(peers, func(a, b *catalog.Peer) int {
		return cmp.Or(cmp.Compare(place(a), place(b)), cmp.Compare(a.Name, b.Name))
	})
	return peers, err
}

// queryPeers asks other sites, or only the one named, what they have of a volume, all at the
// same time. They come in the order set.
func (s *Service) queryPeers(ctx context.Context, v *catalog.Volume, only string) ([]peerHistory, error) {
	peers, err := s.peersInOrder()
	if err != nil {
		return nil, err
	}
	if only != "" {
		peers = slices.DeleteFunc(peers, func(p *catalog.Peer) bool { return p.Name != only })
		if len(peers) == 0 {
			return nil, refusal.Missingf("there is no paired site %s: candid site list shows those there are", only)
		}
	}
	out := make([]peerHistory, len(peers))
	var all sync.WaitGroup
	for i, p := range peers {
		out[i].peer = p
		all.Go(func() { out[i].rows, out[i].err = s.rowsAt(ctx, p, v) })
	}
	all.Wait()
	return out, nil
}

type reportedRows struct {
	rows []*catalog.Snapshot
	at   time.Time // by the host's clock
}

func (s *Service) rowsAt(ctx context.Context, p *catalog.Peer, v *catalog.Volume) ([]*catalog.Snapshot, error) {
	key := p.Name + " " + v.Lineage
	s.reportedMu.Lock()
	told, ok := s.reported[key]
	s.reportedMu.Unlock()
	if ok && time.Since(told.at) < askAnew && s.pairing.Up(p.Name) {
		return told.rows, nil
	}
	told = reportedRows{at: time.Now()}
	for after, more := "", true; more; {
		var page route.HistoryPage
		if err := s.pairing.AskPeer(ctx, p, "history", route.HistoryAsk{Lineage: records.LineageOf(v.Lineage), After: after},
			&page); err != nil {
			return nil, err
		}
		for i := range page.Headers {
			row := page.Headers[i].Row()
			row.Volume, row.Lineage, row.Place, row.Origin = v.Name, v.Lineage, p.Name, v.Origin
			told.rows = append(told.rows, row)
		}
		if len(told.rows) > route.MostHeaders {
			return nil, fmt.Errorf("it names more than %d snapshots", route.MostHeaders)
		}
		more, after = page.Next != "" && page.Next != after, page.Next
	}
	s.reportedMu.Lock()
	s.reported[key] = told
	s.reportedMu.Unlock()
	return told.rows, nil
}

// latestAt is the snapshot of rows that stands for a moment: the newest that began before;
// with no moment, the newest.
func latestAt(rows []*catalog.Snapshot, t time.Time) (best *catalog.Snapshot) {
	for _, r := range rows {
		if (t.IsZero() || !r.Began.After(t)) && (best == nil || r.Term > best.Term || r.Term == best.Term &&
			r.Sequence > best.Sequence) {
			best = r
		}
	}
	return best
}

// resolve finds what stands for a moment: here, or at the site named; when neither is said
// and nothing stands for it here, at the first of the other sites that has something. peer is
// nil when it is here.
func (s *Service) resolve(ctx context.Context, v *catalog.Volume, at, from string) (row *catalog.Snapshot,
	answer string, peer *catalog.Peer, err error) {
	if from == "" || from == s.Name() {
		row, answer, err = s.rules.Moment(v, at)
		if err == nil || from != "" || !(refusal.ClassOf(err) == refusal.Missing || refusal.ClassOf(err) == refusal.Misuse &&
			isID(at)) {
			return row, answer, nil, err
		}
	}
	there, aerr := s.queryPeers(ctx, v, from)
	if aerr != nil {
		return nil, "", nil, aerr
	}
	var t time.Time
	byID := ""
	if at != "" && at != "latest" {
		var terr error
		if t, terr = time.Parse(time.RFC3339Nano, at); terr != nil {
			if byID = at; !isID(at) {
				return nil, "", nil, refusal.Badf("%q is neither a moment (such as 2026-03-04T14:05:00Z), nor latest, nor the "+
					"id of a snapshot", at)
			}
		}
	}
	var silent []error
	for _, e := range there {
		if e.err != nil {
			silent = append(silent, fmt.Errorf("%s: %w", e.peer.Name, e.err))
			continue
		}
		best := latestAt(e.rows, t)
		if byID != "" {
			best = nil
			if i := slices.IndexFunc(e.rows, func(r *catalog.Snapshot) bool { return strings.HasPrefix(r.ID, byID) }); i >= 0 {
				best = e.rows[i]
			}
		}
		if best == nil {
			continue
		}
		answer = "the snapshot taken " + phrase.Stamp(best.Began.Time)
		if !t.IsZero() {
			answer = rules.Exactness(best, t)
		}
		if here, err := s.Catalog.Snapshot(best.ID); err == nil && here.Volume == v.Name {
			return here, answer + "; it is here too", nil, nil
		}
		return best, answer + ", at " + e.peer.Name, e.peer, nil
	}
	if err == nil {
		err = refusal.Missingf("%s has nothing of %s for that moment", from, v.Name)
	}
	if len(silent) > 0 {
		err = refusal.Wrap(refusal.ClassOf(err), fmt.Errorf("%w; not every other site could be asked: %w", err,
			errors.Join(silent...)))
		if from != "" {
			err = refusal.Wrap(refusal.Elsewhere, errors.Join(silent...))
		}
	}
	return nil, "", nil, err
}

func isID(text string) bool {
	return len(text) >= 6 && len(text) <= 64 && strings.Trim(text, "0123456789abcdef") == ""
}

// AsOf tells what stands for a moment of a volume, here and at every other site.
func (s *Service) AsOf(ctx context.Context, volume, at string) (*api.AsOf, error) {
	v, err := s.Catalog.Volume(volume)
	if err != nil {
		return nil, err
	}
	var t time.Time
	if at != "" && at != "latest" {
		if t, err = time.Parse(time.RFC3339Nano, at); err != nil {
			return nil, refusal.Badf("%q is no moment such as 2026-03-04T14:05:00Z", at)
		}
	}
	rows, err := s.Catalog.Snapshots(s.Place(), v.Name, catalog.SnapshotFilter{})
	if err != nil {
		return nil, err
	}
	there, err := s.queryPeers(ctx, v, "")
	if err != nil {
		return nil, err
	}
	pace, err := s.restoreRate()
	if err != nil {
		return nil, err
	}
	out := &api.AsOf{Volume: volume, At: s.Clock.Now(), Places: []api.Standing{}}
	if !t.IsZero() {
		out.At = t
	}
	tell := func(name string, rows []*catalog.Snapshot) api.Standing {
		p := api.Standing{Site: name, Snapshots: len(rows)}
		r := latestAt(rows, t)
		if r == nil {
			p.Answer = "nothing that old"
			if len(rows) == 0 {
				p.Answer = "no snapshot of it"
			}
			return p
		}
		p.Snapshot, p.Taken, p.SeenUntil, p.Bytes, p.Files = r.ID, r.Began.Ptr(), r.SeenUntil.Ptr(), r.Bytes, r.Files
		p.Answer = rules.Exactness(r, out.At)
		p.OlderSeconds = int64(max(0, out.At.Sub(rules.NewestState(r)).Seconds()))
		if pace > 0 {
			p.Seconds = int64(float64(r.Bytes)/pace) + 1
		}
		_, err := s.Catalog.Snapshot(r.ID)
		p.Here = err == nil
		return p
	}
	out.Places = append(out.Places, tell(s.Name(), rows))
	for _, e := range there {
		if e.err != nil {
			out.Places = append(out.Places, api.Standing{Site: e.peer.Name, Silent: e.err.Error()})
			continue
		}
		p := tell(e.peer.Name, e.rows)
		if p.Snapshot != "" && !p.Here {
			if rate, err := s.lineRate(e.peer.Name); err != nil {
				return nil, err
			} else if rate > 0 {
				p.Seconds += int64(float64(p.Bytes) / rate)
			} else {
				p.Seconds = 0
			}
		}
		out.Places = append(out.Places, p)
	}
	out.Best, out.Sentence = bestAnswer(out.Places)
	return out, nil
}

// bestAnswer prefers what is nearest to the moment, then this site, then the order set.
func bestAnswer(places []api.Standing) (best, sentence string) {
	pick := -1
	for i, p := range places {
		if p.Snapshot != "" && (pick < 0 || p.OlderSeconds < places[pick].OlderSeconds) {
			pick = i
		}
	}
	if pick < 0 {
		return "", "No site that answers has anything of it for that moment."
	}
	p := places[pick]
	switch {
	case pick == 0:
		return p.Site, fmt.Sprintf("Nothing is nearer than what is here: %s.", p.Answer)
	case places[0].Snapshot == "":
		return p.Site, fmt.Sprintf("Here is %s. %s has it: %s.", places[0].Answer, p.Site, p.Answer)
	}
	return p.Site, fmt.Sprintf("%s is nearer by %s: %s.", p.Site,
		phrase.Ago(time.Duration(places[0].OlderSeconds-p.OlderSeconds)*time.Second), p.Answer)
}

// restoreRate is the bytes a second of the restores of late, 0 when there were none of a
// size that tells.
func (s *Service) restoreRate() (float64, error) {
	rows, err := s.Catalog.Runs(catalog.RunFilter{Kind: "restore", Limit: 50})
	if err != nil {
		return 0, err
	}
	var rates []float64
	for _, r := range rows {
		var res api.RestoreResult
		took := r.Ended.Sub(r.Began.Time).Seconds()
		if len(r.Result) == 0 || r.Ended.IsZero() || json.Unmarshal(r.Result, &res) != nil || res.Bytes < 1<<20 {
			continue
		}
		if took > 0.01 {
			rates = append(rates, float64(res.Bytes)/took)
		}
	}
	return median(rates), nil
}

// lineRate is the bytes a second that routes with a peer moved of late, 0 when not known.
func (s *Service) lineRate(peer string) (float64, error) {
	routes, err := s.Catalog.Routes()
	if err != nil {
		return 0, err
	}
	var rates []float64
	for _, r := range routes {
		if r.Peer != peer {
			continue
		}
		ts, err := s.Catalog.TrafficOf(r.Name, s.Clock.Now().AddDate(0, 0, -30))
		if err != nil {
			return 0, err
		}
		for _, t := range ts {
			if t.Sent > 64<<10 && t.Seconds > 0 {
				rates = append(rates, float64(t.Sent)/t.Seconds)
			}
		}
	}
	return median(rates), nil
}

func median(v []float64) float64 {
	if len(v) == 0 {
		return 0
	}
	slices.Sort(v)
	return v[len(v)/2]
}

// lookAtPeers asks other sites to look in what they have, all at the same time.
func lookAtPeers[T any](ctx context.Context, s *Service, v *catalog.Volume, op string, ask any) (sites []string,
	answers []*T, errs []error, err error) {
	peers, err := s.peersInOrder()
	if err != nil {
		return nil, nil, nil, err
	}
	raw, err := json.Marshal(ask)
	if err != nil {
		return nil, nil, nil, err
	}
	answers, errs = make([]*T, len(peers)), make([]error, len(peers))
	var all sync.WaitGroup
	for i, p := range peers {
		sites = append(sites, p.Name)
		all.Go(func() {
			var body []byte
			if errs[i] = s.pairing.AskPeer(ctx, p, op, LookAsk{Lineage: records.LineageOf(v.Lineage), Ask: raw},
				&body); errs[i] == nil {
				answers[i] = new(T)
				errs[i] = json.Unmarshal(body, answers[i])
			}
		})
	}
	all.Wait()
	return sites, answers, errs, nil
}
