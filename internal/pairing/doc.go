// Package pairing holds the lines to other sites: invitations, keys and their rotation, what a
// site may do here, its pace, the further places of this site, and remote administration.
//
// Later parts register what they answer with Handle; a request is refused before its handler sees
// it when its site lacks the grant. A key that is not known may pair and nothing else.
//
// startsMu comes before mu; mu guards the maps and is held for no call into another part. Lines are
// served by goroutines of the run engine; KeepLines and ServePeers run until the context or the
// site ends.
package pairing
