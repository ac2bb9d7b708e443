package readiness

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/pg"
)

// good is a cluster of which nothing is missing.
func good() Facts {
	return Facts{
		ServerVersion: 150018, VersionText: "15.18", Catalog: 202209061, Sizes: supportedSizes, Role: "velvet", ReplicationRole: "velvet",
		Replication: true, Checksums: true,
		ReadsFiles: true, ReadsTables: true, ReadsSessions: true,
		ReadsChanges: true, StoreSealed: true, ServerFree: 90 << 30, StoreFree: 90 << 30,
		Bytes: 30 << 30, ServiceZone: "UTC", CopiesUser: "postgres",
		Settings: map[string]string{"wal_level": "replica", "max_wal_senders": "10", "max_replication_slots": "10",
			"max_slot_wal_keep_size": "51200", "wal_keep_size": "0",
			"archive_mode": "off", "full_page_writes": "on", "wal_log_hints": "off", "track_commit_timestamp": "off",
			"synchronous_standby_names": "velvet", "TimeZone": "Europe/Lisbon", "data_directory": "/srv"},
	}
}

func find(t *testing.T, f Facts, id string) Check {
	for _, c := range Judge(f) {
		if c.ID == id {
			return c
		}
	}
	require.Fail(t, "no such check", id)
	return Check{}
}

func TestJudge(t *testing.T) {
	for _, c := range Judge(good()) {
		assert.Equal(t, OK, c.State, "%s: %s", c.ID, c.Found)
		assert.Empty(t, c.SQL, c.ID)
	}
	for _, c := range []struct {
		id, remedy, found string
		state             State
		after             string
		of                func(*Facts)
	}{
		{"version", "supported version", "PostgreSQL 13.22", Needed, "",
			func(f *Facts) { f.ServerVersion, f.VersionText = 130022, "13.22" }},
		{"version", "supported version", "versions 14 to 18", Needed, "",
			func(f *Facts) { f.ServerVersion, f.VersionText = 190000, "19beta1" }},
		{"version", "a beta", "catalog version 202505071", Needed, "", func(f *Facts) {
			f.ServerVersion, f.VersionText, f.Catalog = 180000,
				"18beta1", 202505071
		}},
		{"sizes", "default sizes", "pages of 32768 bytes", Needed, "", func(f *Facts) { f.Sizes.Block = 32768 }},
		{"idle_replication_slot_timeout", "timeout = 0", "3600 s", Advised, "reload",
			func(f *Facts) { f.Settings["idle_replication_slot_timeout"] = "3600" }},
		{"read_changes", "pg_start_backup(text, boolean, boolean)", "through SQL", Advised, "",
			func(f *Facts) { f.ServerVersion, f.Catalog, f.ReadsChanges = 140009, 202107181, false }},
		{"wal_level", "wal_level = 'replica'", "minimal", Needed, "restart", func(f *Facts) { f.Settings["wal_level"] = "minimal" }},
		{"replication", `ALTER ROLE "velvet" REPLICATION;`, "lacks", Needed, "", func(f *Facts) { f.Replication = false }},
		{"replication", "host  replication  carrier", "no entry", Needed, "reload",
			func(f *Facts) { f.ReplicationRole, f.ReplicationFail = "carrier", "no entry" }},
		{"replication", "", "a WAL sender is free", Unknown, "", func(f *Facts) { f.ReplicationFail, f.SendersUsed = "no", 10 }},
		{"max_wal_senders", "max_wal_senders = 12", "1 of 10 free", Needed, "restart", func(f *Facts) { f.SendersUsed = 9 }},
		{"max_wal_senders", "", "1 of 10 free", OK, "", func(f *Facts) { f.SendersUsed, f.SlotExists = 9, true }},
		{"max_replication_slots", "max_replication_slots = 12", "0 of 10 free", Needed, "restart", func(f *Facts) { f.SlotsUsed = 10 }},
		{"max_wal_senders", "", "2 of 10 free", OK, "", func(f *Facts) { f.SendersUsed = 8 }},
		{"max_replication_slots", "", "1 of 10 free", OK, "", func(f *Facts) { f.SlotsUsed = 9 }},
		{"max_slot_wal_keep_size", "", "1024 MiB", OK, "", func(f *Facts) { f.Settings["max_slot_wal_keep_size"] = "1024" }},
		{"max_slot_wal_keep_size", "'50GB'", "1023 MiB", Advised, "reload",
			func(f *Facts) { f.Settings["max_slot_wal_keep_size"] = "1023" }},
		{"archive_mode", "", "off", OK, "", func(f *Facts) { f.ArchiveFailing = true }},
		{"archive_mode", "", "on", OK, "", func(f *Facts) { f.Settings["archive_mode"] = "on" }},
		{"tablespaces", "", "none", OK, "", func(*Facts) {}},
		{"tablespaces", "", "/a, /b, /c, /d, /e", OK, "", func(f *Facts) { f.Tablespaces = []string{"/a", "/b", "/c", "/d", "/e", "/f"} }},
		{"clocks", "", "1.0 s apart", OK, "", func(f *Facts) { f.ClockAhead = -time.Second }},
		{"clocks", "same source", "1.0 s apart", Advised, "", func(f *Facts) { f.ClockAhead = time.Second + 1 }},
		{"server_disk", "Add space", "0 B free", Advised, "", func(f *Facts) { f.ServerFree = 0 }},
		{"server_disk", "Add space", "0 B free", Advised, "", func(f *Facts) { delete(f.Settings, "data_directory"); f.ServerFree = 0 }},
		{"server_disk", "", "5.0 GiB free", OK, "", func(f *Facts) { f.ServerFree = 5 << 30 }},
		{"store_disk", "Add space", "0 B free", Advised, "", func(f *Facts) { f.StoreFree, f.Bytes = 0, 0 }},
		{"store_disk", "Add space", "4.0 GiB free", Advised, "", func(f *Facts) { f.StoreFree, f.Bytes = 4<<30, 4<<30 }},
		{"store_disk", "", "5.0 GiB free", OK, "", func(f *Facts) { f.StoreFree, f.Bytes = 5<<30, 5<<30 }},
		{"max_slot_wal_keep_size", "'50GB'", "no limit", Choice, "reload", func(f *Facts) { f.Settings["max_slot_wal_keep_size"] = "-1" }},
		{"max_slot_wal_keep_size", "'50GB'", "short outage", Advised, "reload",
			func(f *Facts) { f.Settings["max_slot_wal_keep_size"] = "64" }},
		{"read_files", "pg_read_server_files", "may not", Advised, "", func(f *Facts) { f.ReadsFiles = false }},
		{"read_sessions", "pg_read_all_stats", "may not see the sessions", Advised, "", func(f *Facts) { f.ReadsSessions = false }},
		{"read_changes", "pg_backup_start", "through SQL", Advised, "", func(f *Facts) { f.ReadsChanges = false }},
		{"read_tables", "pg_read_all_data", "every table", Advised, "", func(f *Facts) { f.ReadsTables = false }},
		{"least_rights", "cluster role", "is a superuser", Advised, "", func(f *Facts) { f.RoleSuperuser = true }},
		{"data_checksums", "shut down", "off", Advised, "", func(f *Facts) { f.Checksums = false }},
		{"wal_log_hints", "wal_log_hints = on", "off", Choice, "restart", func(f *Facts) { f.Checksums = false }},
		{"full_page_writes", "full_page_writes = on", "off", Advised, "reload", func(f *Facts) { f.Settings["full_page_writes"] = "off" }},
		{"archive_mode", "archive_command", "failed last", Advised, "restart",
			func(f *Facts) { f.Settings["archive_mode"], f.ArchiveFailing = "on", true }},
		{"synchronous_standby_names", "'velvet'", "no", Choice, "reload", func(f *Facts) { f.Settings["synchronous_standby_names"] = "" }},
		{"clocks", "same source", "61.0 s apart", Advised, "", func(f *Facts) { f.ClockAhead = -61 * time.Second }},
		{"server_disk", "df on", "another host", Unknown, "", func(f *Facts) { f.ServerFree = -1 }},
		{"server_disk", "pg_read_all_settings", "may not see where", Unknown, "",
			func(f *Facts) { delete(f.Settings, "data_directory"); f.ServerFree = -1 }},
		{"server_disk", "Add space", "1.0 GiB", Advised, "", func(f *Facts) { f.ServerFree = 1 << 30 }},
		{"store_disk", "another store", "databases hold 200.0 GiB", Advised, "", func(f *Facts) { f.Bytes = 200 << 30 }},
		{"store_disk", "", "no limit", OK, "", func(f *Facts) { f.StoreFree = -1 }},
		{"store_key", "--store-key", "off", Choice, "", func(f *Facts) { f.StoreSealed = false }},
		{"copies", "version 15", "not installed", Needed, "", func(f *Facts) { f.CopiesFailure = "not installed" }},
		{"archive_mode", "pg_read_all_settings", "may not see archive_mode", Unknown, "",
			func(f *Facts) { delete(f.Settings, "archive_mode") }},
		{"wal_level", "pg_read_all_settings", "may not see wal_level", Unknown, "", func(f *Facts) { f.Settings = nil }},
		{"max_replication_slots", "pg_read_all_settings", "may not see", Unknown, "", func(f *Facts) { f.Settings = nil }},
	} {
		f := good()
		c.of(&f)
		got := find(t, f, c.id)
		assert.Equal(t, c.state, got.State, c.id)
		assert.Contains(t, got.Found, c.found, c.id)
		assert.Contains(t, strings.Join(append(got.SQL, got.Edit...), "\n"), c.remedy, c.id)
		assert.Equal(t, c.after, got.After, c.id)
		if c.state == Needed {
			assert.False(t, Report{Checks: Judge(f)}.Ready(), c.id)
		}
	}
}

func TestCounts(t *testing.T) {
	r := Report{Checks: []Check{{State: Advised}, {State: OK}, {State: Advised}}}
	assert.Equal(t, []int{2, 1, 0}, []int{r.Count(Advised), r.Count(OK), r.Count(Needed)})
	assert.True(t, r.Ready())
}

func TestRoleScriptQuotes(t *testing.T) {
	assert.Contains(t, RoleScript("velvet", pg.Major(14)), "pg_start_backup(text, boolean, boolean)")
	assert.Contains(t, RoleScript(`odd"one`, pg.Major(18)), `CREATE ROLE "odd""one" LOGIN REPLICATION;`)
}
