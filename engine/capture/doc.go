// Package capture receives a cluster's WAL without end and brings it into the store.
//
// How WAL travels: one goroutine, on a thread of its own, takes what has arrived and appends it to
// a partial file in the spool, a directory on local disk; the server is told "flushed" only after
// that file was flushed, at once where commits wait for it. A finished segment is renamed,
// compressed, put into the store and recorded, whether or not it can be read; then it is read
// record by record into the change journal, and only then does it leave the spool. One that cannot
// be read is marked, and a hole: it holds nothing up.
//
// What holds at any instant, so that a kill loses nothing:
//   - everything below the flush position that the server has heard is in the
//     spool or in the store;
//   - the slot keeps everything above it on the server;
//   - after a restart the partial file is trusted up to the end of its last whole record, or the
//     slot's position if that is further, for a crash may have put the slot back; it is not trusted
//     at all where the store has gone beyond it;
//   - nothing stored is replaced by less;
//   - what is called complete is measured against the server's own clock and the end of its WAL,
//     asked for together.
//
// One instance captures a cluster at a time: whoever holds the catalogue's lease. It has stopped
// writing before another begins.
package capture
