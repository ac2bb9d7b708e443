package changes

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"velvetrewind/core/figures"
	"velvetrewind/core/journal"
	"velvetrewind/core/moment"
	"velvetrewind/core/pg"
	"velvetrewind/core/problem"
)

const (
	// listed is how many candidates an error names.
	listed = 8
	// outstanding is how many times as many rows as any other a DELETE, UPDATE or INSERT must have changed to be the
	// one that is meant.
	outstanding = 100
	// nearer is how many times as far as the nearest operation the next must be from the time after "near", and by how
	// much at least, for the nearest to be the one that is meant.
	nearer   = 5
	nearerBy = 2 * time.Second
	// nearby is how far from the time after "near" an operation may be.
	nearby = 15 * time.Minute
)

// byOperation finds the transaction that did something to a table. There must be one; of several one is taken that outweighs
// all others by far in rows, or that is by far the nearest to the time that was given, and the note says so.
func (j *Journal) byOperation(ctx context.Context, m moment.Moment) (place, string, error) {
	f := journal.Filter{Table: m.Table, Object: m.Part, Kind: &m.Operation, Catalogs: true}
	if !m.Near.IsZero() {
		f.From, f.To = m.Near.Add(-nearby), m.Near.Add(nearby)
	}
	var found []Entry
	var err error
	switch {
	case m.Database != "":
		found, err = j.droppedDatabase(ctx, m.Database, f)
	default:
		found, err = j.Biggest(ctx, f, listed+1)
	}
	if err != nil {
		return place{}, "", err
	}
	if label := labels(found, m); len(label) > 1 {
		return place{}, "", problem.New(problem.Ambiguous, "Name one of: "+strings.Join(label, ", "), "the moment is ambiguous",
			"%s can be more than one %s", m.Table, cmp.Or(m.Part.Word(), "table"))
	}
	switch {
	case len(found) == 0:
		return place{}, "", j.noOperation(ctx, m)
	case len(found) == 1:
		return place{found[0].End, true}, "", nil
	case m.Largest && found[0].Size > found[1].Size:
		return place{found[0].End, true}, fmt.Sprintf("the largest, where the next %s %s (tx %d)", didRows(m.Operation),
			figures.Of(int(found[1].Size), "row"), found[1].XID), nil
	case m.Operation <= journal.Delete && found[0].Size >= outstanding*found[1].Size:
		return place{found[0].End, true}, fmt.Sprintf("chosen over other %ss of %s, of which the largest %s %s (tx %d)",
			m.Operation, m.Table, didRows(m.Operation), figures.Of(int(found[1].Size), "row"), found[1].XID), nil
	}
	if !m.Near.IsZero() && m.Table != (journal.Table{}) && !m.Largest {
		return j.nearest(ctx, m, f)
	}
	what := fmt.Sprintf("%d transactions", len(found))
	if len(found) > listed {
		what = fmt.Sprintf("more than %d transactions", listed)
		found = found[:listed]
	}
	return place{}, "", j.ambiguous(m, fmt.Sprintf("%s match", what), found)
}

// didRows says what an operation did to rows.
func didRows(k journal.Operation) string {
	return map[journal.Operation]string{journal.Insert: "added", journal.Update: "changed", journal.Delete: "removed"}[k]
}

// nearest chooses by the time that was given, of several that match f, where one is far nearer than the next.
func (j *Journal) nearest(ctx context.Context, m moment.Moment, f journal.Filter) (place, string, error) {
	after, before := f, f
	after.From, before.To = m.Near, m.Near.Add(-1)
	found, _, err := j.List(ctx, after, true, listed+1)
	if err != nil {
		return place{}, "", err
	}
	earlier, _, err := j.List(ctx, before, false, listed+1)
	if err != nil {
		return place{}, "", err
	}
	found = append(found, earlier...)
	away := func(e Entry) time.Duration { return e.Time.Sub(m.Near).Abs() }
	slices.SortStableFunc(found, func(a, b Entry) int { return cmp.Compare(away(a), away(b)) })
	first, next := found[0], found[1]
	if away(next) >= nearer*away(first) && away(next)-away(first) >= nearerBy {
		return place{first.End, true}, fmt.Sprintf("the nearest, %s away, where the next is %s away (tx %d)",
			away(first).Round(time.Millisecond), away(next).Round(time.Millisecond), next.XID), nil
	}
	what := fmt.Sprintf("%d transactions match, the nearest first", len(found))
	if len(found) > listed {
		what = fmt.Sprintf("more than %d transactions match, the nearest first", listed)
		found = found[:listed]
	}
	return place{}, "", j.ambiguous(m, what, found)
}

// droppedDatabase finds the transactions that dropped a database of a name. The WAL tells only its oid.
func (j *Journal) droppedDatabase(ctx context.Context, name string, f journal.Filter) (found []Entry, err error) {
	oids := j.book.Databases(name)
	f.Catalogs = false
	list, _, err := j.List(ctx, f, true, math.MaxInt32)
	for _, e := range list {
		if slices.ContainsFunc(e.DroppedDatabases, func(oid uint32) bool { return slices.Contains(oids, oid) }) {
			found = append(found, e)
		}
	}
	return found[:min(len(found), listed+1)], err
}

// labels are the different tables, or other objects, that a name was found to mean, in full.
func labels(found []Entry, m moment.Moment) []string {
	var list []string
	t := m.Table
	for _, e := range found {
		for _, n := range e.Dropped {
			full := journal.Table{Database: n.Database, Schema: n.Schema, Name: n.Table}.String()
			if m.Part != journal.Main && n.Part == m.Part && t.Matches(n) && !slices.Contains(list, full) {
				list = append(list, full)
			}
		}
		if m.Part != journal.Main {
			continue
		}
		for _, c := range e.Tables {
			full := t.Above(c.Name)
			if t.Matches(c.Name) {
				full = journal.Table{Database: c.Database, Schema: c.Schema, Name: c.Table}.String()
			}
			if c.Known && full != "" && !slices.Contains(list, full) {
				list = append(list, full)
			}
		}
	}
	return list
}

// noOperation says that nothing matches, and names what comes closest.
func (j *Journal) noOperation(ctx context.Context, m moment.Moment) error {
	why := fmt.Sprintf("no transaction in the captured WAL %s %s", didTo[m.Operation], m.Object())
	next := fmt.Sprintf("See what happened to it: velvet changes list %s --table %s", j.archive.Cluster.Name, m.Table)
	if similar := j.book.Similar(m.Table, m.Part); m.Table != (journal.Table{}) && len(similar) > 0 {
		why = fmt.Sprintf("no %s in the captured WAL was ever called %s", cmp.Or(m.Part.Word(), "table"), m.Table)
		next = "Names like it: " + strings.Join(similar, ", ")
	} else if m.Part != journal.Main {
		why += "; where one transaction dropped some and changed others of them, which it dropped cannot be told"
		next = fmt.Sprintf("See what was dropped: velvet changes list %s --kind drop", j.archive.Cluster.Name)
	}
	if m.Database != "" {
		next = fmt.Sprintf("See what was dropped: velvet changes list %s --kind drop", j.archive.Cluster.Name)
	}
	if !m.Near.IsZero() {
		why += fmt.Sprintf(" within %d minutes of %s", int(nearby.Minutes()), m.Near.Format(time.RFC3339))
		other, err := j.Biggest(ctx, journal.Filter{Table: m.Table, Object: m.Part, Kind: &m.Operation, Catalogs: true}, listed)
		if err != nil {
			return err
		}
		if len(other) > 0 {
			next = "At other times:" + choices(other, j.share)
		}
	}
	return problem.New(problem.NotFound, next, "the moment was not found", "%s", why)
}

// didTo says what was done to a table.
var didTo = map[journal.Operation]string{
	journal.Insert: "inserted rows into", journal.Update: "updated rows of", journal.Delete: "deleted rows of",
	journal.Truncate: "truncated", journal.Drop: "dropped", journal.Create: "created", journal.Rewrite: "rewrote", journal.Alter: "altered",
}

// together is how far apart what may be one accident lies at most.
const together = 10 * time.Minute

// ambiguous offers what was found, each by itself, and where it happened closely together, all of it.
func (j *Journal) ambiguous(m moment.Moment, why string, found []Entry) error {
	next := "Choose one:" + choices(found, j.share)
	byTime := func(a, b Entry) int { return a.Time.Compare(b.Time) }
	first, last := slices.MinFunc(found, byTime), slices.MaxFunc(found, byTime)
	if m.Kind == moment.BeforeOperation && len(found) < listed && last.Time.Sub(first.Time) <= together {
		next += fmt.Sprintf("\nbefore tx %d is before all %d of them", first.XID, len(found))
	}
	return problem.New(problem.Ambiguous, next, "the moment is ambiguous", "%s: %s", m, why)
}

// share tells which part of a table's rows, as they are now, a transaction changed; 0 where that is not known.
func (j *Journal) share(c journal.TableChange) float64 {
	if rows := j.book.Rows(c); rows > 0 {
		return float64(max(c.Counts[journal.Update], c.Counts[journal.Delete])) / float64(rows)
	}
	return 0
}

// choices lists transactions as the moments before them, one to a line: by id, or
// where ids of the first epoch are among those that came again, by LSN.
func choices(found []Entry, share func(journal.TableChange) float64) string {
	ids := make(map[pg.XID]int)
	for _, e := range found {
		ids[pg.XID(e.XID)]++
	}
	s := ""
	for _, e := range found {
		place := fmt.Sprintf("before tx %d", e.XID)
		if ids[pg.XID(e.XID)] > 1 && e.XID < 1<<32 {
			place = fmt.Sprintf("before lsn %s", e.End)
		}
		s += fmt.Sprintf("\n%s  (%s, %s)", place, e.Time.Format("2006-01-02 15:04:05.000Z07:00"), summary(e, share))
	}
	return s
}

// Summary says in a few words what a transaction did to users' tables and other objects.
func Summary(e Entry) string { return summary(e, func(journal.TableChange) float64 { return 0 }) }

// summary says besides which share of its table that was.
func summary(e Entry, share func(journal.TableChange) float64) string {
	var parts []string
	for _, c := range e.Tables {
		if c.System() {
			continue
		}
		for k, n := range c.Counts {
			switch {
			case n == 0:
			case journal.Operation(k) <= journal.Delete:
				part := fmt.Sprintf("%s %s of %s", journal.Operation(k), figures.Of(int(n), "row"), c.Label())
				if of := share(c); of >= 0.005 && of <= 1 && journal.Operation(k) != journal.Insert {
					part += fmt.Sprintf(", %.0f %% of it", 100*of)
				}
				parts = append(parts, part)
			default:
				parts = append(parts, fmt.Sprintf("%s %s", journal.Operation(k), c.Label()))
			}
		}
	}
	for _, n := range e.Dropped {
		parts = append(parts, "drop "+n.Label())
	}
	if len(parts) == 0 {
		return "no rows of users' tables"
	}
	return strings.Join(parts, ", ")
}
