package disk

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"candidharbor/core/object"
	"candidharbor/internal/store"
)

// From says from where an origin comes that the store does not have whole. The zero value is of none.
type From struct {
	Site   string    `json:"site"`
	Volume string    `json:"volume"` // of the snapshot
	Root   object.ID `json:"root"`   // of the snapshot
	// Unstored says that nothing was stored since the disk became so: what changed is relative to an earlier base.
	Unstored bool `json:"unstored,omitempty"`
}

// Fetch gets objects of a snapshot from another site and gives each to take, which may be called by several at once:
// its record, or nil when that site does not have it whole. It wraps ErrWithdrawn when asking again is of no use.
type Fetch func(ctx context.Context, from From, ids []object.ID, take func(id object.ID, raw []byte) error) error

// ErrWithdrawn is wrapped when another site gives what a disk is made of no more.
var ErrWithdrawn = errors.New("the other site gives it no more")

// arrivingName is the file with those nodes of the origin's map that the store lacks: records, as in a pack. What it
// lacks itself is fetched anew.
const arrivingName = "arriving"

// ArrivingOwner is the owner of the pins of what arrives for a disk with another owner.
func ArrivingOwner(owner string) string { return owner + arrivingSuffix }

const arrivingSuffix = "-arriving"

// OwnerOf is the owner of a disk, also by that of the pins of what arrives for it.
func OwnerOf(owner string) string { return strings.TrimSuffix(owner, arrivingSuffix) }

// arrival fetches what the store lacks of an origin. What came is in the store, and pinned.
type arrival struct {
	from  From
	top   object.MapTop
	st    *store.Store
	fetch Fetch
	pins  []*store.Lease
	w     *store.Writer // under the last of the pins

	ctx    context.Context // ends when the disk is closed, or becomes another
	cancel context.CancelFunc
	use    sync.RWMutex // held, shared, by who puts something into the store; alone when it ends

	mu       sync.Mutex           // of what follows
	nodes    map[object.ID][]byte // of the map, as records
	underWay map[object.ID]chan struct{}
	hurt     map[object.ID]bool // what the other site does not have whole
	away     error              // why the last one waited in vain
	until    time.Time          // until when nobody waits because of that
}

func newArrival(opt Options, from From, to Stored, block uint32, records [][]byte) (*arrival, error) {
	pins := opt.Store.Pins(ArrivingOwner(opt.Owner))
	pin, err := opt.Store.OpenPin(ArrivingOwner(opt.Owner))
	if err != nil {
		return nil, err
	}
	a := &arrival{from: from, top: to.top(block), st: opt.Store, fetch: opt.Fetch, pins: append(pins, pin),
		w: opt.Store.NewWriter(pin), nodes: map[object.ID][]byte{}, underWay: map[object.ID]chan struct{}{},
		hurt: map[object.ID]bool{}}
	a.ctx, a.cancel = context.WithCancel(context.Background())
	for _, raw := range records {
		if id, _, err := store.OpenRecord(raw); err == nil {
			a.keep(id, raw)
		}
	}
	return a, nil
}

// openArrival goes on with one that a state record names.
func openArrival(opt Options, st *state) (*arrival, error) {
	raw, err := opt.Files.Read(arrivingName)
	if err != nil { // what it had is fetched anew
		raw = nil
	}
	var records [][]byte
	for len(raw) > 0 {
		n, _, err := store.RecordLength(raw)
		if err != nil || n <= 0 || n > len(raw) {
			break
		}
		records, raw = append(records, raw[:n]), raw[n:]
	}
	return newArrival(opt, st.Arriving, st.Origin, st.Block, records)
}

// pin is what holds what comes.
func (a *arrival) pin() *store.Lease { return a.pins[len(a.pins)-1] }

// holdHere pins what the store has of it already.
func (a *arrival) holdHere() error {
	pin := a.pin()
	for _, raw := range a.nodes {
		_, env, err := store.OpenRecord(raw)
		if err != nil {
			return err
		}
		for _, child := range env.Children() {
			if a.nodes[child] == nil {
				if _, err := pin.Acquire(child); err != nil {
					return err
				}
			}
		}
	}
	return a.w.Flush()
}

func (a *arrival) keep(id object.ID, raw []byte) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.nodes[id] = raw
}

// close ends it for this time.
func (a *arrival) close() error {
	a.cancel()
	a.use.Lock()
	defer a.use.Unlock()
	a.w.Close()
	return a.pin().Settle()
}

// end is close, after which nothing of it is needed any more.
func (a *arrival) end() error {
	err := a.close()
	a.mu.Lock()
	a.nodes = map[object.ID][]byte{}
	a.mu.Unlock()
	for _, pin := range a.pins {
		pin.Release()
	}
	return err
}

func lacks(err error) bool {
	return errors.Is(err, store.ErrNoObject) || errors.Is(err, store.ErrDamaged)
}

// node is a node of the map, from wherever it is.
func (a *arrival) node(id object.ID) (object.Envelope, error) {
	env, err := a.st.Get(id)
	if err == nil || !lacks(err) {
		return env, err
	}
	a.mu.Lock()
	raw := a.nodes[id]
	a.mu.Unlock()
	if raw == nil {
		err := a.patiently(func(ctx context.Context) error {
			return a.fetch(ctx, a.from, []object.ID{id}, func(got object.ID, record []byte) error {
				if record == nil || got != id {
					return fmt.Errorf("%w: the map is damaged there", ErrWithdrawn)
				}
				raw = record
				a.keep(id, raw)
				return nil
			})
		})
		if err != nil {
			return env, err
		}
	}
	_, env, err = store.OpenRecord(raw)
	return env, err
}

// patience is how long a request waits for another site before it fails, and firstPause how long before asking it for
// the second time; variables for tests.
var (
	patience   = 30 * time.Second
	firstPause = 100 * time.Millisecond
)

// patiently does what needs the other site, again while that is away.
func (a *arrival) patiently(do func(ctx context.Context) error) error {
	a.mu.Lock()
	away, until := a.away, a.until
	a.mu.Unlock()
	if away != nil && time.Now().Before(until) {
		return away
	}
	ctx, cancel := context.WithTimeout(a.ctx, patience)
	defer cancel()
	for wait := firstPause; ; wait = min(2*wait, 2*time.Second) {
		err := do(ctx)
		if err == nil || errors.Is(err, ErrWithdrawn) {
			return err
		}
		select {
		case <-time.After(wait):
			continue
		case <-ctx.Done():
		}
		err = fmt.Errorf("%w: it is still at %s: %w", ErrUnreadable, a.from.Site, err)
		if a.ctx.Err() == nil {
			a.mu.Lock()
			a.away, a.until = err, time.Now().Add(patience/3)
			a.mu.Unlock()
		}
		return err
	}
}

// demand has chunks in the store when it returns, for who waits for the first of them.
func (a *arrival) demand(ids []object.ID) error {
	err := a.patiently(func(ctx context.Context) error { return a.bring(ctx, ids) })
	if err != nil {
		return err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.hurt[ids[0]] {
		return fmt.Errorf("%w: %s does not have it whole", ErrUnreadable, a.from.Site)
	}
	return nil
}

// bring has chunks in the store when it returns, but for those that the other site does not have whole.
func (a *arrival) bring(ctx context.Context, ids []object.ID) error {
	for {
		mine, others, err := a.claim(ids)
		if err != nil || len(mine) == 0 && others == nil {
			return err
		}
		if len(mine) > 0 {
			err := a.put(ctx, mine)
			a.unclaim(mine)
			if err != nil {
				return err
			}
		}
		if others != nil {
			select {
			case <-others:
			case <-ctx.Done():
				return ctx.Err()
			}
		}
	}
}

// claim returns those of ids that the store lacks and nobody fetches yet, which the caller is to fetch; others is of
// one that is being fetched.
func (a *arrival) claim(ids []object.ID) (mine []object.ID, others <-chan struct{}, err error) {
	a.use.RLock()
	defer a.use.RUnlock()
	if err := a.ctx.Err(); err != nil {
		return nil, nil, err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	pin := a.pin()
	for _, id := range ids {
		if a.hurt[id] {
			continue
		}
		if c := a.underWay[id]; c != nil {
			others = c
			continue
		}
		is, err := pin.Acquire(id)
		if err != nil {
			return nil, nil, err
		}
		if !is {
			mine = append(mine, id)
		}
	}
	c := make(chan struct{})
	for _, id := range mine {
		a.underWay[id] = c
	}
	return mine, others, nil
}

func (a *arrival) unclaim(ids []object.ID) {
	a.mu.Lock()
	defer a.mu.Unlock()
	c := a.underWay[ids[0]]
	for _, id := range ids {
		delete(a.underWay, id)
	}
	close(c)
}

// put fetches chunks and makes them durable and visible.
func (a *arrival) put(ctx context.Context, ids []object.ID) error {
	a.use.RLock()
	defer a.use.RUnlock()
	if err := a.ctx.Err(); err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	defer context.AfterFunc(a.ctx, cancel)()
	err := a.fetch(ctx, a.from, ids, func(id object.ID, raw []byte) error {
		if raw == nil {
			a.mu.Lock()
			a.hurt[id] = true
			a.mu.Unlock()
			return nil
		}
		_, err := a.w.PutRecord(raw)
		return err
	})
	return errors.Join(err, a.w.Flush()) // what came stays
}
