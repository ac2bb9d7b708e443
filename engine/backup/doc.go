// Package backup takes base backups, and removes them: it reads the server's archive
// stream, or only what the WAL says has changed, checks every page and every file, and
// stores the extents that no older backup holds in packs.
//
// Invariant: the manifest is put last, after every pack is safe and capture holds the WAL from the start to the stop
// LSN. What has no manifest is not a backup, and what no manifest names is removed by Tidy. Memory does not grow with
// the cluster: at most a few dozen extents are under way, and a few dozen bytes are kept for each file. Which base
// backups stay is decided by core/keep, and applied by package retention.
package backup
