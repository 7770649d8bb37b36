// Package rules turns policies into verdicts: what is kept and why, what a changed policy would
// let go, what is pruned, what caps and headroom take.
//
// Nothing is removed but by a verdict or by a person, never before the marks in the store were
// compared with the catalogue, while removal is held, or before the floor. What is decided and removed
// is done under the hold "prune". Others say what they still owe and use by Owes and Uses.
//
// The mutexes of the two caches are held for no call but to the catalogue. The package has no
// goroutines of its own: it begins runs.
package rules
