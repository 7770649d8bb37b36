// Package datadir opens the data directory of a site: what every other part of the service is
// given to work with.
//
// A data directory is locked while it is open and holds:
//
//	site.yaml    name, addresses, roots
//	keys/        the site's Ed25519 key and its TLS certificate
//	catalog.db   records
//	store/       the place named after the site
//	scan/        scan caches
//	candid.sock  the socket for clients on the same host
//
// A Dir has no goroutines of its own.
package datadir
