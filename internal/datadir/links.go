package datadir

import (
	"candidharbor/internal/transfer"
)

// Identity is the key that the site shows at present.
func (s *Dir) Identity() *transfer.Identity { return s.id.Load() }
