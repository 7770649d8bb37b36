// Package authority says which site is the active one of a history: the one that takes its snapshots and serves it
// writable.
//
// Each history has a chain of signed records, which never expires and is kept apart from its snapshots. A record says
// which site is active in which term, from which snapshot on the history goes on there, and which sites may sign the
// next one. Without any record the site of its origin is active, in term 1.
//
// What a set of records says depends on the set alone, not on the order in which they were learnt: the highest record
// by (term, site, edition) whose chain is whole holds. So sites that have exchanged all they know agree, also after
// two of them signed the same term without knowing of each other.
package authority
