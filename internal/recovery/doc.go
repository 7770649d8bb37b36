// Package recovery brings back what was: moments and their files, search, comparison, restores
// and what takes them back, clones, mounts, recipes, and tests of restores.
//
// All that a person asks for goes by a Viewer, which shows a file owner only what the kernel would. A
// restore in place begins with a safety snapshot and is taken up again after a crash.
//
// mounts is held while a mount or a clone is made or ended and comes before usesMu and reportedMu,
// which guard maps. Goroutines belong to the run engine; mounts end with EndMounts and EndClones.
package recovery
