package failover

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/records"
	"candidharbor/internal/refusal"
)

// Rounds of carrying while the other site serves end when one was quick, or after so many.
const (
	quickRound = 5 * time.Second
	mostRounds = 5
	tellEvery  = 100 * time.Millisecond
	tellSlowly = time.Second
)

// answerWithin is how long the other site may be silent while it is asked.
const answerWithin = 2 * time.Minute

// moving are the volumes that this site does not serve yet, by their place among all.
func (o *act) moving() (all []int) {
	for i, v := range o.doc.Volumes {
		if !v.Up {
			all = append(all, i)
		}
	}
	return all
}

func (o *act) lineages() (all []object.LineageID, err error) {
	for _, av := range o.doc.Volumes {
		if av.Up {
			continue
		}
		v, err := o.s.Catalog.Volume(av.Name)
		if err != nil {
			return nil, err
		}
		all = append(all, records.LineageOf(v.Lineage))
	}
	return all, nil
}

// request asks the other site one thing, again while it does not answer.
func (o *act) request(ctx context.Context, do string, round int) (*told, error) {
	all, err := o.lineages()
	if err != nil {
		return nil, err
	}
	peer, err := o.s.Catalog.Peer(o.row.Peer)
	if err != nil {
		return nil, err
	}
	until := time.Now().Add(answerWithin)
	for {
		var t told
		err := o.s.pairing.AskPeer(ctx, peer, "failover", ask{Act: o.row.ID, Do: do, Lineages: all, Runbook: o.row.Runbook,
			Round: round}, &t)
		if err == nil || isRefusal(err) || ctx.Err() != nil || time.Now().After(until) {
			return &t, err
		}
		o.j.Say(fmt.Sprintf("%s does not answer; trying again", o.row.Peer))
		select {
		case <-time.After(tellSlowly):
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

// have has the other site do something, and waits until it is done.
func (o *act) have(ctx context.Context, do string, round int) (*told, error) {
	t, err := o.request(ctx, do, round)
	for began := time.Now(); err == nil && t.Busy; {
		wait := tellEvery
		if time.Since(began) > 10*time.Second {
			wait = tellSlowly
		}
		select {
		case <-time.After(wait):
		case <-ctx.Done():
			return nil, ctx.Err()
		}
		t, err = o.request(ctx, doTell, round)
	}
	if err != nil {
		return nil, refusal.Wrap(refusal.Elsewhere, fmt.Errorf("site %s: %w", o.row.Peer, err))
	}
	if t.Error != "" {
		return nil, refusal.Wrap(refusal.Elsewhere, fmt.Errorf("site %s: %s", o.row.Peer, t.Error))
	}
	if t.Phase != do {
		return nil, refusal.Wrap(refusal.Elsewhere, fmt.Errorf("site %s serves again: %s", o.row.Peer, t.Why))
	}
	return t, o.fetch(ctx, t)
}

// fetch brings what the other site took, where routes of this one pull.
func (o *act) fetch(ctx context.Context, t *told) error {
	if t.Pulls {
		routes := map[string]bool{}
		for _, av := range o.doc.Volumes {
			v, err := o.s.Catalog.Volume(av.Name)
			if err != nil {
				return err
			}
			names, _, err := o.s.routes.RoutesWith(o.row.Peer, v)
			if err != nil {
				return err
			}
			for _, n := range names {
				routes[n] = true
			}
		}
		for _, n := range sortedKeys(routes) {
			j, err := o.s.routes.StartRoute(n, o.row.AskedBy)
			if err == nil {
				err = j.Wait(ctx)
			}
			if err != nil {
				return fmt.Errorf("route %s: %w", n, err)
			}
		}
	}
	for i, k := range o.moving() {
		if i < len(t.From) && !o.s.Store.HasRoot(t.From[i]) {
			return refusal.Conflictf("the last snapshot of %s has not arrived: no route brings it here", o.doc.Volumes[k].Name)
		}
	}
	return nil
}

// carry has what is new carried while the other site serves, until a round is quick.
func (o *act) carry(ctx context.Context) (string, error) {
	for round := 1; ; round++ {
		t, err := o.have(ctx, doCarry, round)
		if err != nil {
			return "", err
		}
		took := time.Duration(t.Millis) * time.Millisecond
		if took <= quickRound || round == mostRounds {
			return fmt.Sprintf("%s, the last in %s", phrase.Many(round, "round"), took.Round(time.Millisecond)), nil
		}
	}
}

// freeze has the other site stop serving and carry the last.
func (o *act) freeze(ctx context.Context) (string, error) {
	o.doc.Down = o.s.Clock.Now()
	t, err := o.have(ctx, doFreeze, 0)
	if err != nil {
		return "", err
	}
	moving := o.moving()
	if len(t.From) != len(moving) {
		return "", refusal.Wrap(refusal.Elsewhere, fmt.Errorf("site %s tells of %d last snapshots, not %d", o.row.Peer,
			len(t.From), len(moving)))
	}
	for i, k := range moving {
		row, err := o.s.Catalog.Snapshot(t.From[i].String())
		if err != nil {
			return "", err
		}
		o.from(k, row)
	}
	return fmt.Sprintf("the last of it arrived in %s",
			(time.Duration(t.Millis) * time.Millisecond).Round(time.Millisecond)),
		nil
}

// takeHandedOver has the other site sign that this one is active, and takes that in.
func (o *act) takeHandedOver(ctx context.Context) (string, error) {
	if o.findRecord(); o.moved() {
		return "it was handed over before", nil
	}
	t, err := o.request(ctx, doHandOver, 0)
	if err == nil {
		err = o.s.authority.Learn(o.row.Peer, t.Record)
	}
	if err != nil {
		// It may have signed, and the answer been lost: then the record comes with the next greeting.
		if aerr := o.s.authority.Exchange(context.WithoutCancel(ctx), o.row.Peer); aerr != nil {
			o.j.Logf("%s could not be asked who is active: %s", o.row.Peer, aerr)
		}
	}
	if o.findRecord(); !o.moved() {
		if err == nil {
			err = errors.New("it did not hand over")
		}
		return "", refusal.Wrap(refusal.Elsewhere, fmt.Errorf("site %s: %w", o.row.Peer, err))
	}
	return "it is passive, and this site is active", nil
}

// letGo tells the other site that nothing comes of it.
func (o *act) letGo(ctx context.Context) {
	if !slices.ContainsFunc(o.doc.Steps, func(st actStep) bool { return st.Code == stepCarry && st.Attempt > 0 }) {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	if _, err := o.request(ctx, doLetGo, 0); err != nil && !isRefusal(err) {
		o.doc.Untold = true // until the next greeting
		o.j.Logf("%s could not be told that nothing comes of it: %s; it is told when it is heard of again", o.row.Peer, err)
	}
}

// tellLetGo tells a site of what was given up while no line led to it.
func (s *Service) tellLetGo(ctx context.Context, p *catalog.Peer) error {
	if s.IsPlace {
		return nil
	}
	rows, err := s.Catalog.Failovers([]string{planned}, []string{api.FailoverFailed, api.FailoverCancelled}, 20)
	if err != nil {
		return err
	}
	for _, row := range rows {
		o, err := s.read(row)
		if err != nil {
			return err
		}
		if row.Peer != p.Name || !o.doc.Untold {
			continue
		}
		all, err := o.lineages()
		if err != nil {
			return err
		}
		var t told
		err = s.pairing.AskPeer(ctx, p, "failover", ask{Act: row.ID, Do: doLetGo, Lineages: all, Runbook: row.Runbook}, &t)
		if err != nil && !isRefusal(err) {
			return err
		}
		if err := s.isTold(row); err != nil {
			return err
		}
	}
	return nil
}

// isTold notes that the other site knows that nothing comes of an act, unless it has gone on meanwhile.
func (s *Service) isTold(was *catalog.Failover) error {
	s.beginning.Lock()
	defer s.beginning.Unlock()
	row, err := s.Catalog.Failover(was.ID)
	if err != nil || row.State != was.State {
		return err
	}
	o, err := s.read(row)
	if err != nil {
		return err
	}
	o.doc.Untold = false
	return o.save()
}
