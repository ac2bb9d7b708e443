// Package retrieve brings the rows that a transaction took back into the live cluster, from a copy that stands just before it.
//
// Invariant: everything happens in one transaction of the live cluster, which is committed only when it was proved that
// the wanted rows are there and no other was touched. Until then nothing is changed; if the session or the service dies,
// nothing was. What the rows are and what becomes of each is worked out by core/rescue.
package retrieve

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"velvetrewind/core/figures"
	"velvetrewind/core/journal"
	"velvetrewind/core/pg"
	"velvetrewind/core/problem"
	"velvetrewind/core/rescue"
	"velvetrewind/core/task"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/changes"
	"velvetrewind/engine/host"
	"velvetrewind/engine/restore/copies"
	"velvetrewind/engine/server/access"
)

// Retriever retrieves rows of one cluster.
type Retriever struct {
	Cluster catalog.Cluster
	Access  access.Access // of the role that writes
	Host    host.Machine  // that the copy is on
	Copy    catalog.Copy
	Journal *changes.Journal
	// Strange says that live is another cluster than the copy was taken of: its oids and transactions mean other things there.
	Strange bool

	places []changes.Places // of the rows, once they were looked for: the same for each batch
}

// Wish is what is to be rescued, and how.
type Wish struct {
	Entry        changes.Entry // the transaction, or several together
	Also         []uint64      // the ids of those beside the first
	LostDatabase string        // the database that the transaction dropped, if it did: see Database
	// Apart says that others may have written between the copy and the transaction, or between several.
	Apart  bool
	Tables []journal.Table // only these and what stands below them; none for all
	Rules  rescue.Rules
	// Untriggered has no trigger run on the live cluster, and no rule; foreign keys are then looked at by queries.
	Untriggered bool
	// Done are tables, as a plan names them, into which this transaction's rows were brought back already. Of those without a key
	// nothing else would tell.
	Done map[string]bool
	// Brought are batches that were brought back already, and Batch is the only one that is wanted; nil for all the rest.
	Brought []rescue.Batch
	Batch   *rescue.Batch
	// Trust has code of others run with the rights of a superuser.
	Trust bool
}

// title is that of every refusal.
const title = "nothing was changed"

// Plan says what would be brought back, and changes nothing.
func (r *Retriever) Plan(ctx context.Context, w Wish, report task.Report) (p rescue.Plan, err error) {
	if w.LostDatabase != "" {
		p, absent, err := r.planDatabase(ctx, w, false, report)
		if err != nil || absent {
			return p, err
		}
	}
	err = r.within(ctx, w, nil, report, func(ctx context.Context, s *session) error {
		p = s.plan
		return errUnwritten
	})
	return p, err
}

// Try does everything and takes it back. To script, if there is one, goes SQL that does the same.
// One that is about a database that would have to be made is only planned.
func (r *Retriever) Try(ctx context.Context, w Wish, script io.Writer, report task.Report) (
	p rescue.Plan, checks []rescue.Check, err error) {
	if w.LostDatabase != "" {
		p, absent, err := r.planDatabase(ctx, w, true, report)
		if err == nil && absent && script != nil {
			err = problem.New(problem.Conflict, "Make the database first, and ask again.", title, "live has no database %s", w.LostDatabase)
		}
		if err != nil || absent {
			return p, []rescue.Check{{Name: "dry run", Verdict: rescue.Passed, Summary: "nothing was written, for which the database " +
				"would have to be made; it will be proved before it is committed"}}, err
		}
	}
	return r.write(ctx, w, script, nil, report)
}

// Apply brings the rows back. begun is told the transaction's id, and what it does, before it is committed.
func (r *Retriever) Apply(ctx context.Context, w Wish, begun func(pg.FullXID, rescue.Plan) error, report task.Report) (
	p rescue.Plan, checks []rescue.Check, err error) {
	return r.write(ctx, w, nil, begun, report)
}

// errUnwritten has a transaction rolled back.
var errUnwritten = errors.New("not to be committed")

// attempts is how often a rescue is begun anew where others changed the same rows at the same time.
const attempts = 5

// What the server says where others are at the same rows: that they changed them, and that each waits for the other.
const (
	conflicted = "40001"
	deadlocked = "40P01"
)

func (r *Retriever) write(ctx context.Context, w Wish, script io.Writer, begun func(pg.FullXID, rescue.Plan) error, report task.Report) (
	p rescue.Plan, checks []rescue.Check, err error) {
	if w.LostDatabase != "" {
		if err := r.makeDatabase(ctx, w, report); err != nil {
			return p, nil, err
		}
	}
	for try := 1; ; try++ {
		err = r.within(ctx, w, script, report, func(ctx context.Context, s *session) error {
			p = s.plan
			if err := Settled(p); err != nil {
				return err
			}
			checks, err = s.write(ctx)
			p = s.plan
			if err != nil {
				return err
			}
			if begun == nil {
				return errUnwritten
			}
			if worst := rescue.Overall(checks); worst != rescue.Passed {
				return problem.New(problem.Failed, "See its checks. Where a trigger changes rows as they are written: --no-triggers.",
					title, "the rescue was not proved")
			}
			return begun(s.own, p)
		})
		var pgErr *pgconn.PgError
		if !errors.As(err, &pgErr) || pgErr.Code != conflicted && pgErr.Code != deadlocked || try == attempts {
			return p, checks, err
		}
		report.Log("somebody changed the same rows meanwhile; once more, from the beginning")
	}
}

// session is one rescue: a transaction on the live cluster, with a session on the copy beside it.
type session struct {
	*Retriever
	Wish
	live   *pgx.Conn
	tx     pgx.Tx
	old    *pgx.Conn
	report task.Report
	script io.Writer // nil for none
	sides  []*side
	lives  map[uint32]bool // tables, or partitions of tables, of the copy that are in the live cluster under the same oid
	made   []definition    // tables that were dropped
	// objects that were dropped and are no tables, as the copy has them, and those of them that live lacked.
	objects, absent []object
	lost            []*lostColumns
	others          []uint32 // functions that come with something else
	plan            rescue.Plan
	own             pg.FullXID
}

// side is a table that is rescued: live, and what of the copy goes into it.
type side struct {
	*rescue.Table
	sources []source
	did     journal.Counts
	between int // rows that others had changed or made since the copy
	notes   []string
}

// source is a table of the copy whose rows are brought.
type source struct {
	oid          uint32
	schema, name string
	rows         []changes.RowPlace // none for all of its rows
	whole        bool
	first, end   int64 // of all of its rows, the blocks in which they lie
	perBlock     int64 // about so many rows
}

// texts are the settings under which values are written as texts and read again, alike on both sides.
const texts = `set datestyle = 'ISO, YMD'; set intervalstyle = 'postgres'; set extra_float_digits = 3; set bytea_output = 'hex';
	set timezone = 'UTC'; set lc_monetary = 'C'; set xmloption = 'content'`

// within opens both sides, stages what is to be brought, finds out how it stands, and has the rest done by do; what that returns is
// committed if it is nil.
func (r *Retriever) within(ctx context.Context, w Wish, script io.Writer, report task.Report,
	do func(context.Context, *session) error) error {
	s := &session{Retriever: r, Wish: w, report: report, script: script, lives: make(map[uint32]bool)}
	database, err := databaseOf(&w.Entry)
	if err != nil {
		return err
	}
	s.plan.XID, s.plan.Also, s.plan.Database = uint64(w.Entry.XID), w.Also, database
	defer s.close(ctx)
	if err := s.open(ctx, database); err != nil {
		return err
	}
	// Rows are asked for by their places, some thousands at once, for which the server would rather read the whole table.
	if _, err := s.old.Exec(ctx, "set enable_seqscan = off"); err != nil {
		return err
	}
	err = s.prepare(ctx)
	if err == nil {
		err = do(ctx, s)
	}
	switch {
	case errors.Is(err, errUnwritten):
		return s.tx.Rollback(ctx)
	case err != nil:
		return remedy(err)
	}
	return s.tx.Commit(ctx)
}

// reading opens both sides to be read, and takes back whatever is done.
func (r *Retriever) reading(ctx context.Context, database string, report task.Report, do func(*session) error) error {
	s := &session{Retriever: r, report: report}
	defer s.close(ctx)
	if err := s.open(ctx, database); err != nil {
		return err
	}
	return do(s)
}

// open opens a session on either side, and the transaction on the live one.
func (s *session) open(ctx context.Context, database string) (err error) {
	if s.live, err = s.Access.Admin(ctx, database); err != nil {
		return problem.New(problem.Unreachable, "", title, "%s", access.Remedy(err))
	}
	if s.old, err = copies.Connect(ctx, s.Host, s.Copy, s.Cluster, database); err != nil {
		return err
	}
	for _, conn := range []*pgx.Conn{s.live, s.old} {
		if _, err := conn.Exec(ctx, texts); err != nil {
			return err
		}
	}
	s.tx, err = s.live.BeginTx(ctx, pgx.TxOptions{IsoLevel: pgx.RepeatableRead})
	return err
}

// close ends both sessions; what was not committed is taken back.
func (s *session) close(ctx context.Context) {
	for _, conn := range []*pgx.Conn{s.live, s.old} {
		if conn != nil {
			_ = conn.Close(context.WithoutCancel(ctx))
		}
	}
}

// remedy says what to do about an error of the live server.
func remedy(err error) error {
	var pgErr *pgconn.PgError
	var told *problem.Problem
	if !errors.As(err, &pgErr) || pgErr.Code == conflicted || errors.As(err, &told) {
		return err
	}
	next := ""
	switch pgErr.Code {
	case "42501":
		next = "Give the login of a role that may: --as ROLE --as-password-file FILE"
	case "55P03":
		next = "Somebody holds the rows or the table; try again, or end that session."
	case "23514":
		next = "A check that was added since refuses an old row. Leave its table out, or change the check."
	case "23505", "23P01", "23503":
		next = "See what stands in the way: velvet rescue plan"
	}
	detail := pgErr.Message
	if pgErr.Detail != "" {
		detail += "; " + pgErr.Detail
	}
	return &problem.Problem{Kind: problem.Conflict, Title: title, Detail: "the live cluster refused it: " + detail, Next: next, Err: err}
}

// databaseOf is the database in which a transaction changed tables, or dropped something else.
func databaseOf(e *changes.Entry) (string, error) {
	for _, c := range e.Tables {
		if c.Known && !c.System() {
			return c.Database, nil
		}
	}
	for _, n := range e.Dropped {
		return n.Database, nil
	}
	return "", problem.New(problem.Invalid, "See what it did: velvet changes show", title,
		"transaction %d changed no table, and dropped nothing", e.XID)
}

// prepare stages the rows, and says how each stands.
func (s *session) prepare(ctx context.Context) error {
	if err := s.survey(ctx); err != nil {
		return err
	}
	s.narrow()
	s.scriptf("-- Velvet Rewind: what transaction %d took, back into database %s.\n-- Made %s. Run it with psql -v ON_ERROR_STOP=1.\n"+
		"begin isolation level repeatable read;\n%s;\n", s.Entry.XID, s.plan.Database, time.Now().UTC().Format(time.RFC3339),
		strings.ReplaceAll(texts, "set ", "set local "))
	by := append([]pg.XID{pg.XID(s.Entry.XID)}, s.Entry.Subxacts...)
	for i, t := range s.sides {
		s.report.Progress(int64(i), int64(len(s.sides)), task.Tables, "reading "+t.String()+" from the copy")
		if err := s.do(ctx, t.Staging()); err != nil {
			return err
		}
		if err := s.stage(ctx, t); err != nil {
			return err
		}
		if t.between > 0 && s.Apart {
			t.notes = append(t.notes, fmt.Sprintf("%s that others had made or changed since the copy stay away; rescue them from one "+
				"just before the transaction that took them", figures.Of(t.between, "row")))
		}
		if err := s.do(ctx, t.Finding(by, s.Done[t.String()])...); err != nil {
			return err
		}
		if err := s.do(ctx, append(t.Deciding(s.Rules), t.Analyzing())...); err != nil {
			return err
		}
	}
	if err := s.exclude(ctx); err != nil {
		return err
	}
	return s.count(ctx)
}

// exclude takes out what cannot be written: rows without parents, and those whose unique keys others have.
func (s *session) exclude(ctx context.Context) error {
	for _, t := range s.sides {
		if err := s.do(ctx, t.Claiming()...); err != nil {
			return err
		}
	}
	for found := true; found; {
		found = false
		for _, t := range s.sides {
			for _, sql := range t.Orphaning() {
				tag, err := s.tx.Exec(ctx, sql)
				if err != nil {
					return err
				}
				if tag.RowsAffected() > 0 {
					found = true
					s.scriptf("%s;\n", sql)
				}
			}
		}
	}
	return nil
}

// do runs statements on the live cluster, and writes them into the script.
func (s *session) do(ctx context.Context, list ...string) error {
	for _, sql := range list {
		if _, err := s.tx.Exec(ctx, sql); err != nil {
			return err
		}
		s.scriptf("%s;\n", sql)
	}
	return nil
}

func (s *session) scriptf(format string, args ...any) {
	if s.script != nil {
		_, _ = fmt.Fprintf(s.script, format, args...)
	}
}

// count fills in the plan.
func (s *session) count(ctx context.Context) error {
	groups := rescue.Order(s.tables())
	for _, g := range groups {
		for _, t := range g {
			p, err := s.countTable(ctx, s.sideOf(t))
			if err != nil {
				return err
			}
			s.plan.Tables = append(s.plan.Tables, p)
		}
	}
	return nil
}

func (s *session) countTable(ctx context.Context, t *side) (p rescue.TablePlan, err error) {
	p = rescue.TablePlan{Table: t.String(), Did: inWords(t.did), Notes: t.notes, Conflicts: []rescue.Conflict{}}
	var key []string
	for _, c := range t.Key {
		key = append(key, c.Name)
	}
	p.Key = strings.Join(key, ", ")
	rows, err := s.tx.Query(ctx, t.Counting())
	if err != nil {
		return p, err
	}
	var state, do string
	var n int64
	_, err = pgx.ForEachRow(rows, []any{&state, &do, &n}, func() error {
		p.Count(state, do, n, s.Rules.Of(t.Table))
		return nil
	})
	if err != nil || p.Changed+p.Gone+p.Orphans+p.Taken == 0 {
		return p, err
	}
	if rows, err = s.tx.Query(ctx, t.Conflicts(rescue.MostConflicts)); err != nil {
		return p, err
	}
	var c rescue.Conflict
	var columns []rescue.Differing
	_, err = pgx.ForEachRow(rows, []any{&state, &c.Key, &do, &columns}, func() error {
		p.Conflicts = append(p.Conflicts, rescue.Conflict{How: rescue.Ways[state], Key: c.Key, Do: s.Rules.Done(t.Table, do),
			Columns: slices.Clone(columns)})
		columns = nil
		return nil
	})
	return p, err
}

func (s *session) tables() []*rescue.Table {
	list := make([]*rescue.Table, len(s.sides))
	for i, t := range s.sides {
		list[i] = t.Table
	}
	return list
}

func (s *session) sideOf(t *rescue.Table) *side {
	return s.sides[slices.IndexFunc(s.sides, func(one *side) bool { return one.Table == t })]
}

// Settled refuses to write where rows stand in the way of which nobody has said what becomes of them.
func Settled(p rescue.Plan) error {
	var open []string
	for _, p := range p.Tables {
		if p.Unsettled > 0 {
			open = append(open, figures.Of(int(p.Unsettled), "row")+" of "+p.Table)
		}
	}
	if len(open) == 0 {
		return nil
	}
	return problem.New(problem.Conflict, "Say what becomes of them: --settle keep-live, --settle take-old, or --settle TABLE[:KEY]=… for "+
		"some of them. See them with: velvet rescue plan", title, "live has changed since, or lacks what is needed: %s",
		strings.Join(open, ", "))
}
