package copies

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/core/plan"
	"velvetrewind/core/problem"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/host"
	"velvetrewind/engine/restore"
	"velvetrewind/engine/restore/feed"
)

// configure replaces the configuration that came with the base by the copy's own.
func (c *Maker) configure(cluster catalog.Cluster, k catalog.Copy, p plan.Restore, part *part, ticket feed.Ticket, head layout.Head,
	t restore.Trees) error {
	original, err := control(t, cluster)
	if err != nil {
		return err
	}
	for _, name := range []string{"postgresql.conf", "postgresql.auto.conf", "pg_hba.conf", "pg_ident.conf", "standby.signal"} {
		if err := keepAside(t, name); err != nil {
			return err
		}
	}
	if err := tablespaceMap(t, head); err != nil {
		return err
	}
	encoded, err := json.MarshalIndent(ticket, "", "  ")
	if err != nil {
		return err
	}
	if err := put(t, ticketFile, encoded); err != nil {
		return err
	}
	ready := ""
	if k.Host == "" && part == nil { // what goes into a partial one has to be looked at
		ready = feed.AheadDir(ticket.Feed)
	}
	free, err := c.Host.FreeMemory()
	if err != nil {
		free = 0 // the least does
	}
	files := map[string]string{
		"postgresql.conf": settings(k, p, original, host.RestoreCommand(c.Program, t.Path(ticketFile), ready), buffers(free)) +
			part.settings(),
		"postgresql.auto.conf": whileReplaying,
		"pg_hba.conf":          hba,
		"pg_ident.conf":        "",
		"recovery.signal":      "",
	}
	for name, content := range files {
		if err := put(t, filepath.Join(t.Data, name), []byte(content)); err != nil {
			return err
		}
	}
	return nil
}

// put writes a file of a copy without waiting for the disk, which would wait for everything that was laid out.
func put(t restore.Trees, name string, content []byte) error {
	if err := t.Remove(name); err != nil {
		return err
	}
	f, err := t.Create(name, 0o600)
	if err != nil {
		return err
	}
	_, err = f.WriteAt(content, 0)
	return errors.Join(err, f.Close())
}

// whileReplaying is what a copy is besides configured with until it is opened: should its machine crash before, it is made anew,
// and need not have been flushed.
const whileReplaying = "# Only until the copy is opened.\nfsync = off\n"

// buffers is how much memory the server of a copy is given for pages, in MiB, where so many bytes are free: recovery is quicker with
// more, and many copies may stand beside one another.
func buffers(free int64) int64 {
	const least, most, share = 128, 512, 16
	return min(max(free>>20/share, least), most)
}

// Control reads the control file of a copy by its tree.
func Control(t host.Files) (pg.Control, error) {
	b, err := t.ReadFile(filepath.Join(dataDir, "global", "pg_control"))
	if err != nil {
		return pg.Control{}, err
	}
	return pg.ParseControl(b)
}

// Walk visits the files of a copy's data directory and tablespaces by their names in the copy's
// tree, with their sizes, and by those that they have for its server.
func Walk(t host.Files, visit func(name string, size int64, rel string) error) error {
	for below, rel := range map[string]string{dataDir: "", tablespaces: "pg_tblspc/"} {
		err := t.Walk(below, func(name string, size int64) error {
			return visit(name, size, rel+strings.TrimPrefix(name, below+"/"))
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// control reads the laid-out control file and makes sure whose it is.
func control(t restore.Trees, cluster catalog.Cluster) (pg.Control, error) {
	c, err := Control(t)
	if err != nil {
		return c, err
	}
	if c.SystemID != cluster.SystemID {
		return c, problem.New(problem.Failed, "Audit the store.", "the copy was not made",
			"the base backup is of the cluster with system identifier %d, not %d", c.SystemID, cluster.SystemID)
	}
	return c, nil
}

// settings writes the whole configuration of a copy. The five limits must be at
// least the original's, or recovery refuses; the control file knows them.
func settings(k catalog.Copy, p plan.Restore, control pg.Control, restoreCommand string, buffers int64) string {
	q := func(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }
	inclusive := "off"
	if p.Boundary.Inclusive {
		inclusive = "on"
	}
	lines := []string{
		"# Written by Velvet Rewind: a side copy of its own, which must never disturb its original.",
		"# What the original was configured with is kept in ../original-configuration.",
		"cluster_name = " + q("velvet side copy "+k.ID),
		fmt.Sprintf("port = %d", k.Port),
		"listen_addresses = '127.0.0.1'",
		"unix_socket_directories = " + q(k.Socket),
		"unix_socket_permissions = 0700",
		"",
		"# Recovery: to the boundary, and no further.",
		"restore_command = " + q(restoreCommand),
		"recovery_target_lsn = " + q(p.Boundary.Stop.String()),
		"recovery_target_inclusive = " + inclusive,
		"recovery_target_timeline = " + q(fmt.Sprint(uint32(p.Boundary.Timeline))),
		"recovery_target_action = 'pause'",
		"recovery_init_sync_method = 'syncfs'", // one flush of the file system, not one of each file
		"hot_standby = on",
		"",
		"# Nothing leaves this copy, and nothing runs in it by itself.",
		"archive_mode = off",
		"archive_command = ''",
		"primary_conninfo = ''",
		"primary_slot_name = ''",
		"synchronous_standby_names = ''",
		"shared_preload_libraries = ''",
		"session_preload_libraries = ''",
		"local_preload_libraries = ''",
		"max_logical_replication_workers = 0",
		"ssl = off",
	}
	if k.Beside != "" { // it is opened only to be read, and must stay what it is
		lines = append(lines, "autovacuum = off")
	}
	lines = append(lines, control.Version.CopySettings...)
	lines = append(lines,
		"",
		"# At least what the original had.",
	)
	lines = append(lines, limits(control)...)
	lines = append(lines,
		"",
		fmt.Sprintf("shared_buffers = '%dMB'", buffers),
		"huge_pages = off",
		fmt.Sprintf("min_wal_size = '%dMB'", max(80, 2*int64(control.SegmentSize)>>20)), // less than two segments is refused
		"max_wal_size = '4GB'",
		"logging_collector = off",
		"log_destination = 'stderr'",
		"log_line_prefix = '%m [%p] '",
		"log_timezone = 'UTC'",
		"lc_messages = 'C'",
		"",
	)
	return strings.Join(lines, "\n")
}

// keepAside moves a configuration file of the original out of the data directory.
func keepAside(t restore.Trees, name string) error {
	err := t.Rename(filepath.Join(t.Data, name), filepath.Join(t.Config, name))
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	return err
}

// tablespaceMap tells the server where its tablespaces are now; it makes the links itself.
func tablespaceMap(t restore.Trees, head layout.Head) error {
	if len(head.Tablespaces) == 0 {
		return nil
	}
	content := ""
	for _, s := range head.Tablespaces {
		d := filepath.Join(t.Tablespaces, fmt.Sprint(s.OID))
		if err := t.MakeDir(d, 0o700); err != nil { // one without files is not there yet
			return err
		}
		content += fmt.Sprintf("%d %s\n", s.OID, t.Path(d))
	}
	return put(t, filepath.Join(t.Data, "tablespace_map"), []byte(content))
}
