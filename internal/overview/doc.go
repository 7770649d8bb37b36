// Package overview says how all stands: Today, alarms and whom they go to, objectives,
// reports, the calendar, and why a snapshot is kept.
//
// It decides and changes nothing but its own records of alarms. mu guards when it looked last.
package overview
