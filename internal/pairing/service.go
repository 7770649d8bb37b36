package pairing

import (
	"context"
	"net"
	"sync"

	"candidharbor/internal/access"
	"candidharbor/internal/catalog"
	"candidharbor/internal/datadir"
	"candidharbor/internal/limit"
	"candidharbor/internal/run"
	"candidharbor/internal/transfer"
)

// Service holds the lines to paired sites and answers what they ask.
type Service struct {
	*datadir.Dir
	run    *run.Engine
	access *access.Service

	handlers  map[string]handler // by request
	strangers limit.Places       // by address
	lines     limit.Places       // by paired site

	onPace      func(peer string) error                     // the pace towards it is another
	onAttached  func(place string) (waiting int, err error) // a place of the site is there again
	onGrants    func() error                                // what is granted, or a key, is another
	onGreeted   []func(ctx context.Context, p *catalog.Peer) error
	onPutBack   func(peer string, two bool) error             // this site went back, or there are two of it
	setQuota    func(peer string, bytes int64) error          // of what it brings
	openFurther func(name, dir string) (*FurtherPlace, error) // a place of this site

	startsMu sync.Mutex // what was seen of starts is read, compared and stored as one step

	mu           sync.Mutex
	links        map[string]*transfer.Link // by peer
	by           map[string]*lineBy        // by peer and address
	peerAddr     net.Addr
	cut          bool                     // the line is cut, for demos and tests
	placesHere   map[string]*FurtherPlace // that are attached, by name
	paces        map[string]*Paced        // by peer
	headReported map[string]int64         // entries of the ledger that peers know of
	rooms        map[string]int64         // free bytes where peers' stores lie, as they last said
	remote       *remoteListener          // nil: other sites are not answered over it
}

// New works in a data directory.
func New(dir *datadir.Dir, run *run.Engine, access *access.Service) *Service {
	s := &Service{Dir: dir, run: run, access: access, handlers: map[string]handler{},
		strangers: limit.Places{All: mostStrangers, Each: mostStrangersFrom}, lines: limit.Places{Each: mostLines},
		links: map[string]*transfer.Link{}, by: map[string]*lineBy{}, placesHere: map[string]*FurtherPlace{},
		paces:        map[string]*Paced{},
		headReported: map[string]int64{}, rooms: map[string]int64{}, onGrants: func() error { return nil },
		onPutBack: func(string, bool) error { return nil }}
	s.answerPeers()
	return s
}

// OnPace has a function called when the pace towards a peer is another.
func (s *Service) OnPace(f func(peer string) error) { s.onPace = f }

// OnAttached has a function called when a place of the site is there again; it says how many
// routes waited for it.
func (s *Service) OnAttached(f func(place string) (waiting int, err error)) { s.onAttached = f }

// OnGrants has a function called when other sites may do something else here, or have other keys.
func (s *Service) OnGrants(f func() error) { s.onGrants = f }

// OnGreeted has a function called when a peer was greeted.
func (s *Service) OnGreeted(f func(ctx context.Context, p *catalog.Peer) error) {
	s.onGreeted = append(s.onGreeted, f)
}

// OnPutBack has a function called when a peer says that this site was put back to an earlier state, or that two sites
// show its key.
func (s *Service) OnPutBack(f func(peer string, two bool) error) { s.onPutBack = f }

// SetsQuota has a function called that bounds what a peer brings.
func (s *Service) SetsQuota(f func(peer string, bytes int64) error) { s.setQuota = f }

// OpensPlaces has a function called that opens a further place of this site in a directory.
func (s *Service) OpensPlaces(f func(name, dir string) (*FurtherPlace, error)) { s.openFurther = f }
