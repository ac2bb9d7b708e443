package prove

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"velvetrewind/core/journal"
	"velvetrewind/core/moment"
	"velvetrewind/core/pg"
	"velvetrewind/core/proof"
	"velvetrewind/core/task"
	"velvetrewind/engine/archive"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/changes"
	"velvetrewind/engine/server/access"
)

// comparison is of the copy's tables with the live ones, and with those of an earlier proof.
type comparison struct {
	*run
	tables    []proof.Table
	snapshots map[uint32]pg.Snapshot // of the live databases
	to        pg.LSN                 // the WAL up to here tells of all that these see
	since     map[journal.TableID]*proof.Since
	unsure    map[uint32]string // changes of what nobody can name, by database
	earlier   *Earlier
	between   map[journal.TableID]bool // changed between the boundaries of this and of the earlier proof
	partition map[journal.TableID]bool
	refused   map[journal.TableID]error
}

// content compares the tables with the live ones and with an earlier proof, and has the journal explain each difference.
func (r *run) content(ctx context.Context, tables []proof.Table) error {
	started := time.Now()
	c := &comparison{run: r, tables: tables, snapshots: make(map[uint32]pg.Snapshot), since: make(map[journal.TableID]*proof.Since),
		unsure: make(map[uint32]string), between: make(map[journal.TableID]bool), partition: make(map[journal.TableID]bool),
		refused: make(map[journal.TableID]error)}
	for i := range r.Earlier {
		if e := &r.Earlier[i]; e.Plan.Boundary.Timeline == r.plan.Boundary.Timeline {
			c.earlier = e
			break
		}
	}
	problem := ""
	if err := c.readLive(ctx); err != nil {
		problem = access.Remedy(err)
	}
	at := time.Now()
	if err := c.readJournal(ctx, problem == ""); err != nil {
		c.earlier = nil // what lies between is not known
		if problem == "" {
			problem = err.Error()
		}
	}
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	c.judge(problem)
	r.add(proof.Compared(tables, at, problem), started)
	return nil
}

func (c *comparison) id(row *proof.Table) journal.TableID {
	return journal.TableID{Database: row.Database, OID: row.OID}
}

// readLive reads the same tables on the live cluster, those of each database in one snapshot.
func (c *comparison) readLive(ctx context.Context) error {
	for i := range c.databases {
		if err := c.readDatabase(ctx, &c.databases[i]); err != nil {
			return fmt.Errorf("database %s: %w", c.databases[i].Name, err)
		}
	}
	return c.settle(ctx)
}

// settle asks how far the WAL goes that tells of all that the snapshots see. A transaction that does not wait for its flush
// can be seen before that, for three times the pause of whoever flushes it; and where nothing is committed, nothing is flushed
// for long.
func (c *comparison) settle(ctx context.Context) error {
	conn, err := c.Access.SQL(ctx, "")
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	var pause int64 // in milliseconds
	if err := conn.QueryRow(ctx, `select setting::bigint from pg_catalog.pg_settings
		where name operator(pg_catalog.=) 'wal_writer_delay'`).Scan(&pause); err != nil {
		return err
	}
	var text string
	if err := conn.QueryRow(ctx, `select pg_catalog.pg_current_wal_flush_lsn()::pg_catalog.text from pg_catalog.pg_sleep($1)`,
		float64(3*pause)/1000+0.1).Scan(&text); err != nil {
		return err
	}
	return c.to.UnmarshalText([]byte(text))
}

func (c *comparison) readDatabase(ctx context.Context, db *database) error {
	if len(db.tables) == 0 {
		return nil
	}
	conn, err := c.Access.SQL(ctx, db.Name)
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	if _, err := conn.Exec(ctx, `set lock_timeout = '5s'; `+plainText); err != nil {
		return err
	}
	tx, err := conn.BeginTx(ctx, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly})
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback(context.WithoutCancel(ctx)) }()
	var text string
	if err := tx.QueryRow(ctx, `select pg_catalog.pg_current_snapshot()::pg_catalog.text`).Scan(&text); err != nil {
		return err
	}
	if c.snapshots[db.OID], err = pg.ParseSnapshot(text); err != nil {
		return err
	}
	list, err := tablesOf(ctx, conn)
	if err != nil {
		return err
	}
	live := make(map[uint32]*table, len(list))
	for i := range list {
		live[list[i].OID] = &list[i]
	}
	for i := range c.tables {
		row := &c.tables[i]
		t := live[row.OID]
		if row.Database != db.Name || t == nil {
			continue
		}
		c.partition[c.id(row)] = t.Partition
		c.report.Progress(int64(i), int64(len(c.tables)), task.Tables, fmt.Sprintf("reading %s in the live %s", t, db.Name))
		if err := c.readTable(ctx, tx, t, row, db.tainted); err != nil {
			if ctx.Err() != nil || conn.IsClosed() {
				return err
			}
			c.refused[c.id(row)] = err
		}
	}
	return nil
}

// readTable reads a live table, if that calls nothing of its owner's.
func (c *comparison) readTable(ctx context.Context, tx pgx.Tx, t *table, row *proof.Table, tainted bool) error {
	if !t.harmless() {
		return errUnsafe
	}
	return within(ctx, tx, func(tx pgx.Tx) error {
		cols, err := columnsOf(ctx, tx, t)
		if err != nil {
			return err
		}
		sum := "''"
		if cols.hash() == row.Columns && row.Sum != "" && !tainted {
			sum = cols.sum()
		}
		var rows int64
		err = tx.QueryRow(ctx, "select pg_catalog.count(*), "+sum+"::pg_catalog.text from only "+t.sql()).Scan(&rows, &row.LiveSum)
		if err == nil {
			row.Live = &rows
		}
		return err
	})
}

// journalWait bounds how long the proof waits for capture to have what the live cluster shows.
const journalWait = 30 * time.Second

// readJournal gathers what the journal tells of the tables, after the boundary as far as the live snapshots see it, and between
// the boundary and that of the earlier proof.
func (c *comparison) readJournal(ctx context.Context, live bool) error {
	a, j, err := c.caughtUp(ctx, live)
	if err != nil {
		return err
	}
	wanted := make(map[journal.TableID]bool, len(c.tables))
	for i := range c.tables {
		wanted[c.id(&c.tables[i])] = true
	}
	b := c.plan.Boundary
	if to := max(c.to, b.End); live && !whole(a, b.End, to) {
		return fmt.Errorf("WAL between the boundary and %s is missing, so that the journal does not tell of every change", to)
	}
	from, old := b.Stop, (*moment.Boundary)(nil)
	if c.earlier != nil && !whole(a, min(b.End, c.earlier.Plan.Boundary.End), max(b.End, c.earlier.Plan.Boundary.End)) {
		c.earlier = nil
	}
	if c.earlier != nil {
		old = &c.earlier.Plan.Boundary
		from = min(from, old.Stop)
	}
	return j.Each(ctx, from, func(s *journal.Segment, t *journal.Transaction) error {
		in := b.Keeps(t.End)
		between := old != nil && old.Keeps(t.End) != in
		snapshot, known := c.snapshots[databaseOf(t)]
		after := live && !in && (!known || snapshot.Sees(pg.XID(t.XID).Near(snapshot.Max)))
		if !t.Committed || !between && !after {
			return nil
		}
		names := j.Names(s, t)
		for _, change := range t.Tables(names) {
			id := journal.TableID{Database: change.Database, OID: change.OID}
			switch {
			case !change.Known && slices.Contains(t.Created, change.File) && slices.Contains(t.Dropped, change.File):
				// It came and went within the transaction, and what was in it did, too.
			case !change.Known:
				c.note(t, &change)
			case wanted[id]:
				c.between[id] = c.between[id] || between
				if after {
					c.sinceOf(id).Add(t, &change, fresh(t, id, names))
				}
			}
		}
		return nil
	})
}

// whole tells whether there is all of the WAL between two places.
func whole(a *archive.Archive, from, to pg.LSN) bool {
	return slices.ContainsFunc(a.Stretches(), func(s archive.Stretch) bool {
		return a.Cluster.SegmentSize.Start(s.First) <= from && to <= s.End
	})
}

// databaseOf is the database of a transaction, by its changes where nothing else tells.
func databaseOf(t *journal.Transaction) uint32 {
	if t.Database == 0 && len(t.Changes) > 0 {
		return t.Changes[0].Relation.Database
	}
	return t.Database
}

// note remembers the first change of a database that nobody can name.
func (c *comparison) note(t *journal.Transaction, change *journal.TableChange) {
	if c.unsure[databaseOf(t)] == "" {
		c.unsure[databaseOf(t)] = fmt.Sprintf("tx %d changed rows of a file that nobody can name (%d)", t.XID, change.File.Filenode)
	}
}

func (c *comparison) sinceOf(id journal.TableID) *proof.Since {
	s := c.since[id]
	if s == nil {
		s = new(proof.Since)
		c.since[id] = s
	}
	return s
}

// fresh is how many rows a transaction put into files of a table that it made itself.
func fresh(t *journal.Transaction, id journal.TableID, names journal.Lookup) (rows int64) {
	if len(t.Created) == 0 {
		return 0
	}
	for _, c := range t.Changes {
		if n, known := names(c.Relation); known && n.Part == journal.Main && n.OID == id.OID && n.Database == id.Database &&
			slices.Contains(t.Created, c.Relation) {
			rows += c.Inserted - c.Deleted
		}
	}
	return rows
}

// caughtUp opens the journal once it tells of all that the live snapshots see.
func (c *comparison) caughtUp(ctx context.Context, live bool) (*archive.Archive, *changes.Journal, error) {
	until := time.Now().Add(journalWait)
	for {
		a, j, err := c.Open(ctx, 0)
		if err == nil && !a.Leads(c.plan.Boundary.Timeline, c.plan.Boundary.End) {
			return nil, nil, fmt.Errorf("the live cluster is on timeline %d, which left the copy's timeline %d before its moment: what "+
				"tells them apart happened on both", a.Timeline, c.plan.Boundary.Timeline)
		}
		if err != nil || !live || a.Capture.FlushedLSN >= c.to {
			return a, j, err
		}
		if time.Now().After(until) {
			return nil, nil, fmt.Errorf("capture has come to %s, but the live cluster is at %s; see: velvet capture status",
				a.Capture.FlushedLSN, c.to)
		}
		c.report.Progress(0, 0, task.None, task.Waiting("capture to reach the live cluster", until.Add(-journalWait), "seconds"))
		select {
		case <-ctx.Done():
			return nil, nil, context.Cause(ctx)
		case <-time.After(200 * time.Millisecond):
		}
	}
}

// judge holds each table against what the journal tells. problem is why the live cluster is not compared.
func (c *comparison) judge(problem string) {
	byName := make(map[string]uint32)
	for _, db := range c.databases {
		byName[db.Name] = db.OID
	}
	var before map[journal.TableID]*proof.Table
	if c.earlier != nil {
		before = make(map[journal.TableID]*proof.Table)
		for i := range c.earlier.Checks {
			for k := range c.earlier.Checks[i].Tables {
				t := &c.earlier.Checks[i].Tables[k]
				before[c.id(t)] = t
			}
		}
	}
	for i := range c.tables {
		row := &c.tables[i]
		if row.Problem != "" {
			continue
		}
		id, unsure := c.id(row), c.unsure[byName[row.Database]]
		if problem == "" {
			row.Explain(c.sinceOf(id), c.partition[id], unsure)
		}
		if err := c.refused[id]; err != nil {
			row.Cause = err.Error()
		}
		if old := before[id]; old != nil && old.Agrees == proof.Passed && !c.between[id] && unsure == "" {
			row.Against(old, c.earlier.At)
		}
		if row.Agrees == proof.Failed && c.copy.State == catalog.CopyOpen {
			row.Cause += "; the copy is open, and what was changed in it since counts"
		}
	}
}
