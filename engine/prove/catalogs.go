package prove

import (
	"context"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"velvetrewind/core/figures"
)

// rest checks what of a database are not the rows of its tables.
func (rd *reader) rest(ctx context.Context) error {
	for _, step := range []func(context.Context) error{rd.references, rd.libraries, rd.sorting, rd.largeObjects} {
		if err := step(ctx); err != nil {
			return err
		}
	}
	return ctx.Err()
}

// reference is what a column of a catalog names in another, as the server itself tells.
type reference struct {
	Table      string
	Columns    []string
	Key        string
	Keys       []string
	Array, Opt bool
}

// references follows every reference of the system catalogs.
func (rd *reader) references(ctx context.Context) error {
	o := &rd.seen.catalogs
	defer o.Clock()()
	list, err := ask(
		ctx,
		rd.conn,
		pgx.RowToStructByPos[reference],
		`select fktable::pg_catalog.text, fkcols, pktable::pg_catalog.text, pkcols,
		is_array, is_opt from pg_catalog.pg_get_catalog_foreign_keys()`,
	)
	if err != nil {
		return err
	}
	for i := range list {
		f := &list[i]
		where := fmt.Sprintf("%s.%s (%s)", rd.db.Name, f.Table, strings.Join(f.Columns, ", "))
		var dangling int64
		if err := rd.conn.QueryRow(ctx, f.query()).Scan(&dangling); err != nil {
			if ctx.Err() != nil || rd.conn.IsClosed() {
				return err
			}
			o.LeftOut.Add(where, "%v", err)
			continue
		}
		if o.Seen++; dangling > 0 {
			o.Wrong.Add(where, "%s to nothing in %s", figures.Of(int(dangling), "row")+" refer", f.Key)
		}
	}
	return nil
}

// query counts the rows that refer to nothing. Of several columns, the last may be an array.
func (f *reference) query() string {
	last := len(f.Columns) - 1
	from, value := f.Table+" c", make([]string, len(f.Columns))
	for i, c := range f.Columns {
		value[i] = "c." + pgx.Identifier{c}.Sanitize()
	}
	if f.Array {
		from += " cross join lateral pg_catalog.unnest(" + value[last] + ") u (v)"
		value[last] = "u.v"
	}
	var same, given []string
	for i, k := range f.Keys {
		same = append(same, "p."+pgx.Identifier{k}.Sanitize()+" operator(pg_catalog.=) "+value[i])
		if f.Opt {
			given = append(given, value[i]+" operator(pg_catalog.<>) 0")
		}
	}
	condition := strings.Join(given, " and ")
	if condition == "" {
		condition = value[last] + " is not null"
	}
	return "select pg_catalog.count(*) from " + from + " where " + condition + " and not exists (select from " + f.Key + " p where " +
		strings.Join(same, " and ") + ")"
}

// libraries tries to load what extensions, and others, have functions in.
func (rd *reader) libraries(ctx context.Context) error {
	o := &rd.seen.extensions
	defer o.Clock()()
	type library struct {
		Path  string
		Whose *string
	}
	list, err := ask(
		ctx,
		rd.conn,
		pgx.RowToStructByPos[library],
		`select distinct p.probin, e.extname::pg_catalog.text from pg_catalog.pg_proc p
		join pg_catalog.pg_language l on l.oid operator(pg_catalog.=) p.prolang
		left join pg_catalog.pg_depend d on d.classid operator(pg_catalog.=) 1255 and d.objid operator(pg_catalog.=) p.oid
		and d.deptype operator(pg_catalog.=) 'e' left join pg_catalog.pg_extension e on e.oid operator(pg_catalog.=) d.refobjid
		where l.lanname operator(pg_catalog.=) 'c' and p.probin is not null and p.oid operator(pg_catalog.>=) 12000 order by 1`,
	)
	if err != nil || len(list) == 0 {
		return err
	}
	conn, err := rd.session(ctx, rd.copy, rd.db.Name) // of its own: what a library does to its session is its own business
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	for _, l := range list {
		where := rd.db.Name + "." + l.Path
		if l.Whose != nil {
			where = rd.db.Name + "." + *l.Whose
		}
		name, own := strings.CutPrefix(l.Path, "$libdir/")
		if strings.Contains(name, "/") || !own && strings.Contains(l.Path, "/") {
			o.LeftOut.Add(where, "its library %s is not among those of the server, and is not loaded for that", l.Path)
			continue
		}
		_, err := conn.Exec(ctx, "load "+quote("$libdir/"+name))
		switch {
		case ctx.Err() != nil:
			return context.Cause(ctx)
		case codeOf(err) == undefinedFile:
			o.LeftOut.Add(where, "its library %s is not installed on this machine", name)
		case err != nil && conn.IsClosed():
			return err
		case err != nil:
			o.Seen++
			o.Notes = append(o.Notes, fmt.Sprintf("%s: its library is installed, and says: %v", where, err))
		default:
			o.Seen++
		}
	}
	return nil
}

func quote(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }

// sortingQuery lists the collations whose version is another on this machine, with how many indexes are sorted by them.
const sortingQuery = `select l.collname::pg_catalog.text, l.collversion, pg_catalog.pg_collation_actual_version(l.oid),
	(select pg_catalog.count(*) from pg_catalog.pg_index i where l.oid operator(pg_catalog.=) any (i.indcollation::pg_catalog.oid[]))
	from pg_catalog.pg_collation l join pg_catalog.pg_database d on d.datname operator(pg_catalog.=) pg_catalog.current_database()
	where l.collversion is not null and l.collencoding operator(pg_catalog.=) any (array[-1, d.encoding])`

// sorting compares the versions of collations with those of this machine.
func (rd *reader) sorting(ctx context.Context) error {
	o := &rd.seen.collations
	defer o.Clock()()
	type collation struct {
		Name, Then string
		Now        *string
		Indexes    int64
	}
	list, err := ask(ctx, rd.conn, pgx.RowToStructByPos[collation], sortingQuery)
	if err != nil {
		return err
	}
	if v := rd.Cluster.Version(); v != nil && v.DatabaseCollation {
		more, err := ask(ctx, rd.conn, pgx.RowToStructByPos[collation], `select 'the default of the database', d.datcollversion,
			pg_catalog.pg_database_collation_actual_version(d.oid), (select pg_catalog.count(*) from pg_catalog.pg_index i
			where 100::pg_catalog.oid operator(pg_catalog.=) any (i.indcollation::pg_catalog.oid[])) from pg_catalog.pg_database d
			where d.datname operator(pg_catalog.=) pg_catalog.current_database() and d.datcollversion is not null`)
		if err != nil {
			return err
		}
		list = append(list, more...)
	}
	others := 0
	for _, c := range list {
		o.Seen++
		if c.Now != nil && *c.Now == c.Then {
			continue
		}
		now := "unknown"
		if c.Now != nil {
			now = *c.Now
		}
		if c.Indexes == 0 {
			others++
			continue
		}
		o.Wrong.Add(rd.db.Name+"."+c.Name, "its version was %s and is %s here; indexes that may be in the wrong order: %s", c.Then, now,
			figures.Count(c.Indexes))
	}
	if others > 0 {
		o.Notes = append(o.Notes, fmt.Sprintf("%s: %s of other versions here, by which no index is sorted", rd.db.Name,
			figures.Of(others, "collation")))
	}
	return nil
}

// largeObjects reads all of them.
func (rd *reader) largeObjects(ctx context.Context) error {
	o := &rd.seen.objects
	defer o.Clock()()
	var known, lost, bytes int64
	err := rd.conn.QueryRow(ctx, `select (select pg_catalog.count(*) from pg_catalog.pg_largeobject_metadata),
		(select pg_catalog.count(distinct l.loid) from pg_catalog.pg_largeobject l where not exists (select from
		pg_catalog.pg_largeobject_metadata m where m.oid operator(pg_catalog.=) l.loid)),
		(select coalesce(pg_catalog.sum(pg_catalog.length(data)), 0)::bigint from pg_catalog.pg_largeobject)`).Scan(&known, &lost, &bytes)
	switch {
	case ctx.Err() != nil || rd.conn.IsClosed():
		return err
	case err != nil:
		o.LeftOut.Add(rd.db.Name, "%v", err)
	case lost > 0:
		o.Wrong.Add(rd.db.Name, "%s belong to nobody", figures.Of(int(lost), "large object"))
	}
	o.Seen += known
	return nil
}
