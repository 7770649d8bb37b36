package recovery

import (
	"context"
	"fmt"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/phrase"
	"candidharbor/internal/volume/disk"
)

// planDisk tells what a restore of a disk would do.
func (e *Viewer) planDisk(ctx context.Context, ask api.RestoreAsk) (*api.RestoreResult, error) {
	o := &diskRestore{s: e.s, ask: ask}
	if err := o.check(ctx, e); err != nil {
		return nil, err
	}
	defer o.done()
	if o.far != nil {
		if err := o.far.lookThroughDisk(); err != nil {
			return nil, err
		}
	}
	out := o.result()
	out.DryRun = true
	if o.live == nil {
		out.Summary, out.Bytes = "1 file would be created", o.root.Top.Size
		return out, nil
	}
	if ask.Anew {
		out.Summary = fmt.Sprintf("the disk cannot be opened, so no safety snapshot is taken: what is left of it would be "+
			"put aside, and all of its %s would come from the snapshot, as they are read", phrase.Size(o.root.Top.Size))
		return out, nil
	}
	d, err := e.s.disks.Disk(o.live.Name)
	if err != nil {
		return nil, err
	}
	n, err := o.differing(ctx, d)
	if err != nil {
		return nil, err
	}
	changed := d.ChangedBlocks()
	most := min((n+changed)*int64(o.root.Block), o.root.Top.Size)
	out.Summary = fmt.Sprintf("a safety snapshot would have %s written since the newest snapshot; then at most %s would "+
		"come from the snapshot, as they are read", phrase.Size(changed*int64(d.Block())), phrase.Size(most))
	if o.far != nil && o.far.bytes > 0 {
		out.Summary += fmt.Sprintf("; what %s has of it would come while the disk is in use already", o.far.peer.Name)
	}
	if c := e.s.disks.Connected(o.live.Name); c > 0 {
		out.Summary += fmt.Sprintf("; %s connected and must leave, or be disconnected, before that",
			phrase.ManyAre(c, "client"))
	}
	return out, nil
}

// differing counts the blocks in which a snapshot differs from the last one that a disk is relative to.
func (o *diskRestore) differing(ctx context.Context, d *disk.Disk) (n int64, err error) {
	base, to, get := d.Base(), o.root, o.s.Store.Get
	if o.far != nil {
		get = o.far.Get
	}
	top := object.MapTop{}
	if !base.Map.IsZero() {
		top = object.MapTop{ID: base.Map, Level: object.MapLevel(object.Blocks(base.Size, to.Block))}
	}
	err = object.DiffMaps(get, top, to.Map(), func(int64, object.Slot, object.Slot) error {
		n++
		return ctx.Err()
	})
	return n, err
}
