// Package host does what must be done on a database host: directories and files
// that belong to the database's OS user, free ports, and server processes.
//
// Invariant: PostgreSQL never runs as root. Where the service is root, everything
// here is done for the configured OS user, and what is written belongs to it. No
// other package touches a data directory or starts a program, so that a host
// elsewhere can be served by another implementation of the same methods.
package host
