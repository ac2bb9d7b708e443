package catalog

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

	"velvetrewind/core/problem"
)

// Host is a machine with a host agent.
type Host struct {
	ID        string          `db:"id"`
	Name      string          `db:"name"`
	About     json.RawMessage `db:"about"`   // wire.About, as its agent last said
	Address   string          `db:"address"` // that it last came from
	JoinedAt  time.Time       `db:"joined_at"`
	SeenAt    sql.NullTime    `db:"seen_at"`
	RemovedAt sql.NullTime    `db:"removed_at"`
}

// Authority gives the certificate and the sealed key that certificates of hosts are signed with; the first who asks makes them.
func (c *Catalog) Authority(ctx context.Context, create func() (certificate, key []byte, err error)) (certificate, key []byte, err error) {
	read := func() error {
		return c.db.QueryRowxContext(ctx, `select certificate, key from velvet.authority`).Scan(&certificate, &key)
	}
	if err = read(); !errors.Is(err, sql.ErrNoRows) {
		return certificate, key, err
	}
	if certificate, key, err = create(); err != nil {
		return nil, nil, err
	}
	if _, err = c.db.ExecContext(ctx, `insert into velvet.authority (certificate, key) values ($1, $2) on conflict do nothing`,
		certificate, key); err != nil {
		return nil, nil, err
	}
	return certificate, key, read() // another instance may have been first
}

// DropAuthority forgets an authority, if it still is the one.
func (c *Catalog) DropAuthority(ctx context.Context, certificate []byte) error {
	_, err := c.db.ExecContext(ctx, `delete from velvet.authority where certificate = $1`, certificate)
	return err
}

// AddHostWord records a word with which a host may join once, until a time.
func (c *Catalog) AddHostWord(ctx context.Context, hash []byte, name string, until time.Time) error {
	var taken bool
	if err := c.db.GetContext(ctx, &taken, `select exists (select from velvet.hosts where name = $1 and removed_at is null)`,
		name); err != nil {
		return err
	}
	if taken {
		return hostNameTaken(name)
	}
	_, err := c.db.ExecContext(ctx, `with gone as (delete from velvet.host_words where name = $2 or expires_at < now())
		insert into velvet.host_words (hash, name, expires_at) values ($1, $2, $3)`, hash, name, until)
	return err
}

func hostNameTaken(name string) error {
	return problem.New(problem.Conflict, "Choose another name, or first: velvet host remove "+name, "the host was not added",
		"there is a host named %q already", name)
}

// ErrNoWord says that a word is not, or no longer, one with which a host may join.
var ErrNoWord = errors.New("the word is not valid: it is used up, ran out, or never was one")

// JoinHost records a host that came with a word, which is used up.
func (c *Catalog) JoinHost(ctx context.Context, hash []byte, h Host) (Host, error) {
	tx, err := c.db.BeginTxx(ctx, nil)
	if err != nil {
		return h, err
	}
	defer func() { _ = tx.Rollback() }()
	if err := useWord(ctx, tx, hash, &h); err != nil {
		return h, err
	}
	_, err = tx.ExecContext(ctx, `insert into velvet.hosts (id, name, address) values ($1, $2, $3)`, h.ID, h.Name, h.Address)
	if violates(err, "host_names") {
		return h, hostNameTaken(h.Name)
	}
	if err != nil {
		return h, err
	}
	return h, tx.Commit()
}

func useWord(ctx context.Context, tx *sqlx.Tx, hash []byte, h *Host) error {
	var until time.Time
	err := tx.QueryRowxContext(ctx, `delete from velvet.host_words where hash = $1 and expires_at > now() returning name, expires_at`,
		hash).Scan(&h.Name, &until)
	if errors.Is(err, sql.ErrNoRows) {
		return ErrNoWord
	}
	return err
}

// SeeHost records that a host's agent is in reach, and what it says of itself. ok is false where there is no such host (any more).
func (c *Catalog) SeeHost(ctx context.Context, id string, about json.RawMessage, address string) (ok bool, err error) {
	r, err := c.db.ExecContext(ctx, `update velvet.hosts set about = $2, address = $3, seen_at = now()
		where id = $1 and removed_at is null`, id, string(about), address)
	if err != nil {
		return false, err
	}
	n, err := r.RowsAffected()
	return n > 0, err
}

// Hosts lists the hosts that were not removed, by name.
func (c *Catalog) Hosts(ctx context.Context) ([]Host, error) {
	var list []Host
	return list, c.db.SelectContext(ctx, &list, `select * from velvet.hosts where removed_at is null order by name`)
}

// Host finds one by its name or id.
func (c *Catalog) Host(ctx context.Context, nameOrID string) (Host, error) {
	var h Host
	err := c.db.GetContext(ctx, &h, `select * from velvet.hosts where (name = $1 or id = $1) and removed_at is null`, nameOrID)
	if errors.Is(err, sql.ErrNoRows) {
		return h, problem.New(problem.NotFound, "See which there are with: velvet host list", "there is no such host",
			"no host has the name %q", nameOrID)
	}
	return h, err
}

// lostAfter is how long no instance has seen a host, in seconds, of which it is taken that it may be lost.
const lostAfter = 180

// RemoveHost has a host be one no longer. One with copies on it stays, unless it is lost: then those are given up, too.
func (c *Catalog) RemoveHost(ctx context.Context, h Host) error {
	tx, err := c.db.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	var lost bool
	if err := tx.GetContext(ctx, &lost, `select coalesce(seen_at, joined_at) < now() - make_interval(secs => $2) from velvet.hosts
		where id = $1 for update`, h.ID, lostAfter); err != nil {
		return err
	}
	var stand int
	if err := tx.GetContext(ctx, &stand, `select count(*) from velvet.copies where host_id = $1 and state <> $2`, h.ID,
		CopyDiscarded); err != nil {
		return err
	}
	if stand > 0 && !lost {
		return problem.New(problem.Conflict, "Discard its copies first: velvet copy list. If the machine is lost, remove it when it has "+
			"been out of reach for three minutes.", "the host was not removed", "there are copies on %s", h.Name)
	}
	if _, err := tx.ExecContext(ctx, `update velvet.copies set state = $2, problem = 'its host was lost'
		where host_id = $1 and state <> $2`, h.ID, CopyDiscarded); err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, `update velvet.hosts set removed_at = now() where id = $1`, h.ID); err != nil {
		return err
	}
	return tx.Commit()
}

// CopiesOn lists the names of the copies that stand on a host.
func (c *Catalog) CopiesOn(ctx context.Context, host string) ([]string, error) {
	var list []string
	return list, c.db.SelectContext(ctx, &list, `select name from velvet.copies where host_id = $1 and state <> $2 order by name`, host,
		CopyDiscarded)
}

// ClustersOn lists the names of the clusters whose servers were last seen on a host.
func (c *Catalog) ClustersOn(ctx context.Context, host string) ([]string, error) {
	var list []string
	return list, c.db.SelectContext(ctx, &list, `select k.name from velvet.originals o join velvet.clusters k on k.id = o.cluster_id
		where o.host_id = $1 order by 1`, host)
}

// HeldOn is what the bases of the copies take that stand on a host, in bytes, and how many those are.
func (c *Catalog) HeldOn(ctx context.Context, host string) (copies int, bytes int64, err error) {
	err = c.db.QueryRowxContext(ctx, `select count(*), coalesce(sum(b.bytes_held), 0)::bigint from velvet.copies k
		join velvet.backups b on b.id = k.backup_id where k.host_id = $1 and k.state <> $2`, host, CopyDiscarded).Scan(&copies, &bytes)
	return copies, bytes, err
}

// CopiesLeft lists what there is on a host of copies that never came to their moment, and that no task makes any more.
func (c *Catalog) CopiesLeft(ctx context.Context, host string) ([]Copy, error) {
	var list []Copy
	return list, c.db.SelectContext(ctx, &list, `select k.* from velvet.copies k join velvet.tasks t on t.id = k.task_id
		where k.host_id = $1 and k.state <> $2 and k.begun_at is not null and k.arrived_at is null and not k.over
		and t.state not in ($3, $4)`,
		host, CopyDiscarded, TaskWaiting, TaskRunning)
}
