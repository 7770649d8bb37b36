package failover

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/access"
	"candidharbor/internal/authority"
	"candidharbor/internal/capture"
	"candidharbor/internal/catalog"
	"candidharbor/internal/pairing"
	"candidharbor/internal/phrase"
	"candidharbor/internal/run"
	"candidharbor/internal/transfer"
)

// HookGoOn is the hook that has those who write to directories go on, when a handing over was given up.
const HookGoOn = "go-on"

// frozenFor is how long a site that stopped serving waits to be asked to hand over before it serves again.
const frozenFor = 5 * time.Minute

// What the site that takes over asks.
const (
	doCarry    = "carry"     // take what is new, and carry it
	doFreeze   = "freeze"    // stop serving, take the last snapshot, and carry it
	doHandOver = "hand over" // sign that the other site is active
	doLetGo    = "let go"    // serve again
	doTell     = "tell"      // how far it is
)

// ask is what the site that takes over asks of the one that is active.
type ask struct {
	Act      string             `cbor:"1,keyasint"`
	Do       string             `cbor:"2,keyasint"`
	Lineages []object.LineageID `cbor:"3,keyasint,omitempty"`
	Runbook  string             `cbor:"4,keyasint,omitempty"`
	Round    int                `cbor:"5,keyasint,omitempty"`
}

// told is what the active site answers.
type told struct {
	Phase  string      `cbor:"1,keyasint"` // what was done last
	Round  int         `cbor:"2,keyasint"`
	Busy   bool        `cbor:"3,keyasint"`
	Error  string      `cbor:"4,keyasint,omitempty"`
	Millis int64       `cbor:"5,keyasint,omitempty"` // that the last round took
	Pulls  bool        `cbor:"6,keyasint,omitempty"` // no route here brings it: the other site fetches it
	From   []object.ID `cbor:"7,keyasint,omitempty"` // the last snapshots, in the order of the lineages
	Record [][]byte    `cbor:"8,keyasint,omitempty"` // of authority, once it is signed
	Why    string      `cbor:"9,keyasint,omitempty"`
}

// giving is a handing over at the site that is active.
type giving struct {
	act     string
	peer    string
	runbook string
	vols    []*catalog.Volume

	mu     sync.Mutex
	told   told
	rows   []*catalog.Snapshot // with which it is handed over
	signed bool
	melt   context.CancelFunc // ends the wait while it is frozen; nil: it is not
	leave  bool               // the other site gave it up while this one was at work
	asked  time.Time          // when the other site was last heard of, by the host's clock
}

// givingDoc is what a row of failovers says of a handing over.
type givingDoc struct {
	actDoc
	Frozen bool `json:"frozen,omitempty"`
}

func (s *Service) answer() {
	s.pairing.Handle("failover", pairing.NeedsNothing, func(_ context.Context, q *pairing.Request) error {
		var a ask
		if err := transfer.Decode(q.Body, &a); err != nil {
			return err
		}
		out, err := s.give(q.Peer, &a)
		if err != nil {
			return &transfer.Refusal{What: err.Error()}
		}
		return q.Stream.Reply(out)
	})
}

// give answers a site that takes over.
func (s *Service) give(peer *catalog.Peer, a *ask) (*told, error) {
	if raw, err := hex.DecodeString(a.Act); err != nil || len(raw) != 8 {
		return nil, fmt.Errorf("%q is not the identity of a failover", a.Act)
	}
	s.givingMu.Lock()
	g := s.givings[a.Act]
	if g == nil && a.Do == doCarry {
		var err error
		if g, err = s.beginGiving(peer, a); err != nil {
			s.givingMu.Unlock()
			return nil, err
		}
		s.givings[a.Act] = g
	}
	s.givingMu.Unlock()
	if g == nil {
		return s.given(peer, a)
	}
	if g.peer != peer.Name {
		return nil, fmt.Errorf("that failover is of %s", g.peer)
	}
	g.mu.Lock()
	busy, same := g.told.Busy, g.told.Phase == a.Do && g.told.Round == a.Round
	g.asked = time.Now()
	var err error
	switch {
	case busy && a.Do == doLetGo:
		g.leave = true
	case a.Do == doTell || busy || same && g.told.Error == "" || g.signed:
	case a.Do == doCarry, a.Do == doFreeze:
		err = s.startGiving(g, a.Do, a.Round)
	case a.Do == doHandOver:
		err = s.sign(g)
	case a.Do == doLetGo:
		err = s.startGiving(g, doLetGo, a.Round)
	default:
		err = fmt.Errorf("%q cannot be done: bring both sites to the same release", a.Do)
	}
	out := g.told
	g.mu.Unlock()
	return &out, err
}

// given answers of a handing over that is known no more: the records of authority say how it ended.
func (s *Service) given(peer *catalog.Peer, a *ask) (*told, error) {
	for _, l := range a.Lineages {
		v, err := s.Catalog.VolumeOfLineage(hex.EncodeToString(l[:]))
		if err != nil {
			break // nothing is told of what is not known
		}
		for _, r := range s.authority.Line(v) {
			if r.Act == actOf(a.Act) && r.Site == peer.Name {
				return &told{Phase: doHandOver, Record: s.authority.Records(v)}, nil
			}
		}
	}
	return nil, fmt.Errorf("%s knows nothing of that failover any more, and serves: begin anew", s.Name())
}

// beginGiving checks what is asked for, and notes that it began.
func (s *Service) beginGiving(peer *catalog.Peer, a *ask) (*giving, error) {
	g := &giving{act: a.Act, peer: peer.Name, runbook: a.Runbook}
	for _, l := range a.Lineages {
		v, err := s.Catalog.VolumeOfLineage(hex.EncodeToString(l[:]))
		if errors.Is(err, catalog.ErrNone) {
			return nil, errors.New("a history that is to be handed over is not known here")
		} else if err != nil {
			return nil, err
		}
		if line := s.authority.Line(v); len(line) == 0 || !line[len(line)-1].May(peer.Name) {
			return nil, fmt.Errorf("%s may not take %s over: a person at %s can let it, with candid site grant %s take-over",
				peer.Name, v.Name, s.Name(), peer.Name)
		}
		if !v.ActiveAt(s.Name()) {
			return nil, s.authority.NotActive(v)
		}
		for _, o := range s.givings {
			if slices.ContainsFunc(o.vols, func(w *catalog.Volume) bool { return w.Lineage == v.Lineage }) {
				return nil, fmt.Errorf("%s is being handed over to %s already", v.Name, o.peer)
			}
		}
		g.vols = append(g.vols, v)
	}
	if len(g.vols) == 0 {
		return nil, errors.New("nothing is to be handed over")
	}
	row := &catalog.Failover{ID: a.Act, Kind: handOver, Runbook: a.Runbook, Peer: peer.Name, State: api.FailoverRunning,
		Began: catalog.At(s.Clock.Now()), AskedBy: peer.Name}
	if _, err := s.access.Record(access.Caller{Name: peer.Name, Via: "line"}, "handOver",
		fmt.Sprintf("%s: %s", a.Runbook, phrase.Many(len(g.vols), "volume")), ""); err != nil {
		return nil, err
	}
	return g, s.noteGiving(row, g, false)
}

func (s *Service) noteGiving(row *catalog.Failover, g *giving, frozen bool) error {
	doc := givingDoc{Frozen: frozen}
	for _, v := range g.vols {
		doc.Volumes = append(doc.Volumes, actVolume{Name: v.Name})
	}
	raw, err := json.Marshal(doc)
	if err != nil {
		return err
	}
	row.Doc = string(raw)
	s.run.Tell("failovers")
	return s.Catalog.PutFailover(row)
}

// startGiving begins to do what is asked. The caller holds the giving's lock.
func (s *Service) startGiving(g *giving, do string, round int) error {
	if g.melt != nil && do == doCarry {
		return fmt.Errorf("%s has stopped serving: have it hand over, or serve again", s.Name())
	}
	if g.melt != nil && do == doLetGo { // it stops waiting, and does this
		g.melt()
		g.melt = nil
	}
	if do == doLetGo {
		g.told.Busy = true
		s.run.Go(func(ctx context.Context) { s.serveAgain(ctx, g, "the other site gave it up") })
		return nil
	}
	g.told = told{Phase: do, Round: round, Busy: true}
	_, err := s.run.Start("hand-over", g.runbook, g.peer, func(ctx context.Context, j *run.Job) (any, string, error) {
		began := time.Now()
		err := s.carryOver(ctx, j, g, do == doFreeze)
		g.mu.Lock()
		g.told.Busy, g.told.Millis = false, time.Since(began).Milliseconds()
		if err != nil {
			g.told.Error = err.Error()
		}
		if g.leave && err == nil {
			err = fmt.Errorf("%s gave it up", g.peer)
		}
		left := g.leave
		wait, melt := context.WithTimeout(ctx, frozenFor)
		if do == doFreeze && err == nil {
			g.melt = melt
		}
		g.mu.Unlock()
		defer melt()
		if do != doFreeze && !left {
			s.run.Go(func(ctx context.Context) { s.forsake(ctx, g) })
			return nil, "what is new is at " + g.peer, err
		}
		if err != nil {
			s.serveAgain(ctx, g, err.Error())
			return nil, "", err
		}
		j.Say("waiting to be asked to hand over")
		<-wait.Done()
		g.mu.Lock()
		signed, asked := g.signed, g.melt == nil
		g.melt = nil // from here on it is too late to ask
		g.mu.Unlock()
		switch {
		case signed:
			return nil, "handed over to " + g.peer, nil
		case asked:
			return nil, g.peer + " gave it up; this site serves again", nil
		}
		why := fmt.Sprintf("%s did not ask to hand over within %s", g.peer, phrase.Ago(frozenFor))
		s.serveAgain(context.WithoutCancel(ctx), g, why)
		return nil, "", errors.New(why + "; this site serves again")
	})
	if err != nil {
		g.told.Busy = false
	}
	return err
}

// carryOver takes what is new of all volumes and carries it to the site that takes over; frozen: the last, after which
// nothing is written or taken any more.
func (s *Service) carryOver(ctx context.Context, j *run.Job, g *giving, frozen bool) error {
	if frozen {
		if err := s.stopServing(ctx, j, g); err != nil {
			return err
		}
	}
	j.Say("taking what is new")
	done := map[string]bool{}
	for _, v := range g.vols {
		group, members, err := s.capture.GroupOf(v.Name)
		if err != nil {
			return err
		}
		if group != nil && !slices.ContainsFunc(members, func(m string) bool { // a set that is not handed over whole
			return !slices.ContainsFunc(g.vols, func(w *catalog.Volume) bool { return w.Name == m })
		}) {
			if done[group.Name+"@"] {
				continue
			}
			done[group.Name+"@"] = true
		} else if group != nil {
			return fmt.Errorf("%s is taken together with others of the group %s: hand all of them over", v.Name, group.Name)
		}
		t, err := s.capture.StartSnapshot(v.Name, capture.IfChanged(), g.peer)
		if err == nil {
			err = t.Wait(ctx)
		}
		if err != nil {
			return fmt.Errorf("%s could not be taken: %w", v.Name, err)
		}
	}
	rows := make([]*catalog.Snapshot, len(g.vols))
	routes, pulls := map[string]bool{}, false
	for i, v := range g.vols {
		if frozen {
			s.authority.Freeze(v, true)
		}
		var err error
		if rows[i], err = s.Catalog.LastSnapshot(s.Place(), v.Lineage); err != nil {
			return err
		}
		if rows[i] == nil {
			return fmt.Errorf("%s has no snapshot", v.Name)
		}
		names, _, err := s.routes.RoutesWith(g.peer, v)
		if err != nil {
			return err
		}
		if len(names) == 0 {
			pulls = true
		}
		for _, n := range names {
			routes[n] = true
		}
	}
	j.Say("carrying it to " + g.peer)
	for _, n := range sortedKeys(routes) {
		t, err := s.routes.StartRoute(n, g.peer)
		if err == nil {
			err = t.Wait(ctx)
		}
		if err != nil {
			return fmt.Errorf("route %s: %w", n, err)
		}
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	g.rows, g.told.Pulls, g.told.From = rows, pulls, nil
	for _, r := range rows {
		id, err := object.ParseID(r.ID)
		if err != nil {
			return err
		}
		g.told.From = append(g.told.From, id)
	}
	return nil
}

// stopServing has nobody write to the volumes any more.
func (s *Service) stopServing(ctx context.Context, j *run.Job, g *giving) error {
	row, err := s.Catalog.Failover(g.act)
	if err != nil {
		return err
	}
	if err := s.noteGiving(row, g, true); err != nil {
		return err
	}
	j.Say("having the writers stop")
	var trees []*catalog.Volume
	for _, v := range g.vols {
		if !v.IsDisk() {
			trees = append(trees, v)
		} else if err := s.disks.StandBack(ctx, v); err != nil {
			return err
		}
	}
	if _, has := s.Conf.Hooks[HookStandBack]; !has || len(trees) == 0 {
		return nil
	}
	return s.capture.RunHook(ctx, j, capture.HookRun{Name: HookStandBack, Volumes: trees,
		Env: []string{"CANDID_RUNBOOK=" + g.runbook, "CANDID_FAILOVER=" + g.act, "CANDID_ATTEMPT=1"}})
}

// sign hands over: from this write on only a new term goes on. The caller holds the giving's lock.
func (s *Service) sign(g *giving) error {
	if g.melt == nil {
		return fmt.Errorf("%s serves again: begin anew", s.Name())
	}
	var all []authority.Going
	for i, v := range g.vols {
		all = append(all, authority.Going{Volume: v, From: g.rows[i]})
	}
	// Who waits ends that before the record can be told of, so that nothing serves again after it.
	if _, err := s.authority.Move(g.peer, all, actOf(g.act), "runbook "+g.runbook); err != nil {
		return err
	}
	g.signed = true
	g.told.Phase = doHandOver
	g.told.Record = s.authority.Records(g.vols[0])
	for _, v := range g.vols[1:] {
		for _, raw := range s.authority.Records(v) {
			if !slices.ContainsFunc(g.told.Record, func(o []byte) bool { return string(o) == string(raw) }) {
				g.told.Record = append(g.told.Record, raw)
			}
		}
	}
	for _, v := range g.vols {
		s.authority.Freeze(v, false)
	}
	g.melt()
	return s.endGiving(g, api.FailoverDone)
}
