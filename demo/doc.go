// Package demo plays the whole job once on real servers: Saltmarsh Ferries is
// protected, a clerk's script deletes the season's bookings, and a side copy from
// before that transaction is made and proved. Every step is a velvet command, run
// as its user would run it.
//
// Invariant: the demo works in one directory, which bears its mark; it ends every
// process that it started, and removes nothing without the mark.
package demo
