package pg

import (
	"fmt"
	"strconv"
	"strings"
)

// Version is one major version of PostgreSQL, with everything in which it differs from the
// others as far as Velvet Rewind is concerned. Nothing else in the program asks for a
// version's number. Sources: the headers and documentation of that version, named at each
// field; every row is proved on live servers by the tests.
type Version struct {
	Major int
	// CatalogVersion is CATALOG_VERSION_NO of its releases. It stands in the control file and
	// names the version's directories in tablespaces.
	CatalogVersion uint32

	// The control file (catalog/pg_control.h): PG_CONTROL_VERSION, and the offset of the CRC
	// that ends ControlFileData.
	ControlVersion uint32
	ControlCRC     int
	// MapEntries is how many entries a relation map has room for (MAX_MAPPINGS in relmapper.c).
	MapEntries int

	// WAL. PageMagic is XLOG_PAGE_MAGIC. A page image is compressed if its flags have a bit of
	// ImagePGLZ, ImageLZ4 or ImageZstd (xlogrecord.h).
	PageMagic                      uint16
	ImagePGLZ, ImageLZ4, ImageZstd uint8
	// DroppedStats is the size of an xl_xact_stats_item in commit and abort records; 0 where
	// they have none, and the header of a PREPARE no counts of them (access/xact.h).
	DroppedStats int
	// DatabaseDrop and DatabaseCreateLogged are the kinds of records that drop a database and
	// that create one page by page; 0 where there is no such kind (commands/dbcommands_xlog.h).
	DatabaseDrop, DatabaseCreateLogged uint8
	// UnifiedPrune: one form of record prunes, vacuums and freezes (access/heapam_xlog.h).
	UnifiedPrune bool
	// ClassPersistence is the offset of relpersistence in a row of pg_class; relkind follows.
	ClassPersistence int
	// Caches are the numbers of caches of catalogs, by which commits tell of what other sessions must forget what they know
	// (utils/syscache.h).
	Caches Caches
	// RecordNames are names of records, by resource manager and kind, that differ from those
	// of version 15 (…desc.c).
	RecordNames map[[2]uint8]string

	// The replication protocol. OneArchive: BASE_BACKUP takes its options in parentheses and
	// sends everything in one stream; before, each tablespace and the manifest has its own.
	// SlotReadable: there is READ_REPLICATION_SLOT.
	OneArchive, SlotReadable bool

	// Base backups through SQL: how one is begun, with its label and whether the checkpoint is
	// fast as parameters, and ended, and the signatures of both for grants.
	StartBackup, StopBackup                   string
	StartBackupSignature, StopBackupSignature string

	// DatabaseCollation: pg_database has the version of a database's default collation.
	DatabaseCollation bool

	// PublishedParts: a publication may hold only some columns and rows of a table.
	PublishedParts bool

	// EventTriggers: there are event triggers at login, and the setting event_triggers turns them off.
	EventTriggers bool

	// CopySettings are further lines of a copy's configuration: what must be off in it and is
	// a setting of this version.
	CopySettings []string
}

// Caches are numbers of caches: PROCOID, NAMESPACEOID, INDEXRELID, SEQRELID and RULERELNAME.
type Caches struct{ Function, Schema, Index, Sequence, Rule uint8 }

// versions is the table, oldest first, without a gap.
var versions = []*Version{
	{
		Major: 14, CatalogVersion: 202107181, ControlVersion: 1300, ControlCRC: 288, MapEntries: 62,
		PageMagic: 0xD10D, ImagePGLZ: 0x02, DatabaseDrop: 0x10, ClassPersistence: 114,
		Caches:      Caches{Function: 43, Schema: 36, Index: 32, Sequence: 55, Rule: 54},
		RecordNames: map[[2]uint8]string{{4, 0x00}: "CREATE", {4, 0x10}: "DROP"},
		StartBackup: "pg_catalog.pg_start_backup($1, $2, false)", StopBackup: "pg_catalog.pg_stop_backup(false, false)",
		StartBackupSignature: "pg_start_backup(text, boolean, boolean)", StopBackupSignature: "pg_stop_backup(boolean, boolean)",
	},
	{
		Major: 15, CatalogVersion: 202209061, ControlVersion: 1300, ControlCRC: 288, MapEntries: 62,
		Caches:    Caches{Function: 45, Schema: 36, Index: 32, Sequence: 59, Rule: 58},
		PageMagic: 0xD110, ImagePGLZ: 0x04, ImageLZ4: 0x08, ImageZstd: 0x10, DroppedStats: 12,
		DatabaseDrop: 0x20, DatabaseCreateLogged: 0x10, ClassPersistence: 114, OneArchive: true, SlotReadable: true,
		StartBackup: startBackup, StopBackup: stopBackup, StartBackupSignature: startBackupSignature,
		StopBackupSignature: stopBackupSignature,
		DatabaseCollation:   true,
		PublishedParts:      true,
		CopySettings:        []string{"archive_library = ''"},
	},
	{
		Major: 16, CatalogVersion: 202307071, ControlVersion: 1300, ControlCRC: 288, MapEntries: 64,
		Caches:    Caches{Function: 45, Schema: 36, Index: 32, Sequence: 59, Rule: 58},
		PageMagic: 0xD113, ImagePGLZ: 0x04, ImageLZ4: 0x08, ImageZstd: 0x10, DroppedStats: 12,
		DatabaseDrop: 0x20, DatabaseCreateLogged: 0x10, ClassPersistence: 114, OneArchive: true, SlotReadable: true,
		StartBackup: startBackup, StopBackup: stopBackup, StartBackupSignature: startBackupSignature,
		StopBackupSignature: stopBackupSignature,
		DatabaseCollation:   true,
		PublishedParts:      true,
		CopySettings:        []string{"archive_library = ''"},
	},
	{
		Major: 17, CatalogVersion: 202406281, ControlVersion: 1700, ControlCRC: 288, MapEntries: 64,
		Caches:    Caches{Function: 45, Schema: 36, Index: 32, Sequence: 59, Rule: 58},
		PageMagic: 0xD116, ImagePGLZ: 0x04, ImageLZ4: 0x08, ImageZstd: 0x10, DroppedStats: 12,
		DatabaseDrop: 0x20, DatabaseCreateLogged: 0x10, UnifiedPrune: true, ClassPersistence: 114,
		RecordNames: unifiedPruneNames, OneArchive: true, SlotReadable: true,
		StartBackup: startBackup, StopBackup: stopBackup, StartBackupSignature: startBackupSignature,
		StopBackupSignature: stopBackupSignature,
		EventTriggers:       true,
		DatabaseCollation:   true,
		PublishedParts:      true,
		CopySettings:        []string{"archive_library = ''", "summarize_wal = off", "sync_replication_slots = off"},
	},
	{
		Major: 18, CatalogVersion: 202506291, ControlVersion: 1800, ControlCRC: 292, MapEntries: 64,
		Caches:    Caches{Function: 47, Schema: 38, Index: 34, Sequence: 61, Rule: 60},
		PageMagic: 0xD118, ImagePGLZ: 0x04, ImageLZ4: 0x08, ImageZstd: 0x10, DroppedStats: 16,
		DatabaseDrop: 0x20, DatabaseCreateLogged: 0x10, UnifiedPrune: true, ClassPersistence: 118,
		RecordNames: unifiedPruneNames, OneArchive: true, SlotReadable: true,
		StartBackup: startBackup, StopBackup: stopBackup, StartBackupSignature: startBackupSignature,
		StopBackupSignature: stopBackupSignature,
		EventTriggers:       true,
		DatabaseCollation:   true,
		PublishedParts:      true,
		CopySettings:        []string{"archive_library = ''", "summarize_wal = off", "sync_replication_slots = off"},
	},
}

// Base backups through SQL from 15 on.
const (
	startBackup          = "pg_catalog.pg_backup_start($1, $2)"
	stopBackup           = "pg_catalog.pg_backup_stop(false)"
	startBackupSignature = "pg_backup_start(text, boolean)"
	stopBackupSignature  = "pg_backup_stop(boolean)"
)

// unifiedPruneNames are the kinds of the record that prunes, from 17 on.
var unifiedPruneNames = map[[2]uint8]string{{9, 0x10}: "PRUNE_ON_ACCESS", {9, 0x20}: "PRUNE_VACUUM_SCAN", {9, 0x30}: "PRUNE_VACUUM_CLEANUP"}

// Versions lists the supported versions, oldest first.
func Versions() []*Version { return append([]*Version(nil), versions...) }

// SupportedVersions says in words which versions are supported: "14 to 18".
func SupportedVersions() string {
	return fmt.Sprintf("%d to %d", versions[0].Major, versions[len(versions)-1].Major)
}

// Major finds a supported version by its number; nil if it is not supported.
func Major(n int) *Version {
	return find(func(v *Version) bool { return v.Major == n })
}

// ServerVersion finds the version of a server by its server_version_num, such as 150018.
func ServerVersion(num int) (*Version, error) {
	if v := Major(num / 10000); v != nil {
		return v, nil
	}
	return nil, unsupported(strconv.Itoa(num / 10000))
}

// ReportedVersion finds the version of a server by what it reports of itself in
// server_version: "15.18 (Debian 15.18-0+deb12u1)", "19beta1".
func ReportedVersion(text string) (*Version, error) {
	digits := len(text) - len(strings.TrimLeft(text, "0123456789"))
	n, err := strconv.Atoi(text[:digits])
	if v := Major(n); err == nil && v != nil {
		return v, nil
	}
	return nil, unsupported(text)
}

func unsupported(text string) error {
	return fmt.Errorf("PostgreSQL %s is not supported; versions %s are", text, SupportedVersions())
}

// PageVersion finds the version that writes WAL pages with this magic number; nil if none does.
func PageVersion(magic uint16) *Version {
	return find(func(v *Version) bool { return v.PageMagic == magic })
}

// TablespaceDirectory is the directory that a server of this version uses in a tablespace.
func (v *Version) TablespaceDirectory() string {
	return fmt.Sprintf("PG_%d_%d", v.Major, v.CatalogVersion)
}

func find(is func(*Version) bool) *Version {
	for _, v := range versions {
		if is(v) {
			return v
		}
	}
	return nil
}
