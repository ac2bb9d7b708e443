package catalog

import (
	"context"
	"encoding/json"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"velvetrewind/core/pg"
	"velvetrewind/core/problem"
)

// Cluster is a protected cluster.
type Cluster struct {
	ID             string         `db:"id"`
	Name           string         `db:"name"`
	ConnString     string         `db:"conn_string"`
	PasswordSealed []byte         `db:"password_sealed"`
	SystemID       uint64         `db:"system_id"`
	ServerVersion  int            `db:"server_version"`
	SegmentSize    pg.SegmentSize `db:"segment_size"`
	DataChecksums  bool           `db:"data_checksums"`
	Superuser      string         `db:"superuser"`
	DataDirectory  string         `db:"data_directory"` // the server's, as last asked; "" where it does not tell
	Slot           string         `db:"slot"`
	CreatedAt      time.Time      `db:"created_at"`
	TidyDue        bool           `db:"tidy_due"` // something is to be deleted from the store
	TidyNow        bool           `db:"tidy_now"` // and has waited long enough, perhaps
	SecondStore    bool           `db:"second_store"`

	LabelsSet         json.RawMessage  `db:"labels"`    // map[string]string
	KeepSet           *json.RawMessage `db:"keep_rule"` // keep.Rule
	AuthorsSet        json.RawMessage  `db:"authors"`   // journal.AuthorRule; nil in one that is not recorded yet
	RuleSet           json.RawMessage  `db:"rule"`      // journal.Rule; nil in one that is not recorded yet
	ReplicationUser   string           `db:"replication_user"`
	ReplicationSealed []byte           `db:"replication_sealed"`
	CaptureAlert      int              `db:"capture_alert_seconds"`

	FormerSuperusersSet json.RawMessage `db:"former_superusers"` // []string, the newest last
	CopiesUser          string          `db:"copies_user"`       // OS user of its copies; "" is the service's choice

	// The objective, in seconds; 0: none.
	BackWithin   int `db:"back_within_seconds"`
	LosingAtMost int `db:"losing_at_most_seconds"`
}

// FormerSuperusers are names that the bootstrap superuser had before.
func (c Cluster) FormerSuperusers() (names []string, err error) {
	if len(c.FormerSuperusersSet) == 0 {
		return nil, nil
	}
	return names, json.Unmarshal(c.FormerSuperusersSet, &names)
}

// SaveFacts records what a server says of itself that can change between two of its starts.
func (c *Catalog) SaveFacts(ctx context.Context, k Cluster) error {
	_, err := c.db.ExecContext(ctx, `update velvet.clusters set server_version = $2, data_checksums = $3, data_directory = $4,
		superuser = $5,
		former_superusers = case when superuser = $5 then former_superusers else (former_superusers - superuser) || to_jsonb(superuser) end
		where id = $1`,
		k.ID, k.ServerVersion, k.DataChecksums, k.DataDirectory, k.Superuser)
	return err
}

// Labels are by what policies find the cluster.
func (c Cluster) Labels() (labels map[string]string, err error) {
	if len(c.LabelsSet) == 0 {
		return nil, nil
	}
	return labels, json.Unmarshal(c.LabelsSet, &labels)
}

// Major is the server's major version.
func (c Cluster) Major() int { return c.ServerVersion / 10000 }

// Version is what is known of the server's version; nil for one that is no longer, or not
// yet, supported.
func (c Cluster) Version() *pg.Version { return pg.Major(c.Major()) }

// AddCluster records a cluster together with its capture, which is wanted from now on.
func (c *Catalog) AddCluster(ctx context.Context, k Cluster) error {
	return c.insertCluster(ctx, k, CaptureStarting, true)
}

// AdoptCluster records a cluster that is recorded again, piece by piece, from its
// store. Its capture is not wanted before that has ended.
func (c *Catalog) AdoptCluster(ctx context.Context, k Cluster) error {
	return c.insertCluster(ctx, k, CaptureRebuilding, false)
}

// HalfAdopted lists the clusters whose adoption has not ended.
func (c *Catalog) HalfAdopted(ctx context.Context) ([]string, error) {
	var list []string
	return list, c.db.SelectContext(ctx, &list, `select cluster_id from velvet.captures where state = $1 and not wanted`, CaptureRebuilding)
}

func (c *Catalog) insertCluster(ctx context.Context, k Cluster, state string, wanted bool) error {
	tx, err := c.db.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	_, err = tx.ExecContext(ctx, `insert into velvet.clusters
		(id, name, conn_string, password_sealed, system_id, server_version, segment_size, data_checksums, superuser, slot, labels,
		keep_rule, replication_user, replication_sealed, host, data_directory, former_superusers)
		values ($1, $2, $3, $4, $5::text::numeric, $6, $7, $8, $9, $10, coalesce($11::jsonb, '{}'), $12, $13, $14, $15, $16,
		coalesce($17::jsonb, '[]'))`,
		k.ID, k.Name, k.ConnString, k.PasswordSealed, utoa(k.SystemID), k.ServerVersion, int64(k.SegmentSize), k.DataChecksums,
		k.Superuser, k.Slot,
		textOrNull(k.LabelsSet), jsonOrNull(k.KeepSet), k.ReplicationUser, k.ReplicationSealed, hostOf(k.ConnString),
		k.DataDirectory, textOrNull(k.FormerSuperusersSet))
	if violates(err, "clusters_name_key") {
		return problem.New(problem.Conflict, "Choose another name, or remove the other cluster first.", "the cluster was not added",
			"there is a cluster named %q already", k.Name)
	}
	if err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, `insert into velvet.captures (cluster_id, state, wanted) values ($1, $2, $3)`, k.ID, state,
		wanted); err != nil {
		return err
	}
	return tx.Commit()
}

// hostOf is the host that a connection string names, "" if it cannot be read.
func hostOf(conn string) string {
	c, err := pgconn.ParseConfig(conn)
	if err != nil {
		return ""
	}
	return c.Host
}

const clusterColumns = `id, name, conn_string, password_sealed, system_id::text as system_id, server_version, segment_size,
	data_checksums, superuser, slot, created_at, rule, authors,
	tidy_due or exists (select from velvet.released r where r.cluster_id = clusters.id and not r.tidied) as tidy_due,
	tidy_due and coalesce(tidy_after <= now(), true) or exists (select from velvet.released r
	where r.cluster_id = clusters.id and not r.tidied and coalesce(r.due_at <= now(), true)) as tidy_now, second_store, labels, keep_rule,
	replication_user, replication_sealed, capture_alert_seconds, data_directory, former_superusers, copies_user,
	back_within_seconds, losing_at_most_seconds`

// Clusters lists all clusters by name.
func (c *Catalog) Clusters(ctx context.Context) ([]Cluster, error) {
	var list []Cluster
	return list, c.db.SelectContext(ctx, &list, `select `+clusterColumns+` from velvet.clusters order by name`)
}

// Cluster finds a cluster by name or id.
func (c *Catalog) Cluster(ctx context.Context, nameOrID string) (Cluster, error) {
	var k Cluster
	return k, c.get(ctx, &k, `select `+clusterColumns+` from velvet.clusters where name = $1 or id = $1`, `select id from velvet.clusters`,
		nameOrID, "cluster", "List the clusters with: velvet cluster list")
}

// SetCopiesUser says as which OS user a cluster's copies run.
func (c *Catalog) SetCopiesUser(ctx context.Context, cluster, user string) error {
	_, err := c.db.ExecContext(ctx, `update velvet.clusters set copies_user = $2 where id = $1`, cluster, user)
	return err
}

// WantSecondStore says whether a cluster is copied to the second store.
func (c *Catalog) WantSecondStore(ctx context.Context, cluster string, wanted bool) error {
	_, err := c.db.ExecContext(ctx, `update velvet.clusters set second_store = $2 where id = $1`, cluster, wanted)
	return err
}

// Growth is what was stored in a stretch of time.
type Growth struct {
	ClusterID string    `db:"cluster_id"`
	At        time.Time `db:"at"` // when the stretch began
	Backups   int64     `db:"backups"`
	WAL       int64     `db:"wal"`
}

// Growths tells how many bytes of backups and WAL that are still kept were stored in
// each stretch of a number of seconds, oldest first.
func (c *Catalog) Growths(ctx context.Context, seconds int64) ([]Growth, error) {
	var list []Growth
	return list, c.db.SelectContext(ctx, &list, `select cluster_id, to_timestamp(slot * $1::bigint) as at, sum(backups)::bigint as backups,
		sum(wal)::bigint as wal from (
			select cluster_id, floor(extract(epoch from stopped_at) / $1::bigint)::bigint as slot, bytes_stored as backups, 0 as wal
			from velvet.backups where dropped_at is null
			union all select cluster_id, floor(extract(epoch from stored_at) / $1::bigint)::bigint, 0, stored_bytes from velvet.segments) s
		group by cluster_id, slot order by slot, cluster_id`, seconds)
}

// RemoveCluster forgets a cluster that has neither backups nor copies.
func (c *Catalog) RemoveCluster(ctx context.Context, id string) error {
	tx, err := c.db.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	for _, q := range []string{
		`delete from velvet.proofs where cluster_id = $1`,
		`delete from velvet.copies where cluster_id = $1 and state = '` + CopyDiscarded + `'`,
		`delete from velvet.backups where cluster_id = $1 and dropped_at is not null`,
		`delete from velvet.clusters where id = $1`,
	} {
		if _, err := tx.ExecContext(ctx, q, id); err != nil {
			return err
		}
	}
	return tx.Commit()
}

// Removed is a cluster that was removed and whose part of the store is to be deleted.
type Removed struct {
	ID        string    `db:"id"`
	Name      string    `db:"name"`
	RemovedAt time.Time `db:"removed_at"`
}

// NoteRemoved has a cluster's part of the store be deleted once it has waited long enough.
func (c *Catalog) NoteRemoved(ctx context.Context, k Cluster) error {
	_, err := c.db.ExecContext(ctx, `insert into velvet.removed_clusters (id, name) values ($1, $2) on conflict (id) do update
		set removed_at = now(), look_at = null`, k.ID, k.Name)
	return err
}

// RemovedClusters lists them; those that were registered again are forgotten.
func (c *Catalog) RemovedClusters(ctx context.Context) ([]Removed, error) {
	if _, err := c.db.ExecContext(ctx, `delete from velvet.removed_clusters where id in (select id from velvet.clusters)`); err != nil {
		return nil, err
	}
	var list []Removed
	return list, c.db.SelectContext(ctx, &list, `select id, name, removed_at from velvet.removed_clusters order by removed_at`)
}

// RemovedToLookAt lists those that may have waited long enough.
func (c *Catalog) RemovedToLookAt(ctx context.Context) ([]Removed, error) {
	var list []Removed
	return list, c.db.SelectContext(ctx, &list, `select id, name, removed_at from velvet.removed_clusters
		where coalesce(look_at <= now(), true) order by removed_at`)
}

// LookAtRemoved notes when to look at a removed cluster again.
func (c *Catalog) LookAtRemoved(ctx context.Context, id string, at time.Time) error {
	_, err := c.db.ExecContext(ctx, `update velvet.removed_clusters set look_at = $2 where id = $1`, id, at)
	return err
}

// ForgetRemoved notes that nothing of a removed cluster is left.
func (c *Catalog) ForgetRemoved(ctx context.Context, id string) error {
	_, err := c.db.ExecContext(ctx, `delete from velvet.removed_clusters where id = $1`, id)
	return err
}

// ForgetCluster removes every record of a cluster, also of its base backups, which stay
// in the store.
func (c *Catalog) ForgetCluster(ctx context.Context, id string) error {
	if _, err := c.db.ExecContext(ctx, `delete from velvet.backups where cluster_id = $1`, id); err != nil {
		return err
	}
	return c.RemoveCluster(ctx, id)
}

// SetLogin records how a cluster is reached.
func (c *Catalog) SetLogin(ctx context.Context, k Cluster) error {
	_, err := c.db.ExecContext(ctx, `update velvet.clusters set conn_string = $2, password_sealed = $3, replication_user = $4,
		replication_sealed = $5, host = $6 where id = $1`,
		k.ID, k.ConnString, k.PasswordSealed, k.ReplicationUser, k.ReplicationSealed, hostOf(k.ConnString))
	return err
}

// ClusterID gives the id of a cluster by which a list is narrowed; of none it is "".
func (c *Catalog) ClusterID(ctx context.Context, nameOrID string) (string, error) {
	if nameOrID == "" {
		return "", nil
	}
	k, err := c.Cluster(ctx, nameOrID)
	return k.ID, err
}

// ClusterNames are the names of all clusters by their ids.
func (c *Catalog) ClusterNames(ctx context.Context) (map[string]string, error) {
	list, err := c.Clusters(ctx)
	names := make(map[string]string, len(list))
	for _, k := range list {
		names[k.ID] = k.Name
	}
	return names, err
}
