// Package run runs work: queued, one beside the other, with progress, an end that is recorded and
// a way to cancel it. It tells subscribers what changes, and wakes the schedule. It knows nothing
// of what runs.
//
// Engine.Hold gives a key to one run at a time; see Key for the order in which they are taken.
// The engine's mutex guards its maps and is held for no call into another package.
//
// Goroutines are begun by Engine.Start, one a run, and by Engine.Go. EndRuns ends their context and
// waits for all of them.
package run
