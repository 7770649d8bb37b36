// Package cadence says when snapshots are due.
//
// A phrase compiles to a Cadence, whose Next is pure: the same instants come out
// whenever and however often it is asked.
//
//	every 15 minutes [between 07:00 and 19:00] [on mon-fri]
//	every 6 hours
//	hourly at :20 [between …] [on …]
//	daily at 23:30[, 12:00] [on mon-fri]
//	weekly on sunday[, wednesday] at 02:00
//	monthly on day 15 at 03:00
//	monthly on last day at 23:00
//	monthly on first monday at 03:00
//
// any of them with "in Europe/Lisbon" at the end, else in the zone given.
//
// "every" counts elapsed time from midnight (from the full hour when it divides the
// hour): a clock change leaves no hole and no double. The other forms are times on
// the wall: one that comes twice fires the first time, one that is left out fires at
// the next instant that exists.
package cadence
