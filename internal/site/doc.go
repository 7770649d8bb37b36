// Package site is the service: it joins store, catalogue, live data and peers, runs the
// schedule and holds every use case that the API offers.
//
// A site is a data directory, locked while open:
//
//	site.yaml    name, addresses, roots
//	keys/        the site's Ed25519 key and its TLS certificate
//	catalog.db   records
//	store/       the place named after the site
//	scan/        scan caches
//	candid.sock  the socket for clients on the same host
//
// The store decides what exists. When service and catalogue disagree after a crash, the
// catalogue is brought in line on opening.
package site
