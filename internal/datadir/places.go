package datadir

// ofPlace is what counts of a place's site.yaml, which whoever had the disk may have written:
// how it keeps what it holds, and nothing that runs, calls or names a path of the host.
func (c Config) ofPlace(host Config) Config {
	return Config{Name: c.Name, Listen: c.Listen, PeerListen: c.PeerListen, Roots: host.Roots, Floor: c.Floor, Headroom: c.Headroom, WhenLow: c.WhenLow,
		Ballast: c.Ballast, Effort: c.Effort, Journal: new(bool)}
}
