// Package recovery brings back what was: moments and their files, search, comparison, restores
// and what takes them back, recipes, and tests of restores.
//
// All that a person asks for goes by a Viewer, which shows a file owner only what the kernel would. A
// restore in place begins with a safety snapshot and is taken up again after a crash.
//
// reportedMu guards a map and is held for no wait. Goroutines belong to the run engine.
package recovery
