package datadir

import (
	"crypto/x509"
	"log/slog"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"candidharbor/internal/catalog"
	"candidharbor/internal/clock"
	"candidharbor/internal/store"
	"candidharbor/internal/transfer"

	"filippo.io/age"
)

// Dir is an open data directory. Its parts may be used by all, side by side; none of its fields
// changes while it is open.
type Dir struct {
	Path    string
	IsPlace bool // it is a further place of another site
	Conf    Config
	Floor   time.Duration              // of site.yaml
	Left    time.Duration              // how long what was left behind is kept
	Room    func() (free, total int64) // of the store's filesystem
	Clock   clock.Clock
	Log     *slog.Logger
	Sealing *age.X25519Identity // opens crates that are sealed for this site
	Catalog *catalog.Catalog
	Store   *store.Store

	lock     *os.File
	id       atomic.Pointer[transfer.Identity] // replaced when the key is
	certOnce sync.Once
	cert     *x509.Certificate // of the console, as site.yaml names it; nil: none
}

// SetIdentity changes the key that the site shows.
func (s *Dir) SetIdentity(id *transfer.Identity) { s.id.Store(id) }

// Place is the name of the site's own store.
func (s *Dir) Place() string { return s.Conf.Name }

// Name is the site's name.
func (s *Dir) Name() string { return s.Conf.Name }

// CopiesDir holds the copies of the catalogue.
const CopiesDir = "copies"

// NamesDir holds the indexes of names that searches made, so that they are not made anew after
// each start. What lies there can be deleted at any time.
const NamesDir = "names"

// leftBehind is how long what was left behind is kept where site.yaml does not say it.
const leftBehind = 30 * 24 * time.Hour
