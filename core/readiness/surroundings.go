package readiness

import (
	"fmt"
	"strings"

	"velvetrewind/core/attention"
	"velvetrewind/core/figures"
	"velvetrewind/core/pg"
)

// What a cluster lies among: clocks, zones, disks, the store and the host of its copies.

func (j *judge) tablespaces() {
	found := "none"
	if n := len(j.f.Tablespaces); n > 0 {
		found = strings.Join(j.f.Tablespaces[:min(n, 5)], ", ")
	}
	j.add(Check{ID: "tablespaces", Title: "Tablespaces", State: OK, Found: found,
		Why: "They are backed up too; a copy gets them below its own directory."})
}

func (j *judge) clocks() {
	c := Check{ID: "clocks", Title: "Clocks of server and service", State: OK,
		Found: fmt.Sprintf("%.1f s apart", j.f.ClockAhead.Abs().Seconds()),
		Why: "Moments and base backups have the server's times, the calendar the service's. While they are more than a second apart, " +
			"the keep rule deletes nothing."}
	if j.f.ClockAhead.Abs() > attention.ClockTolerance { // as the keep rule has it
		c.State = Advised
		c.Edit = []string{"Have both hosts set their clocks from the same source."}
	}
	j.add(c)
}

func (j *judge) zones() {
	c := Check{ID: "zones", Title: "Time zones", State: OK,
		Why: "Times are always shown with their offset; a time without one is read in the zone of who writes it."}
	if v, ok := j.setting("TimeZone", &c); ok {
		c.Found = "server " + v + ", service " + j.f.ServiceZone
	}
	j.add(c)
}

func (j *judge) serverDisk() {
	c := Check{ID: "server_disk", Title: "Room for WAL on the server", State: OK, Found: figures.Size(j.f.ServerFree) + " free",
		Why: "The server retains WAL while capture is down."}
	switch {
	case j.f.ServerFree < 0 && j.f.Settings["data_directory"] == "":
		c.State, c.Found = Unknown, "the role may not see where the server's data is"
		c.SQL = []string{"GRANT pg_read_all_settings TO " + j.role + ";"}
	case j.f.ServerFree < 0:
		c.State, c.Found = Unknown, "the server is on another host"
		c.Edit = []string{"Look there: df on the file system of pg_wal."}
	case j.f.ServerFree < leastFree:
		c.State = Advised
		c.Edit = []string{"Add space, or limit max_slot_wal_keep_size."}
	}
	j.add(c)
}

func (j *judge) storeDisk() {
	c := Check{ID: "store_disk", Title: "Room in the store", State: OK, Found: figures.Size(j.f.StoreFree) + " free",
		Why: "The first base backup takes about a third to a half of what the databases hold."}
	switch {
	case j.f.StoreFree < 0:
		c.Found = "no limit is known"
	case j.f.Bytes > 0 && j.f.StoreFree < j.f.Bytes:
		c.State, c.Found = Advised, fmt.Sprintf("%s free, and the databases hold %s", figures.Size(j.f.StoreFree), figures.Size(j.f.Bytes))
		c.Edit = []string{"Add space, or choose another store."}
	case j.f.StoreFree < leastFree:
		c.State = Advised
		c.Edit = []string{"Add space, or choose another store."}
	}
	j.add(c)
}

func (j *judge) storeKey() {
	c := Check{ID: "store_key", Title: "Encryption of the store", State: OK, Found: "on; the key is there",
		Why: "Who gets hold of the store reads nothing without the key."}
	if !j.f.StoreSealed {
		c.State, c.Found = Choice, "off"
		c.Edit = []string{"It is chosen when a store is new: velvet serve --store NEW --store-key FILE"}
	}
	j.add(c)
}

func (j *judge) copies() {
	c := Check{ID: "copies", Title: "Running copies here", State: OK, Found: fmt.Sprintf("PostgreSQL %d, as OS user %s", j.version.Major,
		j.f.CopiesUser),
		Why: "A copy runs the same major version of the server on the service's host; without its programs nothing could be restored."}
	if j.f.CopiesFailure != "" {
		c.State, c.Found = Needed, j.f.CopiesFailure
		c.Edit = []string{fmt.Sprintf("Install the server's programs of version %d on the service's host.", j.version.Major)}
	}
	j.add(c)
}

// RoleScript is SQL and a line of pg_hba.conf for a role with just the rights that are
// needed on a server of this version, to be run by a superuser in the database that the
// connection string names.
func RoleScript(role string, v *pg.Version) string {
	q := quote(role)
	return `-- Run this as a superuser, in the database that Velvet Rewind connects to.
CREATE ROLE ` + q + ` LOGIN REPLICATION;
\password ` + q + `
GRANT pg_read_all_settings, pg_read_all_stats, pg_read_server_files, pg_read_all_data TO ` + q + `;
GRANT EXECUTE ON FUNCTION pg_read_file(text), pg_read_binary_file(text, bigint, bigint, boolean),
  ` + strings.Join(OnlineBackupFunctions(v), ", ") + ` TO ` + q + `;

-- In pg_hba.conf, with the address of the service's host; then: SELECT pg_reload_conf();
-- host  all          ` + role + `  ADDRESS/32  scram-sha-256
-- host  replication  ` + role + `  ADDRESS/32  scram-sha-256
`
}
