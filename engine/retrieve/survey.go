package retrieve

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"velvetrewind/core/figures"
	"velvetrewind/core/journal"
	"velvetrewind/core/problem"
	"velvetrewind/core/rescue"
	"velvetrewind/engine/changes"
)

// ErrHeld says that the copy must be opened before its rows can be read.
var ErrHeld = errors.New("the copy stands within the transaction")

// survey finds which tables are rescued, on both sides, and what there is to know of them.
func (s *session) survey(ctx context.Context) error {
	wanted, err := s.wanted()
	if err != nil {
		return err
	}
	touched := func(n journal.Name) bool {
		return slices.ContainsFunc(wanted, func(c journal.TableChange) bool {
			return c.OID == n.OID || n.Above != "" && n.Above == c.Above
		})
	}
	s.report.Progress(0, 0, "", "reading the transaction's WAL")
	if s.places == nil {
		if s.places, err = s.Journal.Places(ctx, s.Entry, s.Apart, touched); err != nil {
			return err
		}
	}
	places := s.places
	if err := s.readObjects(ctx); err != nil {
		return err
	}
	if s.absent, err = s.lackingObjects(ctx); err != nil {
		return err
	}
	if _, _, err := s.makeObjects(ctx); err != nil {
		return err
	}
	for _, c := range wanted {
		from := source{oid: c.OID, whole: c.Counts[journal.Truncate]+c.Counts[journal.Drop] > 0}
		for _, p := range places {
			if p.Table.OID == c.OID {
				from.rows = append(from.rows, p.List...)
			}
		}
		if err := s.add(ctx, c, from, places); err != nil {
			return err
		}
	}
	if err := s.findLost(ctx); err != nil {
		return err
	}
	s.notUndone()
	s.inserted(places)
	for _, p := range places {
		leaf, err := s.relation(ctx, s.live, p.Table.OID, "")
		if err != nil {
			return err
		}
		s.lives[p.Table.OID] = leaf != nil && s.already(leaf.Root) != nil
	}
	if err := s.connectTables(ctx); err != nil {
		return err
	}
	return s.codeOfOthers(ctx)
}

// wanted are the tables that the transaction changed and that are to be rescued. What rows cannot bring back goes into the plan.
func (s *session) wanted() (list []journal.TableChange, err error) {
	for _, c := range s.Entry.Tables {
		if !c.Known || c.System() || !s.covers(c.Name) {
			continue
		}
		if c.Counts[journal.Delete]+c.Counts[journal.Update]+c.Counts[journal.Truncate]+c.Counts[journal.Drop] > 0 {
			list = append(list, c)
		}
	}
	if len(list) == 0 && len(s.Entry.Tables) == 0 && len(s.Entry.Dropped) == 0 {
		err = problem.New(problem.NotFound, fmt.Sprintf("See what it did: velvet changes show %s %d", s.Cluster.Name, s.Entry.XID), title,
			"transaction %d took no row of these tables", s.Entry.XID)
	}
	return list, err
}

// notUndone says what else the transaction did that rows do not bring back, and what would.
func (s *session) notUndone() {
	var altered []string
	for _, c := range s.Entry.Tables {
		if c.Known && !c.System() && s.covers(c.Name) && c.Counts[journal.Alter] > 0 {
			altered = append(altered, c.Label())
		}
	}
	if len(altered) > 0 {
		s.plan.Unable = append(s.plan.Unable, s.sayAltered(altered))
	}
	made := make(map[uint32]bool)
	for _, n := range s.Entry.Dropped {
		if made[n.OID] = s.remakes(n); made[n.OID] {
			continue
		}
		i := slices.IndexFunc(s.objects, func(o object) bool { return o.OID == n.OID })
		if i >= 0 && s.wholly() || n.Part == journal.Function && slices.Contains(s.others, n.OID) {
			continue
		}
		text := n.Label() + " was dropped"
		if i >= 0 {
			text += "; this makes it: " + s.objects[i].SQL + ";"
		}
		s.plan.Unable = append(s.plan.Unable, text)
	}
	for _, o := range s.absent {
		if !made[o.OID] {
			s.plan.Made = append(s.plan.Made, o.String())
		}
	}
}

// sayAltered says what the transaction altered.
func (s *session) sayAltered(tables []string) string {
	text := "altered, which stays so"
	switch {
	case len(s.lost) > 0:
		text += " but for the columns that come back"
	case len(s.made) > 0:
		text += ", but perhaps only by losing what hung on a dropped table"
	}
	text += ": " + strings.Join(tables, ", ") + "; look at their definitions on the copy"
	if len(s.Entry.Alterations) > 0 {
		text += ". Of what it altered: " + strings.Join(s.Entry.Alterations, "; ")
	}
	return text
}

// inserted says how many rows the transaction has inserted and that stay; those that it moved between partitions are none.
func (s *session) inserted(places []changes.Places) {
	moved := make(map[uint32]int64)
	for _, p := range places {
		for _, r := range p.List {
			moved[r.NewTable]++
		}
	}
	for _, c := range s.Entry.Tables {
		n := int64(c.Counts[journal.Insert]) - moved[c.OID]
		if !c.Known || c.System() || n <= 0 || !s.covers(c.Name) {
			continue
		}
		s.plan.Unable = append(s.plan.Unable, fmt.Sprintf("%s that it inserted into %s stay; delete them by hand where they are wrong",
			figures.Of(int(n), "row"), c.Label()))
	}
}

// covers tells whether a table is among those that are wanted.
func (s *session) covers(n journal.Name) bool {
	return len(s.Tables) == 0 || slices.ContainsFunc(s.Tables, func(t journal.Table) bool { return t.Covers(n) })
}

// add has the rows of a table of the copy come into the live table that it belongs to, a partition's into the whole.
func (s *session) add(ctx context.Context, c journal.TableChange, from source, places []changes.Places) error {
	old, err := s.relation(ctx, s.old, c.OID, "")
	if err != nil {
		return err
	}
	if old == nil {
		return problem.New(problem.Conflict, "", title, "the copy has no table %s; it does not stand just before transaction %d", c.Label(),
			s.Entry.XID)
	}
	if old.Kind == "m" { // it is filled from what it reads, and made anew with that
		return nil
	}
	from.schema, from.name = old.Schema, old.Name
	if from.whole && c.Counts[journal.Truncate] == 0 {
		if there, err := s.relation(ctx, s.live, old.OID, ""); err != nil || there != nil && (there.Kind == "r" || there.Kind == "p") {
			if from.whole = false; err != nil || len(from.rows) == 0 {
				return err // it was not dropped, but what referred to it or it to
			}
		}
	}
	if err := s.readable(ctx, c, old, &from, places); err != nil {
		return err
	}
	root := old
	if old.Root != old.OID {
		if root, err = s.relation(ctx, s.old, old.Root, ""); err != nil || root == nil {
			return err
		}
	}
	live, renamed, err := s.counterpart(ctx, root)
	if err == nil && live != nil && old != root && c.Counts[journal.Drop] > 0 {
		var leaf *relation
		if leaf, _, err = s.counterpart(ctx, old); err == nil && leaf == nil { // the partition alone was dropped
			err = s.make(ctx, old)
		}
	}
	if err == nil && live == nil {
		if c.Counts[journal.Drop] == 0 {
			next := fmt.Sprintf("Bring it back first: velvet rescue plan %s \"before drop of %s\"", s.Cluster.Name, root.Name)
			return problem.New(problem.Conflict, next, title, "the live cluster has no table %s.%s any more", root.Schema, root.Name)
		}
		if err = s.make(ctx, root); err == nil {
			live, err = s.relation(ctx, s.live, 0, root.Schema, root.Name)
		}
	}
	if err != nil {
		return err
	}
	t := s.already(live.OID)
	if t == nil {
		if t, err = s.newSide(ctx, root, live); err != nil {
			return err
		}
		if renamed {
			t.notes = append(t.notes, "it was "+root.Schema+"."+root.Name+" then")
		}
		s.sides = append(s.sides, t)
	}
	if err := s.measure(ctx, &from); err != nil {
		return err
	}
	t.sources = append(t.sources, from)
	for op, n := range c.Counts {
		t.did[op] += n
	}
	return nil
}

// inWords says what a transaction did to a table.
func inWords(did journal.Counts) string {
	var list []string
	for _, op := range []journal.Operation{journal.Delete, journal.Update} {
		if n := did[op]; n > 0 {
			list = append(list, figures.Count(n)+map[journal.Operation]string{journal.Delete: " deleted", journal.Update: " updated"}[op])
		}
	}
	if did[journal.Truncate] > 0 {
		list = append(list, "truncated")
	}
	if did[journal.Drop] > 0 {
		list = append(list, "dropped")
	}
	return strings.Join(list, ", ")
}

// readable refuses what the copy cannot show: a table that the transaction still holds there, or whose rows it moved.
func (s *session) readable(ctx context.Context, c journal.TableChange, old *relation, from *source, places []changes.Places) error {
	var held bool
	err := s.old.QueryRow(ctx, `select pg_catalog.pg_is_in_recovery() and exists (select from pg_catalog.pg_locks
		where relation operator(pg_catalog.=) $1 and mode operator(pg_catalog.=) 'AccessExclusiveLock' and granted)`, old.OID).Scan(&held)
	if err != nil {
		return err
	}
	if held {
		p := problem.New(problem.Conflict, "Open the copy first, which ends that transaction there: velvet copy open "+s.Copy.Name, title,
			"the copy stands within transaction %d, which holds table %s", s.Entry.XID, c.Label())
		p.Err = ErrHeld
		return p
	}
	for _, p := range places {
		if p.Table.OID == c.OID && len(p.List) > 0 && p.File.Filenode != old.File && !from.whole {
			return problem.New(problem.Conflict, "Leave it out: --table names the others. Then compare it with the copy by hand.",
				title, "transaction %d has written table %s anew before it changed rows of it", s.Entry.XID, c.Label())
		}
	}
	return nil
}

func (s *session) already(oid uint32) *side {
	for _, t := range s.sides {
		if t.OID == oid {
			return t
		}
	}
	return nil
}

// relation is a table as a catalog has it.
type relation struct {
	OID, Root    uint32
	Schema, Name string
	Kind         string
	File         uint32
	Owner        string
}

// relation finds a table by its oid or, with a name, by that; nil for none.
func (s *session) relation(ctx context.Context, conn *pgx.Conn, oid uint32, schema string, name ...string) (*relation, error) {
	where, args := "c.oid operator(pg_catalog.=) $1", []any{oid}
	if len(name) > 0 {
		where, args = "n.nspname operator(pg_catalog.=) $1 and c.relname operator(pg_catalog.=) $2", []any{schema, name[0]}
	}
	rows, err := conn.Query(ctx, `select c.oid, coalesce(pg_catalog.pg_partition_root(c.oid)::pg_catalog.oid, c.oid),
	n.nspname::pg_catalog.text,
		c.relname::pg_catalog.text, c.relkind::pg_catalog.text, coalesce(pg_catalog.pg_relation_filenode(c.oid), 0),
		pg_catalog.pg_get_userbyid(c.relowner)::pg_catalog.text
		from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid operator(pg_catalog.=) c.relnamespace where `+where, args...)
	if err != nil {
		return nil, err
	}
	list, err := pgx.CollectRows(rows, pgx.RowToAddrOfStructByPos[relation])
	if err != nil || len(list) == 0 {
		return nil, err
	}
	return list[0], nil
}

// counterpart finds the live table that a table of the copy is now: the same by its oid, or else one of its name; nil for none.
func (s *session) counterpart(ctx context.Context, old *relation) (live *relation, renamed bool, err error) {
	if !s.Strange {
		live, err = s.relation(ctx, s.live, old.OID, "")
	}
	if err != nil {
		return nil, false, err
	}
	if live != nil && (live.Kind == "r" || live.Kind == "p") {
		return live, live.Schema != old.Schema || live.Name != old.Name, nil
	}
	if live, err = s.relation(ctx, s.live, 0, old.Schema, old.Name); err != nil {
		return nil, false, err
	}
	if live != nil && live.Kind != "r" && live.Kind != "p" {
		err = problem.New(problem.Conflict, "Leave it out: --table names the others.", title, "%s.%s is no table in the live cluster now",
			old.Schema, old.Name)
	}
	return live, false, err
}

// column is one of a table as a catalog has it.
type column struct {
	Number    int16
	Name      string
	Type      string
	Generated string
	Identity  string
}

func (s *session) columns(ctx context.Context, conn *pgx.Conn, oid uint32) ([]column, error) {
	rows, err := conn.Query(ctx, `select attnum, attname::pg_catalog.text, pg_catalog.format_type(atttypid, atttypmod),
		attgenerated::pg_catalog.text, attidentity::pg_catalog.text from pg_catalog.pg_attribute
		where attrelid operator(pg_catalog.=) $1 and attnum operator(pg_catalog.>) 0 and not attisdropped order by attnum`, oid)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[column])
}

// newSide pairs the columns of a table with those that it has now, and reads its keys.
func (s *session) newSide(ctx context.Context, old, live *relation) (*side, error) {
	t := &side{Table: &rescue.Table{OID: live.OID, Schema: live.Schema, Name: live.Name, Partitioned: live.Kind == "p",
		Stage: len(s.sides) + 1}}
	then, err := s.columns(ctx, s.old, old.OID)
	if err != nil {
		return nil, err
	}
	now, err := s.columns(ctx, s.live, live.OID)
	if err != nil {
		return nil, err
	}
	for _, c := range now {
		if c.Generated != "v" {
			t.All = append(t.All, c.Name)
		}
	}
	for _, c := range then {
		if c.Generated != "" {
			continue
		}
		i := slices.IndexFunc(now, func(n column) bool {
			if old.OID == live.OID && !s.Strange {
				return n.Number == c.Number
			}
			return n.Name == c.Name
		})
		switch {
		case i < 0:
			t.notes = append(t.notes, "column "+c.Name+" is gone; its values are left out")
			continue
		case now[i].Generated != "":
			t.notes = append(t.notes, "column "+now[i].Name+" is calculated now; its values are left out")
			continue
		case now[i].Name != c.Name:
			t.notes = append(t.notes, "column "+c.Name+" is called "+now[i].Name+" now")
		}
		if now[i].Type != c.Type {
			t.notes = append(t.notes, fmt.Sprintf("column %s was of type %s, and is of type %s now", now[i].Name, c.Type, now[i].Type))
		}
		t.Columns = append(t.Columns, rescue.Column{Name: now[i].Name, Was: c.Name, Always: now[i].Identity == "a"})
	}
	if len(t.Columns) == 0 {
		return nil, problem.New(problem.Conflict, "", title, "no column of %s is left in the live cluster", t)
	}
	return t, s.keys(ctx, t.Table)
}
