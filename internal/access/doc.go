// Package access knows who may come in: people with passwords, roles and folders, tokens,
// sessions, and the ledger of what all of them did.
//
// What is asked for is entered in the ledger before it is done. A password is counted as tried before
// it is looked at. The mutex of the throttle is held for no call into another part. The package has no
// goroutines.
package access
