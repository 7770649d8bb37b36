package datadir

// Place is the name of the site's own store.
func (s *Dir) Place() string { return s.Conf.Name }

// Name is the site's name.
func (s *Dir) Name() string { return s.Conf.Name }

// Config returns the site's configuration.
func (s *Dir) Config() Config { return s.Conf }
