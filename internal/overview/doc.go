// Package overview says how all stands: Today, alarms and who is told of them, objectives,
// reports, the calendar, and why a snapshot is kept.
//
// It decides and changes nothing but its own records of alarms. mu guards when it looked last.
package overview
