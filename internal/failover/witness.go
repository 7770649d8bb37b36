package failover

import (
	"context"
	"fmt"
	"slices"
	"time"

	"candidharbor/internal/catalog"
	"candidharbor/internal/refusal"
)

// claims has the witness of the runbook note that this site takes over, or forget it.
func (o *act) claims(ctx context.Context, withdraw bool) error {
	var vols []*catalog.Volume
	for _, av := range o.doc.Volumes {
		if av.Up {
			continue
		}
		v, err := o.s.Catalog.Volume(av.Name)
		if err != nil {
			return err
		}
		vols = append(vols, v)
	}
	return o.s.authority.Claim(ctx, o.book.Witness, vols, o.row.ID, withdraw)
}

// witness asks a third site before this one takes over: of two that would, it lets one.
func (o *act) witness(ctx context.Context) (string, error) {
	if o.findRecord(); o.moved() {
		return "this site took over before", nil
	}
	err := o.claims(ctx, false)
	switch {
	case refusal.ClassOf(err) == refusal.Conflict: // what the other site does is not overruled in passing
		return "", fmt.Errorf("%w. If that site is lost too, take witness out of the runbook first", err)
	case err != nil && !o.doc.Anyway:
		return "", fmt.Errorf("%w. To take over without it: --anyway", err)
	case err != nil:
		o.j.Remark()
		return "without it, as was asked for: " + err.Error(), nil
	}
	return o.book.Witness + " knows of no other site that takes over", nil
}

// withdraw has the witness forget an act of which nothing came, so that another site may take over.
func (o *act) withdraw(ctx context.Context) {
	if o.findRecord(); o.moved() || !slices.ContainsFunc(o.doc.Steps, func(st actStep) bool {
		return st.Code == stepWitness && st.Attempt > 0
	}) {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	if err := o.claims(ctx, true); err != nil {
		o.s.Log.Warn("a witness could not be told that nothing came of a failover", "witness", o.book.Witness, "failover",
			o.row.ID, "error", err)
	}
}
