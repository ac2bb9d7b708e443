// Package readiness judges whether a cluster can be protected: from what was found out
// about it follow checks, each with its state, why it matters, and what fixes it.
//
// Invariant: it knows facts only; what could not be found out is said to be unknown and never taken for good.
// Whatever blocks has a remedy. Finding the facts, and running the SQL, is the caller's.
package readiness

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"velvetrewind/core/pg"
)

// State is how a check came out.
type State string

// The states.
const (
	Needed  State = "needed"  // the cluster cannot be protected without it
	Advised State = "advised" // it can, but worse
	Choice  State = "choice"  // either is right; the effect is told
	Unknown State = "unknown" // it could not be found out
	OK      State = "ok"
)

// Check is one prerequisite.
type Check struct {
	ID     string
	Title  string
	State  State
	Found  string   // what there is
	Why    string   // why it matters
	SQL    []string // what fixes it, to be run by a superuser of the cluster
	Edit   []string // what is to be changed in a file, or outside of the server
	After  string   // what the server needs then
	Effect string   // what the remedy does besides
}

// Report is every check of a cluster.
type Report struct {
	Facts  Facts
	Checks []Check
}

// Ready says whether nothing that is needed is missing.
func (r Report) Ready() bool { return r.Count(Needed) == 0 }

// Count is how many checks are in a state.
func (r Report) Count(s State) (n int) {
	for _, c := range r.Checks {
		if c.State == s {
			n++
		}
	}
	return n
}

// SQLAlone tells whether the statements of a check, run, are all that it takes. One that only asks something of the
// server is for a person to read.
func SQLAlone(sql []string) bool {
	return len(sql) > 0 && !slices.ContainsFunc(sql, func(q string) bool { return strings.HasPrefix(q, "SELECT") })
}

// Facts is what was found out about a cluster, its server's host and the service.
type Facts struct {
	ServerVersion int    // server_version_num
	Catalog       uint32 // CATALOG_VERSION_NO of the server; 0 where it was not asked
	Sizes         Sizes
	VersionText   string
	SystemID      uint64
	Timeline      pg.Timeline
	SegmentSize   pg.SegmentSize // bytes
	Checksums     bool
	Superuser     string

	Role            string
	RoleSuperuser   bool
	Replication     bool
	ReplicationRole string
	ReplicationFail string            // why a replication session was refused
	ReadsFiles      bool              // may read configuration files and single pages on the server
	ReadsTables     bool              // may read every table, to count rows beside a copy's
	ReadsSessions   bool              // may see who writes
	ReadsChanges    bool              // may take base backups through SQL, of what has changed only
	Settings        map[string]string // of the server; those that the role may not see are missing
	SendersUsed     int
	SlotsUsed       int
	SlotExists      bool          // our own slot is there already
	ArchiveFailing  bool          // the server's own archiving failed last
	Tablespaces     []string      // where they are
	Bytes           int64         // what the databases hold; 0 where it may not be seen
	ClockAhead      time.Duration // by how much the server's clock is before the service's

	Unverified    bool  // the connection goes over a network, and the server's certificate is not verified
	ServerFree    int64 // bytes free for WAL on the server; -1: not known, because it is another host
	StoreFree     int64 // bytes free in the store; -1: it has no limit, or none that is known
	StoreSealed   bool
	ServiceZone   string // its abbreviation and offset, now
	CopiesUser    string // OS user of copies
	CopiesFailure string // why copies cannot be run on the service's host
}

// Sizes are what a server was built with.
type Sizes struct {
	Block         int // bytes of a page
	WALBlock      int // bytes of a WAL page
	BlocksPerFile int // pages of a relation's file before the next one begins
}

// supportedSizes are those of every packaged server.
var supportedSizes = Sizes{Block: pg.BlockSize, WALBlock: pg.WALBlockSize, BlocksPerFile: pg.BlocksPerFile}

// Seen are the settings of a server that are looked at.
var Seen = []string{
	"wal_level", "max_wal_senders", "max_replication_slots", "max_slot_wal_keep_size", "wal_keep_size", "archive_mode", "full_page_writes",
	"wal_log_hints", "track_commit_timestamp", "synchronous_standby_names", "TimeZone", "data_directory", "idle_replication_slot_timeout",
}

const (
	leastSenders  = 2 // one for capture, one for base backups
	leastFree     = 5 << 30
	leastRetained = 1024 // MiB
)

// Judge makes the checks.
func Judge(f Facts) []Check {
	j := judge{f: f, role: quote(f.Role), replicationRole: quote(f.ReplicationRole)}
	if !j.serverVersion() || !j.sizes() {
		return j.checks
	}
	for _, check := range []func(){
		j.identity, j.replication, j.walLevel, j.senders, j.slots, j.retained, j.idleSlots, j.files, j.changes, j.tables, j.sessions,
		j.superuser,
		j.checksums, j.fullPages, j.hints, j.commitTimes, j.archiving, j.synchronous, j.tablespaces, j.clocks, j.zones,
		j.serverDisk, j.storeDisk, j.storeKey, j.copies,
	} {
		check()
	}
	return j.checks
}

type judge struct {
	f                     Facts
	version               *pg.Version
	role, replicationRole string
	checks                []Check
}

func quote(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

func (j *judge) add(c Check) { j.checks = append(j.checks, c) }

// setting reads a setting; where the role may not see it, the check is unknown.
func (j *judge) setting(name string, c *Check) (string, bool) {
	v, ok := j.f.Settings[name]
	if !ok {
		c.State, c.Found = Unknown, "the role may not see "+name
		c.SQL = []string{"GRANT pg_read_all_settings TO " + j.role + ";"}
	}
	return v, ok
}

func (j *judge) serverVersion() bool {
	c := Check{ID: "version", Title: "Version of the server", State: OK, Found: "PostgreSQL " + j.f.VersionText,
		Why: "A server of a version that is not known could not be restored."}
	var err error
	if j.version, err = pg.ServerVersion(j.f.ServerVersion); err != nil {
		c.State = Needed
		c.Found = fmt.Sprintf("PostgreSQL %s; versions %s are supported", j.f.VersionText, pg.SupportedVersions())
		c.Edit = []string{"Use a server of a supported version."}
	} else if j.f.Catalog != 0 && j.f.Catalog != j.version.CatalogVersion {
		c.State = Needed
		c.Found = fmt.Sprintf("PostgreSQL %s with catalog version %d, where the releases of %d have %d", j.f.VersionText, j.f.Catalog,
			j.version.Major, j.version.CatalogVersion)
		c.Edit = []string{"Use a released server; a beta or a fork cannot be restored with the released one."}
	}
	j.add(c)
	return c.State == OK
}

// sizes refuses servers that were built with other sizes than usual: nothing of theirs could be read.
func (j *judge) sizes() bool {
	c := Check{ID: "sizes", Title: "Sizes of pages and files", State: OK, Found: "the usual ones",
		Why: "Pages, WAL pages and files of other sizes cannot be read."}
	if j.f.Sizes != supportedSizes {
		c.State = Needed
		c.Found = fmt.Sprintf("pages of %d bytes, WAL pages of %d, %d pages a file; only %d, %d and %d are supported", j.f.Sizes.Block,
			j.f.Sizes.WALBlock, j.f.Sizes.BlocksPerFile,
			supportedSizes.Block, supportedSizes.WALBlock, supportedSizes.BlocksPerFile)
		c.Edit = []string{"Use a server that was built with the default sizes."}
	}
	j.add(c)
	return c.State == OK
}

func (j *judge) replication() {
	c := Check{ID: "replication", Title: "Replication session", State: OK, Found: "role " + j.f.ReplicationRole + " was admitted",
		Why: "WAL and full base backups are received through it."}
	switch {
	case j.f.ReplicationRole == j.f.Role && !j.f.Replication:
		c.State, c.Found = Needed, "the role "+j.f.Role+" lacks the replication right"
		c.SQL = []string{"ALTER ROLE " + j.role + " REPLICATION;"}
		c.Effect = "The role may read all data through the replication protocol."
	case j.f.ReplicationFail != "" && j.f.Settings["max_wal_senders"] == fmt.Sprint(j.f.SendersUsed):
		c.State, c.Found = Unknown, "it is tried when a WAL sender is free"
	case j.f.ReplicationFail != "":
		c.State, c.Found = Needed, "it was refused: "+j.f.ReplicationFail
		c.Edit = []string{"In pg_hba.conf, before lines that would refuse it:", "host  replication  " + j.f.ReplicationRole +
			"  ADDRESS/32  scram-sha-256", "then: SELECT pg_reload_conf();"}
		c.After = "reload"
	}
	j.add(c)
}

func (j *judge) walLevel() {
	c := Check{ID: "wal_level", Title: "wal_level", State: OK, Why: "At minimal, the WAL holds too little to restore from."}
	v, ok := j.setting("wal_level", &c)
	if c.Found = v; ok && v == "minimal" {
		c.State, c.After = Needed, "restart"
		c.SQL = []string{"ALTER SYSTEM SET wal_level = 'replica';"}
		c.Effect = "Some bulk loads that skipped the WAL write it from then on."
	}
	j.add(c.unseen("the role may not see wal_level"))
}

// unseen puts back what Found said where a setting was not seen.
func (c Check) unseen(text string) Check {
	if c.State == Unknown {
		c.Found = text
	}
	return c
}

func number(s string) (n int) {
	_, _ = fmt.Sscan(s, &n)
	return n
}

func (j *judge) senders() {
	c := Check{ID: "max_wal_senders", Title: "Free WAL senders", State: OK, Why: "Capture holds one, a full base backup another."}
	v, ok := j.setting("max_wal_senders", &c)
	free := number(v) - j.f.SendersUsed
	c.Found = fmt.Sprintf("%d of %s free", max(0, free), v)
	if ok && free < leastSenders && !j.f.SlotExists {
		c.State, c.After = Needed, "restart"
		c.SQL = []string{fmt.Sprintf("ALTER SYSTEM SET max_wal_senders = %d;", max(number(v), 10)+leastSenders)}
		c.Effect = "A standby must allow at least as many before it starts again."
	}
	j.add(c.unseen("the role may not see max_wal_senders"))
}

func (j *judge) slots() {
	c := Check{ID: "max_replication_slots", Title: "Free replication slots", State: OK,
		Why: "With a slot of its own the server keeps WAL until capture has it."}
	v, ok := j.setting("max_replication_slots", &c)
	free := number(v) - j.f.SlotsUsed
	c.Found = fmt.Sprintf("%d of %s free", max(0, free), v)
	switch {
	case ok && j.f.SlotExists:
		c.Found = "our slot is there"
	case ok && free < 1:
		c.State, c.After = Needed, "restart"
		c.SQL = []string{fmt.Sprintf("ALTER SYSTEM SET max_replication_slots = %d;", max(number(v), 10)+2)}
		c.Edit = []string{"Or drop one that is no longer used: SELECT slot_name, active FROM pg_replication_slots;"}
	}
	j.add(c.unseen("the role may not see max_replication_slots"))
}

func (j *judge) retained() {
	c := Check{ID: "max_slot_wal_keep_size", Title: "WAL retained by the slot", State: OK,
		Why: "While capture is down the server retains WAL. Without a limit its disk can fill; with one that is passed, there is a hole."}
	v, ok := j.setting("max_slot_wal_keep_size", &c)
	keep := j.f.Settings["wal_keep_size"]
	switch {
	case !ok:
	case v == "-1":
		c.State, c.Found, c.After = Choice, "no limit (wal_keep_size is "+keep+" MiB)", "reload"
		c.SQL = []string{"ALTER SYSTEM SET max_slot_wal_keep_size = '50GB';"}
		c.Effect = "Choose what the disk can bear: an outage of capture that writes more WAL than that causes a hole, which is reported."
	case number(v) < leastRetained:
		c.State, c.Found, c.After = Advised, v+" MiB: a short outage of capture would make a hole", "reload"
		c.SQL = []string{"ALTER SYSTEM SET max_slot_wal_keep_size = '50GB';"}
		c.Effect = "The server may retain up to so much WAL."
	default:
		c.Found = v + " MiB"
	}
	j.add(c)
}

// grant is a check for rights that can be granted.
func (j *judge) grant(id, title, why, lacking string, has bool, sql ...string) {
	c := Check{ID: id, Title: title, State: OK, Found: "granted to " + j.f.Role, Why: why}
	if !has {
		c.State, c.Found, c.SQL = Advised, lacking, sql
		c.Effect = "The role may read more, and change nothing."
	}
	j.add(c)
}

func (j *judge) files() {
	j.grant("read_files", "Reading configuration and single pages",
		"Configuration outside of the data directory goes into each backup, and a suspect page is read again.",
		"the role "+j.f.Role+" may not", j.f.ReadsFiles,
		"GRANT pg_read_all_settings, pg_read_server_files TO "+j.role+";",
		"GRANT EXECUTE ON FUNCTION pg_read_file(text), pg_read_binary_file(text, bigint, bigint, boolean) TO "+j.role+";")
}

func (j *judge) changes() {
	j.grant("read_changes", "Reading only what has changed",
		"Incremental base backups are cheap with it; without it each reads everything.",
		"the role "+j.f.Role+" may not take base backups through SQL", j.f.ReadsChanges,
		"GRANT EXECUTE ON FUNCTION "+strings.Join(OnlineBackupFunctions(j.version), ", ")+" TO "+j.role+";")
}

// OnlineBackupFunctions are the signatures of what an incremental base backup calls.
func OnlineBackupFunctions(v *pg.Version) []string {
	return []string{v.StartBackupSignature, v.StopBackupSignature, "pg_ls_dir(text, boolean, boolean)", "pg_stat_file(text, boolean)"}
}

func (j *judge) tables() {
	j.grant("read_tables", "Reading every table", "Proofs count the live rows beside a copy's.",
		"the role "+j.f.Role+" may not read every table", j.f.ReadsTables,
		"GRANT pg_read_all_data TO "+j.role+";")
}

func (j *judge) sessions() {
	j.grant("read_sessions", "Seeing who writes", "An incident then says who did it.",
		"the role "+j.f.Role+" may not see the sessions of others", j.f.ReadsSessions,
		"GRANT pg_read_all_stats TO "+j.role+";")
}

func (j *judge) superuser() {
	c := Check{ID: "least_rights", Title: "No more rights than needed", State: OK, Found: j.f.Role + " is no superuser",
		Why: "Who gets hold of the role's password should be able to change nothing."}
	if j.f.RoleSuperuser {
		c.State, c.Found = Advised, j.f.Role+" is a superuser"
		c.Edit = []string{"Make a role that has just what is needed: velvet cluster role",
			"then remove the cluster and add it again with that role."}
	}
	j.add(c)
}

func (j *judge) checksums() {
	c := Check{ID: "data_checksums", Title: "Data checksums", State: OK, Found: "on",
		Why: "With them every page of every backup and copy is verified."}
	if !j.f.Checksums {
		c.State, c.Found = Advised, "off: damaged pages cannot be told from sound ones"
		c.Edit = []string{"They are switched on with the server shut down, or when a cluster is made."}
		c.Effect = "The server takes a few percent longer to read and write pages."
	}
	j.add(c)
}

// idleSlots warns of a limit after which the server invalidates a slot that nobody uses.
func (j *judge) idleSlots() {
	v, ok := j.f.Settings["idle_replication_slot_timeout"]
	if !ok || v == "0" {
		return // not a setting of this version, or off
	}
	j.add(Check{ID: "idle_replication_slot_timeout", Title: "idle_replication_slot_timeout", State: Advised, Found: v + " s",
		After:  "reload",
		Why:    "When capture is down for longer than that, the server drops the WAL that it retained: a hole.",
		SQL:    []string{"ALTER SYSTEM SET idle_replication_slot_timeout = 0;"},
		Effect: "Slots that nobody uses retain WAL without an end; max_slot_wal_keep_size still limits it."})
}

// onOff is a check for a setting that should be on.
func (j *judge) onOff(name, why, effect, after string, otherwise State) {
	c := Check{ID: name, Title: name, State: OK, Found: "on", Why: why}
	if v, ok := j.setting(name, &c); ok && v != "on" {
		c.State, c.Found, c.After, c.Effect = otherwise, v, after, effect
		c.SQL = []string{"ALTER SYSTEM SET " + name + " = on;"}
	}
	j.add(c)
}

func (j *judge) fullPages() {
	j.onOff("full_page_writes", "After a crash, pages that were half written are repaired from the WAL.",
		"More WAL is written after each checkpoint.", "reload", Advised)
}

func (j *judge) hints() {
	if j.f.Checksums {
		j.add(Check{ID: "wal_log_hints", Title: "wal_log_hints", State: OK, Found: "implied by data checksums",
			Why: "Every change of a page is in the WAL."})
		return
	}
	j.onOff("wal_log_hints", "With it every change of a page is in the WAL, hint bits too. Restores are right without it.",
		"More WAL is written.", "restart", Choice)
}

func (j *judge) commitTimes() {
	c := Check{ID: "track_commit_timestamp", Title: "track_commit_timestamp", State: OK,
		Why: "Times of transactions are read from the WAL; the server need not keep them."}
	if v, ok := j.setting("track_commit_timestamp", &c); ok {
		c.Found = v + "; not needed"
	}
	j.add(c)
}

func (j *judge) archiving() {
	c := Check{ID: "archive_mode", Title: "The server's own archiving", State: OK,
		Why: "Capture does not need it. Where it is on and fails, the server retains all WAL."}
	if v, ok := j.setting("archive_mode", &c); ok {
		c.Found = v
		if v != "off" && j.f.ArchiveFailing {
			c.State, c.Found = Advised, v+", and it failed last"
			c.SQL = []string{"SELECT last_failed_wal, last_failed_time FROM pg_stat_archiver;"}
			c.Edit = []string{"Fix archive_command, or set archive_mode to off if nothing else uses it."}
			c.After = "restart"
		}
	}
	j.add(c)
}

func (j *judge) synchronous() {
	c := Check{ID: "synchronous_standby_names", Title: "Commits wait for capture", State: Choice, Found: "no", After: "reload",
		Why:    "If the server is lost with its disk, what was committed in its last moments and not captured is lost.",
		SQL:    []string{"ALTER SYSTEM SET synchronous_standby_names = 'velvet';"},
		Effect: "Nothing committed is ever lost; each commit waits until capture has it on disk, and while capture is down, commits hang."}
	if v, ok := j.setting("synchronous_standby_names", &c); ok && strings.Contains(v, "velvet") {
		c = Check{ID: c.ID, Title: c.Title, State: OK, Found: v, Why: c.Why}
	} else if !ok {
		c.After, c.Effect = "", ""
	}
	j.add(c)
}

func (j *judge) identity() {
	c := Check{ID: "server_identity", Title: "The server's identity", State: OK, Found: "verified, or on this host",
		Why: "Who can pass for the server sees every base backup's commands, and could feed us what it likes."}
	if j.f.Unverified {
		c.State, c.Found = Advised, "the connection goes over a network, and no certificate is verified"
		c.Edit = []string{"Give the server a certificate, and write sslmode=verify-full into the connection string (with " +
			"sslrootcert=FILE where its authority is your own)."}
	}
	j.add(c)
}
