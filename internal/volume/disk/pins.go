package disk

import (
	"errors"

	"candidharbor/core/object"
	"candidharbor/internal/store"
)

// openPins holds what base and origin name, and lets go what earlier ones named. A disk is opened also when
// the store has lost that: without its base all of it counts as changed, and blocks of a lost origin cannot
// be read.
func (d *Disk) openPins() error {
	old := d.store.Pins(d.opt.Owner)
	if len(old) == 1 && old[0].HoldsAll(d.needs(d.state)...) { // as nearly always
		return nil
	}
	_, err := d.pin(d.state)
	if errors.Is(err, store.ErrNoObject) {
		d.state.Base = Stored{}
		if err := d.maps.write(secChanged, d.maps.changed.Load(), 0, d.blocks, true); err != nil {
			return err
		}
		if _, err = d.pin(d.state); errors.Is(err, store.ErrNoObject) {
			return nil // the earlier pins stay: it may be found again
		}
	}
	if err != nil {
		return err
	}
	for _, l := range old {
		l.Release()
	}
	return nil
}

// needs are the maps that a state names and the store has. An origin that arrives has pins of its own.
func (d *Disk) needs(st state) (ids []object.ID) {
	for i, m := range []Stored{st.Base, st.Origin} {
		if !m.Map.IsZero() && (i == 0 || st.Arriving.Site == "") {
			ids = append(ids, m.Map)
		}
	}
	return ids
}

// pin holds what a state names, durably.
func (d *Disk) pin(st state) (*store.Lease, error) {
	return d.store.Pin(d.opt.Owner, d.needs(st)...)
}

// setState replaces the state record. What the new one names is held before, and what the old one named
// until after. The caller holds stateMu.
func (d *Disk) setState(st state) error {
	old := d.store.Pins(d.opt.Owner)
	fresh, err := d.pin(st)
	if err != nil {
		return err
	}
	if err := st.write(d.opt.Files); err != nil {
		var unclear *store.UnclearError
		if !errors.As(err, &unclear) {
			fresh.Release()
		}
		return err // which of both counts after a power cut is not known: both stay
	}
	d.state = st
	for _, l := range old {
		l.Release()
	}
	return nil
}
