package rescue

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"velvetrewind/core/pg"
)

// each joins what is written of every brought column.
func (t *Table) each(write func(i int, c Column) string) string {
	list := make([]string, len(t.Columns))
	for i, c := range t.Columns {
		list[i] = write(i, c)
	}
	return strings.Join(list, ", ")
}

// text is a row's brought columns as a text, by the server's own functions alone.
func (t *Table) text(alias string, name func(i int, c Column) string) string {
	return rowText(t.each(func(i int, c Column) string { return alias + "." + name(i, c) })) + ` collate pg_catalog."C"`
}

func onStage(i int, _ Column) string { return "c" + strconv.Itoa(i+1) }
func onTable(_ int, c Column) string { return ident(c.Name) }
func (t *Table) stagedText() string  { return t.text("s", onStage) }
func (t *Table) liveText() string    { return t.text("t", onTable) }
func (t *Table) equal() string       { return t.stagedText() + " operator(pg_catalog.=) " + t.liveText() }
func at(s, t string) string          { return fmt.Sprintf("%s operator(pg_catalog.=) %s", s, t) }
func samePlace(stage, t string) string {
	return at(t+".ctid", stage+".velvet_at") + " and " + at(t+".tableoid", stage+".velvet_part")
}

// Staging makes the temporary table into which the rows are loaded.
func (t *Table) Staging() string {
	return fmt.Sprintf(`create temporary table velvet_raw_%d on commit drop as select ''::pg_catalog."char" as velvet_was,
	null::pg_catalog.tid as velvet_new, null::pg_catalog.oid as velvet_from, %s
	from %s with no data`, t.Stage, t.each(func(i int, c Column) string { return ident(c.Name) + " as " + onStage(i, c) }), t.From())
}

// Analyzing lets the server know what waits, without which it would plan as for a few rows.
func (t *Table) Analyzing() string { return "analyze " + t.stage() }

// raw is the table that is loaded; stage is made of it.
func (t *Table) raw() string { return "pg_temp.velvet_raw_" + strconv.Itoa(t.Stage) }

// Loading takes rows in the text form of COPY: what was done to each, where it went and in which table, and its columns.
func (t *Table) Loading() string {
	return fmt.Sprintf("copy %s (velvet_was, velvet_new, velvet_from, %s) from stdin", t.raw(), t.each(onStage))
}

// Reading gives the copy's rows for Loading: those at certain places, led by their place, or with none all in some blocks.
func (t *Table) Reading(schema, name string, places []string, first, end int64) string {
	columns := t.each(func(_ int, c Column) string { return ident(c.Was) })
	from := " from only " + ident(schema) + "." + ident(name)
	if places == nil {
		return fmt.Sprintf("copy (select %s%s where ctid operator(pg_catalog.>=) '(%d,0)'::pg_catalog.tid and ctid "+
			"operator(pg_catalog.<) '(%d,0)'::pg_catalog.tid) to stdout", columns, from, first, end)
	}
	return "copy (select ctid, " + columns + from + ` where ctid operator(pg_catalog.=) any ('{"` + strings.Join(places, `","`) +
		`"}'::pg_catalog.tid[])) to stdout`
}

// xids writes the ids of a transaction and its sub-transactions.
func xids(list []pg.XID) string {
	texts := make([]string, len(list))
	for i, x := range list {
		texts[i] = strconv.FormatUint(uint64(x), 10)
	}
	return "'{" + strings.Join(texts, ",") + "}'::pg_catalog.xid[]"
}

// Finding finds the rows that wait in the live table, and says how each stands there. A row that the transaction wrote last is one
// that nobody has changed since. Where done, the rows of a table without a key were brought back already.
func (t *Table) Finding(by []pg.XID, done bool) []string {
	ours := "t.xmin operator(pg_catalog.=) any (" + xids(by) + ")"
	absent := fmt.Sprintf(`case when s.velvet_was operator(pg_catalog.=) 'u' then '%s' else '%s' end`, Gone, Missing)
	find := fmt.Sprintf(`create temporary table velvet_%d on commit drop as select f.*,
	case f.velvet_state when '%s' then 'i' when '%s' then 'u' end as velvet_do from (select s.*, `, t.Stage, Missing, Overwritten)
	switch unfound := "null::pg_catalog.tid as velvet_at, null::pg_catalog.oid as velvet_part, "; {
	case len(t.Key) == 0 && done:
		find += fmt.Sprintf("%s'%s' as velvet_state from %s s) f", unfound, Right, t.raw())
	case len(t.Key) == 0:
		find += fmt.Sprintf("%s%s as velvet_state from %s s) f", unfound, absent, t.raw())
	default:
		find += fmt.Sprintf(`t.ctid as velvet_at, t.tableoid as velvet_part,
	case when t.ctid is null then %s when %s then '%s' when %s then '%s' else '%s' end as velvet_state
	from %s s left join %s t on %s) f`, absent, t.equal(), Right, ours, Overwritten, Changed, t.raw(), t.From(), t.sameKey(t.Key))
	}
	list := []string{"analyze " + t.raw(), find, "drop table " + t.raw()}
	// By its place, where it has no key or the transaction changed that.
	return append(list, fmt.Sprintf(`update %s s set velvet_at = t.ctid, velvet_part = t.tableoid,
	velvet_state = case when %s then '%s' else '%s' end, velvet_do = case when not (%s) then 'u' end
	from %s t where s.velvet_state operator(pg_catalog.=) '%s' and t.ctid operator(pg_catalog.=) s.velvet_new
	and t.tableoid operator(pg_catalog.=) s.velvet_from and %s`,
		t.stage(), t.equal(), Right, Overwritten, t.equal(), t.From(), Gone, ours))
}

// sameKey joins the rows that wait with those of the live table.
func (t *Table) sameKey(key []KeyColumn) string {
	list := make([]string, len(key))
	for i, c := range key {
		list[i] = "s." + t.staged(c.Name) + " " + c.Equal + " t." + ident(c.Name)
	}
	return strings.Join(list, " and ")
}

// Deciding says what is done about each row, by a rule.
func (t *Table) Deciding(r Rules) []string {
	var list []string
	take := fmt.Sprintf("update %s s set velvet_do = case velvet_state when '%s' then 'u' else 'i' end "+
		"where velvet_state operator(pg_catalog.=) any ('{%s,%s}')", t.stage(), Changed, Changed, Gone)
	if r.of(t, "") == TakeOld {
		list = append(list, take)
	}
	for _, one := range r {
		if one.Key == "" || !one.covers(t) || len(t.Key) == 0 {
			continue
		}
		this := " and " + t.keyText() + " operator(pg_catalog.=) " + Literal(one.Key)
		switch one.Do {
		case TakeOld:
			list = append(list, take+this)
		case KeepLive:
			list = append(list, fmt.Sprintf("update %s s set velvet_do = 'k' where velvet_state operator(pg_catalog.=) any ('{%s,%s}')",
				t.stage(), Changed, Gone)+this)
		}
	}
	return list
}

// keyText is the key of a row that waits, as a person writes it: its value or, of several columns, those as a row.
func (t *Table) keyText() string {
	list := make([]string, len(t.Key))
	for i, c := range t.Key {
		list[i] = "s." + t.staged(c.Name)
	}
	text := rowText(strings.Join(list, ", "))
	if len(list) == 1 { // without the parentheses
		text = valueText(list[0])
	}
	return text + ` collate pg_catalog."C"`
}

// Orphaning takes out the rows whose parents are neither in the live cluster nor brought; it is repeated until it finds none.
func (t *Table) Orphaning() []string {
	var list []string
	for _, p := range t.Parents {
		if !t.Brings(p.Columns) {
			continue
		}
		var known, live, brought []string
		for i, c := range p.Columns {
			own := "s." + t.staged(c.Name)
			known = append(known, own+" is not null")
			live = append(live, own+" "+c.Equal+" t."+ident(p.To[i]))
			if p.Parent != nil {
				brought = append(brought, own+" "+c.Equal+" b."+p.Parent.staged(p.To[i]))
			}
		}
		from := ident(p.Of[0]) + "." + ident(p.Of[1])
		missing := fmt.Sprintf("not exists (select from %s t where %s)", from, strings.Join(live, " and "))
		if p.Parent != nil && !slices.ContainsFunc(p.To, func(to string) bool { return p.Parent.staged(to) == "" }) {
			missing += fmt.Sprintf(" and not exists (select from %s b where b.velvet_do operator(pg_catalog.=) any ('{i,u}') and %s)",
				p.Parent.stage(), strings.Join(brought, " and "))
		}
		list = append(list, fmt.Sprintf("update %s s set velvet_state = '%s', velvet_do = null where velvet_do operator(pg_catalog.=) "+
			"any ('{i,u}') and %s and %s", t.stage(), Orphan, strings.Join(known, " and "), missing))
	}
	return list
}

// Claiming takes out the rows of which another row has a unique key by now.
func (t *Table) Claiming() []string {
	var list []string
	for _, u := range t.Unique {
		if !t.Brings(u.Columns) {
			continue
		}
		list = append(list, fmt.Sprintf(`update %s s set velvet_state = '%s', velvet_do = null
	where velvet_do operator(pg_catalog.=) any ('{i,u}') and exists (select from %s t where %s
	and (s.velvet_at is null or not (%s))
	and not exists (select from %s z where z.velvet_do operator(pg_catalog.=) 'u' and %s))`, t.stage(), Taken, t.From(),
			t.sameKey(u.Columns), samePlace("s", "t"), t.stage(), samePlace("z", "t")))
	}
	return list
}

// Counting counts the rows that wait by how they stand and what is done about them.
func (t *Table) Counting() string {
	return "select velvet_state, coalesce(velvet_do, ''), pg_catalog.count(*) from " + t.stage() + " group by 1, 2"
}

// Conflicts lists some of the rows that stand in a way: how, their key or all of them, and each column's name, old and live value where
// these differ.
func (t *Table) Conflicts(limit int) string {
	key := t.stagedText()
	if len(t.Key) > 0 {
		key = t.keyText()
	}
	var parts []string
	for i, c := range t.Columns {
		parts = append(parts, fmt.Sprintf("(%s, %s, %s)", Literal(c.Name), valueText("s."+onStage(i, c)), valueText("t."+ident(c.Name))))
	}
	return fmt.Sprintf(`select s.velvet_state, %s, coalesce(s.velvet_do, ''), coalesce((select
	pg_catalog.json_agg(pg_catalog.json_build_object(
	'name', v.name, 'old', v.old, 'live', v.live)) from (values %s) v(name, old, live)
	where t.ctid is not null and v.old operator(pg_catalog.<>) v.live), '[]')
	from %s s left join %s t on %s where s.velvet_state operator(pg_catalog.=) any ('{%s,%s,%s,%s}') order by s.ctid limit %d`, key,
		strings.Join(parts, ", "), t.stage(), t.From(), samePlace("s", "t"), Changed, Gone, Orphan, Taken, limit)
}

// rowText writes values as a row, by the server's own functions alone.
func rowText(values string) string {
	return "pg_catalog.textin(pg_catalog.record_out(row(" + values + ")))"
}

// valueText writes one value as it stands in a row: nothing for NULL, in quotes where it needs them.
func valueText(value string) string {
	return "pg_catalog.substr(" + rowText(value) + ", 2, pg_catalog.length(" + rowText(value) + ") operator(pg_catalog.-) 2)"
}

// inserting brings back the rows that are not there.
func (t *Table) inserting() string {
	return fmt.Sprintf("insert into %s (%s) overriding system value select %s from %s s where s.velvet_do operator(pg_catalog.=) 'i'",
		t.SQL(), t.each(onTable), t.each(func(i int, c Column) string { return "s." + onStage(i, c) }), t.stage())
}

// Differing tells of every brought column whether an UPDATE must set it.
func (t *Table) Differing() string {
	return fmt.Sprintf("select %s from %s s join %s t on %s where s.velvet_do operator(pg_catalog.=) 'u'",
		t.each(func(i int, c Column) string {
			return fmt.Sprintf("coalesce(pg_catalog.bool_or(%s operator(pg_catalog.<>) %s), false)", rowText("s."+onStage(i, c)),
				rowText("t."+onTable(i, c)))
		}), t.stage(), t.From(), samePlace("s", "t"))
}

// updating gives columns their old values where the transaction has overwritten them.
func (t *Table) updating(differ []bool) string {
	var list []string
	for i, c := range t.Columns {
		if differ[i] && !c.Always {
			list = append(list, ident(c.Name)+" = s."+onStage(i, c))
		}
	}
	if len(list) == 0 {
		return ""
	}
	return fmt.Sprintf("update %s t set %s from %s s where s.velvet_do operator(pg_catalog.=) 'u' and %s", t.From(),
		strings.Join(list, ", "), t.stage(), samePlace("s", "t"))
}

// Writing writes the rows of tables, given in the order of Order, so that what is referred to comes first: inserts, then updates.
// differ has for each table what Differing told. Tables that refer to each other in a circle are written by one statement, at whose
// end the server looks at their keys.
func Writing(groups [][]*Table, differ map[*Table][]bool) (list []string) {
	together := func(write func(*Table) string) {
		for _, g := range groups {
			var parts []string
			for _, t := range g {
				if sql := write(t); sql != "" {
					parts = append(parts, sql)
				}
			}
			if len(parts) > 1 {
				for i, sql := range parts {
					parts[i] = fmt.Sprintf("w%d as (%s)", i+1, sql)
				}
				parts = []string{"with " + strings.Join(parts, ", ") + " select"}
			}
			list = append(list, parts...)
		}
	}
	together((*Table).inserting)
	together(func(t *Table) string { return t.updating(differ[t]) })
	return list
}

// sum adds up the hashes of rows' texts.
func sum(text string) string {
	return "pg_catalog.count(*), coalesce(pg_catalog.sum(pg_catalog.hashtextextended(" + text + ", 0)), 0)::pg_catalog.text"
}

// whole is a live row's text with all its columns.
func (t *Table) whole() string {
	list := make([]string, len(t.All))
	for i, c := range t.All {
		list[i] = "t." + ident(c)
	}
	return rowText(strings.Join(list, ", ")) + ` collate pg_catalog."C"`
}

// Others counts, and adds up, the rows that are not written, before they are.
func (t *Table) Others() string {
	return fmt.Sprintf("select %s from %s t where not exists (select from %s s where s.velvet_do operator(pg_catalog.=) 'u' and %s)",
		sum(t.whole()), t.From(), t.stage(), samePlace("s", "t"))
}

// OthersAfter does that afterwards: they are those that the transaction has not written.
func (t *Table) OthersAfter(own pg.XID) string {
	return fmt.Sprintf("select %s from %s t where t.xmin operator(pg_catalog.<>) '%d'::pg_catalog.xid", sum(t.whole()), t.From(), own)
}

// Wanted counts, and adds up, what is to be written, and Written what was.
func (t *Table) Wanted() string {
	return fmt.Sprintf("select %s from %s s where s.velvet_do operator(pg_catalog.=) any ('{i,u}')", sum(t.stagedText()), t.stage())
}

// Written is what Wanted is compared with.
func (t *Table) Written(own pg.XID) string {
	return fmt.Sprintf("select %s from %s t where t.xmin operator(pg_catalog.=) '%d'::pg_catalog.xid", sum(t.liveText()), t.From(), own)
}

// Raising has a sequence go on after the largest value of its column.
func (t *Table) Raising(s Sequence) string {
	name := Literal(ident(s.Schema) + "." + ident(s.Name))
	return fmt.Sprintf("select pg_catalog.setval(%s, m) from (select pg_catalog.max(%s)::pg_catalog.int8 as m from %s) f "+
		"where m operator(pg_catalog.>) (select last_value from %s.%s)", name, ident(s.Column), t.From(), ident(s.Schema), ident(s.Name))
}

// Unkept counts, for each foreign key, the rows written whose parent is missing; for where the server does not look.
func (t *Table) Unkept() []string {
	var list []string
	for _, p := range t.Parents {
		if !t.Brings(p.Columns) {
			continue
		}
		var known, same []string
		for i, c := range p.Columns {
			own := "s." + t.staged(c.Name)
			known = append(known, own+" is not null")
			same = append(same, own+" "+c.Equal+" t."+ident(p.To[i]))
		}
		list = append(list, fmt.Sprintf("select %s, pg_catalog.count(*) from %s s where s.velvet_do operator(pg_catalog.=) any ('{i,u}') "+
			"and %s and not exists (select from %s.%s t where %s)", Literal(p.Name), t.stage(), strings.Join(known, " and "),
			ident(p.Of[0]), ident(p.Of[1]), strings.Join(same, " and ")))
	}
	return list
}
