// Package replication speaks PostgreSQL's streaming replication protocol as a
// client: identification, slots, timeline history, the WAL stream and the base
// backup. It carries bytes; what they mean and where they go is the caller's.
//
// Invariant: the flush position that the server hears is only ever the one that
// the caller passed to Report. Source: "Streaming Replication Protocol" in the
// server's documentation.
package replication
