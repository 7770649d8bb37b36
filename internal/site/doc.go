// Package site is the service of one site: it opens a data directory, makes the parts that work
// there, keeps the schedule, and ends them. It decides nothing itself.
//
// Parts are made in the order of the fields of Site, each given those before it. Close ends them the
// other way round: mounts and clones first, then all that runs, then lines, catalogue and store.
package site
