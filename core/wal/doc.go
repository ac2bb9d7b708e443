// Package wal reads the write-ahead log: bytes become pages, pages become
// records, and records become the typed records of their resource managers,
// one file for each manager.
//
// Invariant: a record that Reader.Next returns was there whole, its CRC is right
// and it links to the one before it. What cannot be read so is a *Damage that
// names the LSN, never a guess. Where the bytes come from is the caller's business.
//
// Formats: access/xlog_internal.h and access/xlogrecord.h of PostgreSQL 14 to 18.
package wal
