// Package pg holds PostgreSQL's own vocabulary: log sequence numbers, timelines,
// segment names, transaction ids, the control file, the server's
// backup manifest, and the page header with its checksum.
//
// Invariant: every value here is a plain value decoded from bytes or text that
// somebody else read; nothing in this package opens a file or a connection.
// Formats follow the headers named beside each decoder; what differs between
// versions of PostgreSQL stands in one table, in version.go.
package pg
