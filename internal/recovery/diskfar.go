package recovery

import (
	"context"
	"fmt"

	"candidharbor/core/object"
	"candidharbor/internal/refusal"
	"candidharbor/internal/volume/disk"
)

// look fetches what lacks of the map alone, before the disk goes back: the rest comes behind it.
func (o *diskRestore) look(ctx context.Context) error {
	o.far.ctx = ctx
	o.j.Begin(nil)
	o.j.Say("looking at what " + o.far.peer.Name + " has")
	if err := o.far.again(o.j, o.far.lookThroughDisk); err != nil {
		return refusal.Wrap(refusal.Elsewhere, fmt.Errorf("the disk is as it was, because the map of the snapshot could "+
			"not be fetched from %s: %w", o.far.peer.Name, err))
	}
	if len(o.far.hurt) > 0 {
		return refusal.Conflictf("snapshot %s is damaged at %s, so the disk does not go back to it: candid store verify "+
			"there gets what is damaged from other sites", o.row.ID[:12], o.far.peer.Name)
	}
	for _, raw := range o.far.kept {
		o.nodes = append(o.nodes, raw)
	}
	if len(o.nodes)+len(o.far.content) > 0 {
		return nil
	}
	return o.whole() // all of it is here, and held by the lease of the look
}

// goBack has the disk be as the snapshot is, and what lacks of that come behind it.
func (o *diskRestore) goBack(ctx context.Context) error {
	if o.far == nil || len(o.nodes)+len(o.far.content) == 0 {
		return o.s.disks.GoBack(ctx, o.live.Name, o.stored())
	}
	id, err := object.ParseID(o.row.ID)
	if err != nil {
		return err
	}
	from := disk.From{Site: o.far.peer.Name, Volume: o.v.Name, Root: id}
	if err := o.s.disks.GoBackFar(ctx, o.live.Name, o.stored(), from, o.nodes); err != nil {
		return err
	}
	r, err := o.s.disks.Arrive(o.live.Name, fmt.Sprintf("run %d", o.j.ID()))
	if err != nil { // the service stops: its next start goes on
		o.j.Logf("what lacks does not come yet: %v", err)
		return nil
	}
	o.arrives = r.ID
	return nil
}
