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
	// listed is how many candidates an error names, and gathered of how many at most it says what they have in common.
	listed   = 8
	gathered = 100
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
		found, err = j.Biggest(ctx, f, gathered)
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
	return place{}, "", j.ambiguous(ctx, m, howMany(found)+" match", found)
}

// didRows says what an operation did to rows.
func didRows(k journal.Operation) string {
	return map[journal.Operation]string{journal.Insert: "added", journal.Update: "changed", journal.Delete: "removed"}[k]
}

// nearest chooses by the time that was given, of several that match f, where one is far nearer than the next.
func (j *Journal) nearest(ctx context.Context, m moment.Moment, f journal.Filter) (place, string, error) {
	after, before := f, f
	after.From, before.To = m.Near, m.Near.Add(-1)
	found, _, err := j.List(ctx, after, true, gathered/2)
	if err != nil {
		return place{}, "", err
	}
	earlier, _, err := j.List(ctx, before, false, gathered/2)
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
	return place{}, "", j.ambiguous(ctx, m, howMany(found)+" match, the nearest first", found)
}

// howMany says how many transactions were found.
func howMany(found []Entry) string {
	if len(found) >= gathered {
		return fmt.Sprintf("%d transactions and more", gathered)
	}
	return fmt.Sprintf("%d transactions", len(found))
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
	return found[:min(len(found), gathered)], err
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
			next = "At other times:" + choices(other, j.share, nil)
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

// ambiguous offers what was found, each by itself, and all of it where one session did it, or where it happened closely
// together.
func (j *Journal) ambiguous(ctx context.Context, m moment.Moment, why string, found []Entry) error {
	authors, err := j.Authors(ctx, found)
	if err != nil {
		return err
	}
	next := "Choose one:" + choices(found[:min(len(found), listed)], j.share, authors)
	if len(found) > listed {
		next += fmt.Sprintf("\nand %d more", len(found)-listed)
	}
	slices.SortFunc(found, func(a, b Entry) int { return cmp.Compare(a.End, b.End) })
	if m.Kind == moment.BeforeOperation {
		all, who := script(found, authors)
		if len(all) > 1 {
			next += before(all, "that "+who.String()+" did in one session")
		}
		if len(all) < len(found) && len(found) < gathered && found[len(found)-1].Time.Sub(found[0].Time) <= together {
			next += before(found, "of them")
		}
	}
	return problem.New(problem.Ambiguous, next, "the moment is ambiguous", "%s: %s", m, why)
}

// before says that a moment lies before all of several transactions, which are in the order of the log.
func before(all []Entry, which string) string {
	return fmt.Sprintf("\nbefore tx %d is before all %d %s", all[0].XID, len(all), which)
}

// script is the longest run of transactions, in the order of the log, that one session was seen to do in close succession.
func script(found []Entry, authors map[pg.FullXID]journal.Author) (longest []Entry, who journal.Author) {
	runs := make(map[string][]Entry)
	for _, e := range found {
		author, seen := authors[e.XID]
		if !seen || author.Session == "" {
			continue
		}
		run := runs[author.Session]
		if n := len(run); n > 0 && e.Time.Sub(run[n-1].Time) > together {
			run = nil
		}
		run = append(run, e)
		if runs[author.Session] = run; len(run) > len(longest) {
			longest, who = run, author
		}
	}
	return longest, who
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
func choices(found []Entry, share func(journal.TableChange) float64, authors map[pg.FullXID]journal.Author) string {
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
		by := ""
		if who, seen := authors[e.XID]; seen {
			by = ", by " + who.String()
		}
		s += fmt.Sprintf("\n%s  (%s, %s%s)", place, e.Time.Format("2006-01-02 15:04:05.000Z07:00"), summary(e, share), by)
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
