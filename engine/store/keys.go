package store

import (
	"fmt"

	"velvetrewind/core/pg"
)

// The names of objects. Everything of a cluster is below its id, so that the
// catalogue can be made anew from the store and two clusters never meet.

// SegmentKey is where a finished WAL segment is kept.
func SegmentKey(cluster string, t pg.Timeline, segment string) string {
	return fmt.Sprintf("clusters/%s/wal/%08x/%s", cluster, uint32(t), segment)
}

// HistoryKey is where a timeline's history file is kept.
func HistoryKey(cluster string, t pg.Timeline) string {
	return fmt.Sprintf("clusters/%s/wal/%s", cluster, pg.HistoryName(t))
}

// RecordKey is where it is kept how a cluster is reached.
func RecordKey(cluster string) string { return fmt.Sprintf("clusters/%s/record", cluster) }

// WALPrefix is what all WAL of a cluster is below.
func WALPrefix(cluster string) string { return fmt.Sprintf("clusters/%s/wal/", cluster) }

// BackupPrefix is what everything of a base backup is below.
func BackupPrefix(cluster, backup string) string {
	return fmt.Sprintf("clusters/%s/bases/%s/", cluster, backup)
}

// ManifestKey is the manifest of a base backup: it is put last, and without it there is no backup.
func ManifestKey(cluster, backup string) string { return BackupPrefix(cluster, backup) + "manifest" }

// PackKey is a pack of a base backup; packs are numbered from 1.
func PackKey(cluster, backup string, pack int) string {
	return fmt.Sprintf("%spack-%06d", BackupPrefix(cluster, backup), pack)
}

// IndexKey is where the journal of a WAL segment is kept.
func IndexKey(cluster string, t pg.Timeline, segment string) string {
	return fmt.Sprintf("clusters/%s/journal/%08x/%s", cluster, uint32(t), segment)
}

// ChapterKey is where the heads of a timeline's journal are gathered; chapters are numbered from 0.
func ChapterKey(cluster string, t pg.Timeline, chapter uint64) string {
	return fmt.Sprintf("clusters/%s/journal/%08x/chapter-%010d", cluster, uint32(t), chapter)
}

// JournalPrefix is what the whole journal of a cluster is below.
func JournalPrefix(cluster string) string { return fmt.Sprintf("clusters/%s/journal/", cluster) }
