// Package retention decides which snapshots stay, and says why.
//
// Kept is the union of independent rules. A tier divides time, in its zone, into
// buckets (hours, days, ISO weeks, months, years); a bucket is represented by the
// snapshot that is greatest by position among those standing in it, and the tier
// keeps the newest so many distinct representatives. A snapshot stands in every
// bucket from when it was taken to when it was last seen unchanged. No clock decides
// between snapshots, only their position, so deciding often or seldom ends in the
// same set, and adding a rule never removes.
//
// Snapshots made by hand and safety snapshots neither count nor represent; they have
// ends of their own. Always kept are the newest complete snapshot and what is owed to
// another place.
package retention
