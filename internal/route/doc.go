// Package route carries snapshots from site to site: routes that bring and routes that fetch,
// copies laid out at the other end, crates, and the healing of damaged objects.
//
// What arrives is judged by the key that signed it. What a peer may know of and be given is decided
// here, in one place for each kind of request (see answerRoutes).
//
// rows comes before mu; rows is held while a row is changed in the catalogue, mu for no call into
// another part. Carries are runs of the run engine.
package route
