package disk

import (
	"context"
	"errors"
	"fmt"

	"candidharbor/core/object"

	"golang.org/x/sync/errgroup"
)

// Arriving says from where something of the disk is still to come.
func (d *Disk) Arriving() (from From, is bool) {
	a := d.arrival.Load()
	if a == nil {
		return From{}, false
	}
	return a.from, true
}

// arrivalWays is how many requests for what arrives are on their way at once, and arrivalAtOnce of how many chunks.
const (
	arrivalWays   = 4
	arrivalAtOnce = 128
)

// Arrived is what bringing came to.
type Arrived struct {
	Damaged int64 // chunks that the other site does not have whole
}

// Arrive brings what the store lacks of the disk's origin, after which the other site is not needed any more. What came
// stays when it ends early. begun is told how many bytes are to come at most, and progress of those that came.
func (d *Disk) Arrive(ctx context.Context, begun, progress func(int64)) (out Arrived, err error) {
	a := d.arrival.Load()
	if a == nil {
		return out, nil
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	defer context.AfterFunc(a.ctx, cancel)()
	a.mu.Lock()
	clear(a.hurt) // it may be whole again
	a.mu.Unlock()
	ids, err := a.lacking(ctx)
	if err != nil {
		return out, err
	}
	begun(int64(len(ids)) * d.block)
	g, going := errgroup.WithContext(ctx)
	g.SetLimit(arrivalWays)
	for len(ids) > 0 && going.Err() == nil {
		some := ids[:min(len(ids), arrivalAtOnce)]
		ids = ids[len(some):]
		g.Go(func() error {
			err := a.bring(going, some)
			if err == nil {
				progress(int64(len(some)) * d.block)
			}
			return err
		})
	}
	if err := errors.Join(g.Wait(), ctx.Err()); err != nil {
		return out, err
	}
	a.mu.Lock()
	out.Damaged = int64(len(a.hurt))
	a.mu.Unlock()
	if out.Damaged > 0 {
		return out, nil
	}
	if err := a.closeMap(); err != nil {
		return out, err
	}
	return out, d.arrived(a)
}

// closeMap puts the nodes of the map into the store, which has all chunks that they lead to.
func (a *arrival) closeMap() error {
	a.use.RLock()
	defer a.use.RUnlock()
	if err := a.ctx.Err(); err != nil {
		return err
	}
	seen := map[object.ID]bool{}
	var visit func(id object.ID, level int) error
	visit = func(id object.ID, level int) error {
		if seen[id] {
			return nil
		}
		seen[id] = true
		if is, err := a.pin().Acquire(id); is || err != nil {
			return err
		}
		env, err := a.node(id)
		if err != nil {
			return err
		}
		for _, child := range env.Children() {
			if level == 0 {
				break
			}
			if err := visit(child, level-1); err != nil {
				return err
			}
		}
		_, err = a.w.Put(env.Kind, env.Children(), env.Payload)
		return err
	}
	if err := visit(a.top.ID, int(a.top.Level)); err != nil {
		return err
	}
	return a.w.Flush()
}

// arrived has the disk rely on the store alone.
func (d *Disk) arrived(a *arrival) error {
	d.shapeMu.Lock()
	defer d.shapeMu.Unlock()
	if d.closed.Load() || d.arrival.Load() != a {
		return ErrClosed
	}
	d.stateMu.Lock()
	defer d.stateMu.Unlock()
	st := d.state
	st.Arriving = From{}
	if err := d.setState(st); err != nil {
		return err
	}
	// Writes and the storing of an instant use the origin meanwhile: it stays, and asks nobody from here on.
	d.arrival.Store(nil)
	d.origin.arrival.Store(nil)
	return errors.Join(a.end(), d.opt.Files.Remove(arrivingName))
}

// lacking are the chunks that the store does not have, each once.
func (a *arrival) lacking(ctx context.Context) (ids []object.ID, err error) {
	if a.top.ID.IsZero() {
		return nil, nil
	}
	pin := a.pin()
	seen := map[object.ID]bool{}
	var visit func(id object.ID, level int) error
	visit = func(id object.ID, level int) error {
		if seen[id] || ctx.Err() != nil {
			return ctx.Err()
		}
		seen[id] = true
		if is, err := pin.Acquire(id); is || err != nil {
			return err
		}
		if level < 0 {
			ids = append(ids, id)
			return nil
		}
		env, err := a.node(id)
		if err != nil {
			return err
		}
		if n, err := object.DecodeMap(env); err != nil || int(n.Level) != level {
			return errors.Join(fmt.Errorf("%w: what it has of the disk is no map", ErrWithdrawn), err)
		}
		for _, child := range env.Children() {
			if err := visit(child, level-1); err != nil {
				return err
			}
		}
		return nil
	}
	return ids, visit(a.top.ID, int(a.top.Level))
}
