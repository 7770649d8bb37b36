// Package upkeep looks after store and catalogue: it brings the catalogue in line with the store
// at each start, verifies, sweeps, copies the catalogue and rebuilds it.
//
// The store decides what exists; the catalogue follows it. All of its work is runs of the run engine.
package upkeep
