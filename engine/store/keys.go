package store

import (
	"fmt"
	"strconv"
	"strings"
	"time"

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

// DepositKey is where it is kept what only the catalogue knows of a cluster.
func DepositKey(cluster string) string { return fmt.Sprintf("clusters/%s/deposit", cluster) }

// SharedDepositKey is where it is kept what only the catalogue of an installation knows and is
// of no cluster; with "" what all of those are below.
func SharedDepositKey(installation string) string { return "catalogue/" + installation }

// NoticeKey is where it is kept since when what of a cluster is to be deleted: packs, wal or all.
func NoticeKey(cluster, kind string) string {
	return fmt.Sprintf("clusters/%s/notices/%s", cluster, kind)
}

// EpochKey is where it is kept which catalogue used the store last; with "" what those are below.
func EpochKey(number string) string { return "epochs/" + number }

// WALPrefix is what all WAL of a cluster is below.
func WALPrefix(cluster string) string { return fmt.Sprintf("clusters/%s/wal/", cluster) }

// BackupPrefix is what everything of a base backup is below.
func BackupPrefix(cluster, backup string) string {
	return fmt.Sprintf("clusters/%s/bases/%s/", cluster, backup)
}

// ManifestKey is the manifest of a base backup: it is put last, and without it there is no backup.
func ManifestKey(cluster, backup string) string { return BackupPrefix(cluster, backup) + "manifest" }

// ReportPrefix is what the reports of proofs of a base backup are below.
func ReportPrefix(cluster, backup string) string { return BackupPrefix(cluster, backup) + "proofs/" }

// ReportKey is where the report of a proof is kept, with the base backup that it is about.
func ReportKey(cluster, backup, proof string) string {
	return ReportPrefix(cluster, backup) + proof + ".html"
}

// PackPrefix is what all packs of a cluster are below.
func PackPrefix(cluster string) string { return fmt.Sprintf("clusters/%s/packs/", cluster) }

// PackKey is a generation of a pack: 0 as it was first written, higher ones condensed.
func PackKey(cluster, pack string, generation uint32) string {
	if generation == 0 {
		return PackPrefix(cluster) + pack
	}
	return fmt.Sprintf("%s%s.%d", PackPrefix(cluster), pack, generation)
}

// ParsePackKey reads which pack of which generation a key below PackPrefix names.
func ParsePackKey(cluster, key string) (pack string, generation uint32, ok bool) {
	rest, ok := strings.CutPrefix(key, PackPrefix(cluster))
	if !ok || rest == "" || strings.Contains(rest, "/") {
		return "", 0, false
	}
	pack, digits, condensed := strings.Cut(rest, ".")
	if !condensed {
		return pack, 0, true
	}
	n, err := strconv.ParseUint(digits, 10, 32)
	return pack, uint32(n), err == nil && n > 0
}

// DataPackID and SheetPackID name packs of a backup that hold extents and sheets;
// packs are numbered from 1.
func DataPackID(backup string, n int) string  { return fmt.Sprintf("%s-%06d", backup, n) }
func SheetPackID(backup string, n int) string { return fmt.Sprintf("%s-s%05d", backup, n) }

// PackOf tells whether a pack was written for a backup.
func PackOf(pack, backup string) bool { return strings.HasPrefix(pack, backup+"-") }

// OfBackup tells whether an object was written for a backup: its manifest or a pack.
func OfBackup(cluster, key, backup string) bool {
	pack, _, ok := ParsePackKey(cluster, key)
	return ok && PackOf(pack, backup) || strings.HasPrefix(key, BackupPrefix(cluster, backup))
}

// ClusterOf reads the cluster's id from a key, "" if the key is of no known form.
func ClusterOf(key string) string {
	rest, ok := strings.CutPrefix(key, "clusters/")
	id, _, below := strings.Cut(rest, "/")
	if !ok || !below {
		return ""
	}
	return id
}

// NameKey is the store's own record: what it is, whose, and its keys. SpareKey is the same once
// more: of an encrypted store nothing can be read without it.
const (
	NameKey  = "velvet-store"
	SpareKey = "velvet-store.spare"
)

// IndexKey is where the journal of a WAL segment is kept.
func IndexKey(cluster string, t pg.Timeline, segment string) string {
	return fmt.Sprintf("clusters/%s/journal/%08x/%s", cluster, uint32(t), segment)
}

// ChapterKey is where the heads of a timeline's journal are gathered; chapters are numbered from 0.
func ChapterKey(cluster string, t pg.Timeline, chapter uint64) string {
	return fmt.Sprintf("clusters/%s/journal/%08x/chapter-%010d", cluster, uint32(t), chapter)
}

// AuthorsKey is where it is kept who wrote from a time on.
func AuthorsKey(cluster string, from time.Time) string {
	return AuthorsDay(cluster, from) + from.UTC().Format("150405.000000")
}

// AuthorsDay is what the authors of a day are below; keys sort by time.
func AuthorsDay(cluster string, day time.Time) string {
	return AuthorsPrefix(cluster) + day.UTC().Format("2006-01-02") + "/"
}

// AuthorsPrefix is what all of a cluster's authors are below.
func AuthorsPrefix(cluster string) string { return fmt.Sprintf("clusters/%s/authors/", cluster) }

// JournalPrefix is what the whole journal of a cluster is below.
func JournalPrefix(cluster string) string { return fmt.Sprintf("clusters/%s/journal/", cluster) }
