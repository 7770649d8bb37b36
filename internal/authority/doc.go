// Package authority keeps the records of who is active, learns those of other sites and signs this site's own.
//
// A record counts from when it is durable in the store. Only then the catalogue follows (Volume.Active), and only then
// those are told that stand back or bring up. After a crash between these the next start does the rest.
//
// Whoever makes a snapshot durable, or a write of a client, does so in Within, which a record of this site's history
// waits for: once a record counts nothing of the term before is acknowledged any more.
//
// Locks: acts (one record is signed or learnt at a time), then mu (the chains), then the gates. What is told of a
// change is called without any of them.
package authority
