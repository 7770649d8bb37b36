// Package records makes the catalogue's rows of what the store holds: a row of a root record and
// its marks, a volume of the first snapshot that came of it. The store decides what exists.
package records

import "candidharbor/internal/datadir"

// Service reads the store of a data directory and writes its catalogue.
type Service struct{ *datadir.Dir }

// New works in a data directory.
func New(dir *datadir.Dir) *Service { return &Service{dir} }
