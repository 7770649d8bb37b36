package route

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/records"
	"candidharbor/internal/refusal"
	"candidharbor/internal/rules"
	"candidharbor/internal/run"
	"candidharbor/internal/transfer"
)

// chosenRun brings chosen snapshots to another site once, without a route.
type chosenRun struct {
	s      *Service
	peer   *catalog.Peer
	rows   []*catalog.Snapshot // the newest first
	keep   *transfer.Keep
	routes []*catalog.Route // to the same site
	meter  *transfer.Meter
	out    api.ChosenCarried
}

// CarryChosen starts a run that brings chosen snapshots to a paired site, whether or not a route does. What is there
// already is not sent again.
func (s *Service) CarryChosen(ask api.CarryChosen, by string) (api.Run, error) {
	o, err := s.chosenCarry(ask)
	if err != nil {
		return api.Run{}, err
	}
	j, err := s.run.Start("carry chosen", ask.To, by, func(ctx context.Context, j *run.Job) (any, string, error) {
		j.Begin(func() api.Progress {
			return api.Progress{DoneBytes: o.meter.ThereBytes.Load(), TotalBytes: o.meter.TotalBytes.Load(),
				Files: o.meter.SentObjects.Load()}
		})
		err := o.all(ctx, j)
		o.out.SentBytes = o.meter.SentBytes.Load()
		s.run.Changed("snapshots")
		if err != nil {
			return o.out, "", fmt.Errorf("%d of %s there; the same command carries the rest: %w", o.out.Snapshots,
				phrase.ManyAre(len(o.rows), "snapshot"), err)
		}
		return o.out, o.sentence(), nil
	})
	if err != nil {
		return api.Run{}, err
	}
	return j.View(), nil
}

func (s *Service) chosenCarry(ask api.CarryChosen) (*chosenRun, error) {
	o := &chosenRun{s: s, meter: &transfer.Meter{}}
	var err error
	if o.peer, err = s.Catalog.Peer(ask.To); err != nil {
		return nil, refusal.Missingf("%q is no paired site and no attached place: candid site list names them", ask.To)
	}
	if !o.peer.Granted.V.Offer {
		return nil, refusal.Conflictf("%s does not let this site bring snapshots: there, candid site grant %s offer",
			o.peer.Name, s.Name())
	}
	if len(ask.Snapshots) == 0 {
		return nil, refusal.Badf("name the snapshots to carry: candid snapshot list shows them")
	}
	if o.keep, err = s.wish(ask); err != nil {
		return nil, err
	}
	all, err := s.Catalog.Routes()
	if err != nil {
		return nil, err
	}
	o.routes = slices.DeleteFunc(all, func(r *catalog.Route) bool {
		return r.Peer != o.peer.Name || r.Terms.V.Pull || !termParts(r.Terms.V).Whole()
	})
	for _, id := range ask.Snapshots {
		row, err := s.Catalog.Snapshot(id)
		if err != nil {
			return nil, err
		}
		if slices.ContainsFunc(o.rows, func(r *catalog.Snapshot) bool { return r.ID == row.ID }) {
			continue
		}
		if err := o.may(row); err != nil {
			return nil, err
		}
		o.rows = append(o.rows, row)
	}
	slices.SortStableFunc(o.rows, func(a, b *catalog.Snapshot) int {
		return cmp.Or(strings.Compare(a.Volume, b.Volume), positionOf(b).Compare(positionOf(a)))
	})
	if o.keep == nil {
		return o, o.staysThere()
	}
	return o, nil
}

// wish is what is asked of the other site about the snapshots; nil: nothing, its rules decide.
func (s *Service) wish(ask api.CarryChosen) (*transfer.Keep, error) {
	switch why := cmp.Or(strings.TrimSpace(ask.Reason), "chosen by hand"); {
	case ask.Keep && ask.KeepUntil != nil:
		return nil, refusal.Badf("say either until when they are kept there, or that they are kept until they are let go")
	case ask.Keep:
		return &transfer.Keep{Why: why}, nil
	case ask.KeepUntil == nil && ask.Reason != "":
		return nil, refusal.Badf("a reason goes with a keep mark: say until when too")
	case ask.KeepUntil == nil:
		return nil, nil
	case !ask.KeepUntil.After(s.Clock.Now()):
		return nil, refusal.Badf("%s has passed already: give a time to come", phrase.Stamp(*ask.KeepUntil))
	default:
		return &transfer.Keep{Why: why, Until: ask.KeepUntil.UnixNano()}, nil
	}
}

// may refuses a snapshot that no carry brings either.
func (o *chosenRun) may(row *catalog.Snapshot) error {
	short := row.ID[:12]
	switch {
	case row.Taker() == o.peer.Name || row.Origin == o.peer.Name:
		return refusal.Conflictf("snapshot %s of %s comes from %s: what is lost there is had back by a restore there, which "+
			"takes it from here", short, row.Volume, o.peer.Name)
	case !row.GraceUntil.IsZero():
		return refusal.Conflictf("snapshot %s of %s is in grace: candid snapshot recall %s first", short, row.Volume, short)
	case row.OutOfTurn != "":
		return refusal.Conflictf("snapshot %s of %s arrived out of turn and stands for nothing until a person admits it",
			short, row.Volume)
	}
	return nil
}

// staysThere refuses what would expire at the other site as soon as it is there.
func (o *chosenRun) staysThere() error {
	kept := map[string]bool{} // by snapshot, of every volume of which one is sent
	looked := map[string]bool{}
	var goes []*catalog.Snapshot
	for _, row := range o.rows {
		if !looked[row.Volume] {
			looked[row.Volume] = true
			if err := o.keptFar(row.Volume, kept); err != nil {
				return err
			}
		}
		if !kept[row.ID] {
			goes = append(goes, row)
		}
	}
	if len(goes) == 0 {
		return nil
	}
	return refusal.Conflictf("the rules for %s do not keep %s of those, such as %s of %s: say how long, with "+
		"--keep-until WHEN, or with --keep until somebody there lets it go", o.peer.Name, phrase.Many(len(goes), "snapshot"),
		goes[0].ID[:12], goes[0].Volume)
}

// keptFar adds which snapshots of a volume the rules for the other site keep.
func (o *chosenRun) keptFar(volume string, kept map[string]bool) error {
	v, err := o.s.Catalog.Volume(volume)
	if err != nil {
		return err
	}
	rs, err := o.s.rules.RulesFor(v)
	if err != nil {
		return err
	}
	rows, err := o.s.Catalog.Snapshots(o.s.Place(), volume, catalog.SnapshotFilter{})
	if err != nil {
		return err
	}
	verdicts := rules.FarVerdicts(rs, o.peer.Name, rules.SnapshotsOf(rows), o.s.Clock.Now())
	for i, verdict := range verdicts {
		kept[rows[i].ID] = verdict.Kept()
	}
	return nil
}

func (o *chosenRun) all(ctx context.Context, j *run.Job) error {
	if _, _, _, err := o.s.pairing.Greet(ctx, o.peer); err != nil {
		return err
	}
	if err := o.s.pairing.TwoSites(o.peer.Name); err != nil {
		return err
	}
	link, _, err := o.s.pairing.Link(ctx, o.peer)
	if err != nil {
		return err
	}
	limit, err := o.s.pairing.Flow(o.peer, catalog.Terms{})
	if err != nil {
		return err
	}
	var w *RouteWork
	for _, row := range o.rows {
		if w == nil || w.V.Name != row.Volume {
			if w, err = o.s.chosenWork(row.Volume); err != nil {
				return err
			}
		}
		j.Say(fmt.Sprintf("carrying %s of %s", row.ID[:12], row.Volume))
		if err := o.one(ctx, link, limit, w, row); err != nil {
			return fmt.Errorf("%s of %s: %w", row.ID[:12], row.Volume, err)
		}
		o.out.Snapshots++
	}
	return nil
}

// chosenWork is what is said of a volume with each of its snapshots. The other site says which of the newest it has.
func (s *Service) chosenWork(volume string) (*RouteWork, error) {
	v, err := s.Catalog.Volume(volume)
	if err != nil {
		return nil, err
	}
	rs, err := s.rules.RulesFor(v)
	if err != nil {
		return nil, err
	}
	rows, err := s.Catalog.Snapshots(s.Place(), volume, catalog.SnapshotFilter{Limit: basesNamed})
	if err != nil {
		return nil, err
	}
	w := &RouteWork{V: v, Rs: rs}
	for _, r := range rows {
		id, err := object.ParseID(r.ID)
		if err != nil {
			return nil, err
		}
		w.bases = append(w.bases, id)
	}
	return w, nil
}

func (o *chosenRun) one(ctx context.Context, link *transfer.Link, limit transfer.Limit, w *RouteWork,
	row *catalog.Snapshot) error {
	s := o.s
	id, err := object.ParseID(row.ID)
	if err != nil {
		return err
	}
	marks, err := s.travelling(id)
	if err != nil {
		return err
	}
	q := transfer.CarryRequest{Lineage: records.LineageOf(w.V.Lineage), Volume: NameAtOrigin(w.V), Origin: w.V.Origin,
		Root: id, Bases: w.basesBut(id), Rules: w.Rs.Proposal(s.Place()), Authority: s.authority.Records(w.V), Keep: o.keep}
	c := &transfer.Sender{Store: s.Store, Marks: marks, Meter: o.meter, Limit: limit, Request: q}
	if err := c.Run(ctx, link); err != nil {
		return err
	}
	if c.Kept {
		o.out.Kept++
	}
	if slices.Contains(w.bases, id) || len(w.bases) < basesNamed {
		w.bases = append([]object.ID{id}, w.basesBut(id)...)
	} else {
		w.bases = append([]object.ID{id}, w.bases[:basesNamed-1]...)
	}
	for _, r := range o.routes { // what is there is not owed by a route any more
		if !s.Carries(r, w.V) {
			continue
		}
		if err := s.Catalog.PutCarried(r.Name, catalog.Carried{Snapshot: row.ID, At: catalog.At(s.Clock.Now()),
			SeenUntil: row.SeenUntil, Marked: row.Marked}); err != nil {
			return err
		}
	}
	s.rules.Reached(w.V.Name, o.peer.Name, rules.NewestState(row))
	s.rules.ForgetVerdicts([]string{w.V.Name})
	return nil
}

// basesBut are the bases without the snapshot that is sent itself.
func (w *RouteWork) basesBut(id object.ID) []object.ID {
	return slices.DeleteFunc(slices.Clone(w.bases), func(b object.ID) bool { return b == id })
}

func (o *chosenRun) sentence() string {
	there := fmt.Sprintf("%s at %s now", phrase.ManyAre(o.out.Snapshots, "snapshot"), o.peer.Name)
	sent := phrase.Size(o.out.SentBytes) + " sent"
	if o.out.SentBytes == 0 {
		sent = "all data was there already"
	}
	how := "kept there until "
	switch {
	case o.keep == nil:
		how = "the rules for " + o.peer.Name + " say for how long"
	case o.out.Kept < o.out.Snapshots:
		how = "it does not take that wish of how long, so its rules decide"
	case o.keep.Until == 0:
		how += "somebody there lets " + phrase.Pick(o.out.Snapshots, "it", "them") + " go"
	default:
		how += phrase.Stamp(o.keep.Time())
	}
	return there + "; " + sent + "; " + how
}
