// Package backup takes base backups: it reads the server's archive stream as it
// comes, checks every page and every file, and writes frames into packs.
//
// Invariant: the manifest is put last, after every pack is safe and capture holds
// the WAL up to the stop LSN. What has no manifest is not a backup, and Undo
// removes it. Memory does not grow with the cluster: at most a few dozen frames
// are under way, and 24 bytes are kept for each file.
package backup
