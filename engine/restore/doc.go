// Package restore turns a moment into a boundary and a plan, and lays a base
// backup out on disk.
//
// Invariant: what a plan names is there when the plan is made. Every byte laid out was verified twice on its way:
// each frame by its hash, each file by the checksum that the original server computed. Servers, and the WAL that they
// replay, are left to the packages copies and feed.
package restore
