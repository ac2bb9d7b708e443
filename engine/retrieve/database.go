package retrieve

import (
	"context"
	"errors"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"velvetrewind/core/figures"
	"velvetrewind/core/journal"
	"velvetrewind/core/problem"
	"velvetrewind/core/rescue"
	"velvetrewind/core/task"
	"velvetrewind/engine/restore/copies"
	"velvetrewind/engine/server/access"
)

// userSchemas tells which schemas n are not the server's own.
const userSchemas = `n.nspname not like 'pg\_%' and n.nspname <> 'information_schema'`

// Database has a wish be about a database that the transaction dropped: about all tables in it, and all else.
func (r *Retriever) Database(ctx context.Context, w *Wish) error {
	if len(w.Entry.DroppedDatabases) != 1 || len(w.Also) > 0 {
		return problem.New(problem.Invalid, "Bring them back one by one.", title, "%s, with other transactions, cannot be rescued at once",
			figures.Of(len(w.Entry.DroppedDatabases), "database"))
	}
	conn, err := copies.Connect(ctx, r.Host, r.Copy, r.Cluster, "template1")
	if err != nil {
		return err
	}
	err = conn.QueryRow(ctx, "select datname from pg_catalog.pg_database where oid = $1", w.Entry.DroppedDatabases[0]).Scan(&w.LostDatabase)
	if err = errors.Join(err, conn.Close(ctx)); errors.Is(err, pgx.ErrNoRows) {
		return problem.New(problem.Conflict, "", title, "the copy has no such database; it does not stand just before transaction %d",
			w.Entry.XID)
	}
	if err != nil {
		return err
	}
	if conn, err = copies.Connect(ctx, r.Host, r.Copy, r.Cluster, w.LostDatabase); err != nil {
		return err
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	w.Entry.Tables, w.Entry.Dropped = nil, nil
	rows, err := conn.Query(ctx, `select c.oid, n.nspname, c.relname from pg_catalog.pg_class c
		join pg_catalog.pg_namespace n on n.oid = c.relnamespace where `+userSchemas+` and c.relkind in ('r', 'p')
		and c.relpersistence <> 't' and not `+relationOfExtension+` order by c.oid`)
	if err != nil {
		return err
	}
	n := journal.Name{Database: w.LostDatabase}
	_, err = pgx.ForEachRow(rows, []any{&n.OID, &n.Schema, &n.Table}, func() error {
		t := journal.TableChange{Name: n, Known: true}
		t.Counts[journal.Drop] = 1
		w.Entry.Tables = append(w.Entry.Tables, t)
		return nil
	})
	if err != nil {
		return err
	}
	if rows, err = conn.Query(ctx, `select n.oid, n.nspname from pg_catalog.pg_namespace n where `+userSchemas+` order by
		n.oid`); err != nil {
		return err
	}
	n = journal.Name{Database: w.LostDatabase, Part: journal.Schema}
	_, err = pgx.ForEachRow(rows, []any{&n.OID, &n.Table}, func() error {
		w.Entry.Dropped = append(w.Entry.Dropped, n)
		return nil
	})
	return err
}

// The queries below are asked on the copy, about the database $1.
const (
	createDatabase = `select pg_catalog.format('create database %I template template0 owner %I encoding %L lc_collate %L lc_ctype %L',
		d.datname, pg_catalog.pg_get_userbyid(d.datdba), pg_catalog.pg_encoding_to_char(d.encoding), d.datcollate, d.datctype)
		|| case pg_catalog.to_jsonb(d) ->> 'datlocprovider' when 'i' then pg_catalog.format(' locale_provider icu icu_locale %L', l.locale)
		when 'b' then pg_catalog.format(' locale_provider builtin builtin_locale %L', l.locale) else '' end
		|| case when s.spcname <> 'pg_default' then pg_catalog.format(' tablespace %I', s.spcname) else '' end
		|| pg_catalog.format(' connection limit %s', d.datconnlimit)
		from pg_catalog.pg_database d join pg_catalog.pg_tablespace s on s.oid = d.dattablespace cross join lateral
		(select coalesce(pg_catalog.to_jsonb(d) ->> 'datlocale', pg_catalog.to_jsonb(d) ->> 'daticulocale') as locale) l
		where d.datname = $1`
	// databaseSettings are statements; what is set is a value of those who set it, and never SQL.
	databaseSettings = `with d as (select * from pg_catalog.pg_database where datname = $1)
		select pg_catalog.format('revoke all on database %I from public', datname) from d where datacl is not null
		union all select pg_catalog.format('grant %s on database %I to %s%s', g.privilege_type, d.datname, case g.grantee when 0 then
		'public' else pg_catalog.quote_ident(pg_catalog.pg_get_userbyid(g.grantee)) end, case when g.is_grantable then
		' with grant option' end) from d cross join lateral pg_catalog.aclexplode(d.datacl) g where g.grantee <> d.datdba
		union all select pg_catalog.format('comment on database %I is %L', d.datname, c.description) from d
		join pg_catalog.pg_shdescription c on c.classoid = 1262 and c.objoid = d.oid
		union all select pg_catalog.format('begin; select pg_catalog.set_config(%L, %L, true); alter %s set %I from current; commit',
		pg_catalog.split_part(c, '=', 1), pg_catalog.substr(c, pg_catalog.strpos(c, '=') + 1), case r.setrole when 0 then
		pg_catalog.format('database %I', d.datname) else pg_catalog.format('role %I in database %I',
		pg_catalog.pg_get_userbyid(r.setrole), d.datname) end, pg_catalog.split_part(c, '=', 1))
		from d join pg_catalog.pg_db_role_setting r on r.setdatabase = d.oid cross join lateral pg_catalog.unnest(r.setconfig) c`
)

// inAnother opens a session on live that is in another database than one that was dropped.
func (r *Retriever) inAnother(ctx context.Context, than string) (*pgx.Conn, error) {
	conn, err := r.Access.Admin(ctx, "")
	if err == nil && conn.Config().Database == than || hasCode(err, noSuchDatabase) {
		if conn != nil {
			_ = conn.Close(ctx)
		}
		conn, err = r.Access.Admin(ctx, "postgres")
	}
	if err != nil {
		return nil, problem.New(problem.Unreachable, "", title, "%s", access.Remedy(err))
	}
	return conn, nil
}

const noSuchDatabase = "3D000"

func hasCode(err error, code string) bool {
	var refused *pgconn.PgError
	return errors.As(err, &refused) && refused.Code == code
}

// isThere tells whether live has a database.
func isThere(ctx context.Context, live *pgx.Conn, name string) (there bool, err error) {
	err = live.QueryRow(ctx, "select exists (select from pg_catalog.pg_database where datname operator(pg_catalog.=) $1)",
		name).Scan(&there)
	return there, err
}

// makeDatabase makes the database that was dropped, with nothing in it, unless live has it. There it stays: to drop it again would be
// one more database that was dropped.
func (r *Retriever) makeDatabase(ctx context.Context, w Wish, report task.Report) error {
	live, err := r.inAnother(ctx, w.LostDatabase)
	if err != nil {
		return err
	}
	defer func() { _ = live.Close(context.WithoutCancel(ctx)) }()
	if there, err := isThere(ctx, live, w.LostDatabase); err != nil || there {
		return err
	}
	old, err := copies.Connect(ctx, r.Host, r.Copy, r.Cluster, w.LostDatabase)
	if err != nil {
		return err
	}
	defer func() { _ = old.Close(context.WithoutCancel(ctx)) }()
	if err := mayMakeDatabase(ctx, live, old, w); err != nil { // and nothing is made
		return err
	}
	var create string
	if err := old.QueryRow(ctx, createDatabase, w.LostDatabase).Scan(&create); err != nil {
		return err
	}
	rows, err := old.Query(ctx, databaseSettings, w.LostDatabase)
	if err != nil {
		return err
	}
	settings, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return err
	}
	if _, err := live.Exec(ctx, create); err != nil {
		return problem.Wrap(remedy(err), problem.Conflict, title, "This is what it refused: "+create)
	}
	report.Log("the database %s is made, with nothing in it; if what follows is interrupted, the same command goes on", w.LostDatabase)
	for _, sql := range settings {
		if _, err := live.Exec(ctx, sql); err != nil {
			report.Warn("%v: %s", err, sql)
			if _, err := live.Exec(ctx, "rollback"); err != nil {
				return err
			}
		}
	}
	return nil
}

// mayMakeDatabase refuses a role that may not, and what mayMake would refuse of one of its tables.
func mayMakeDatabase(ctx context.Context, live, old *pgx.Conn, w Wish) error {
	var super, may bool
	var role string
	err := live.QueryRow(ctx, `select rolname, rolsuper, rolsuper or rolcreatedb from pg_catalog.pg_roles
		where rolname operator(pg_catalog.=) current_user`).Scan(&role, &super, &may)
	if err == nil && !may {
		err = problem.New(problem.Conflict, "Give the login of a role that may: --as ROLE --as-password-file FILE", title,
			"the role %s may not create databases", role)
	}
	if err != nil || !super || w.Trust {
		return err
	}
	var owner string
	err = old.QueryRow(ctx, `select r.rolname from pg_catalog.pg_class c join pg_catalog.pg_roles r on r.oid = c.relowner
		where c.relkind in ('r', 'p', 'm') and not r.rolsuper order by 1 limit 1`).Scan(&owner)
	if errors.Is(err, pgx.ErrNoRows) {
		return nil
	}
	if err != nil {
		return err
	}
	return problem.New(problem.Conflict, "Give the login of "+owner+" (--as), or trust those whose code it is (--trust-code).", title,
		"tables of database %s belong to %s; making them anew would call their functions with the rights of a superuser", w.LostDatabase,
		owner)
}

// planDatabase says what would come back with a database that live lacks; absent is false where it has one of the name. May tells
// that the role that writes must be one that may make it.
func (r *Retriever) planDatabase(ctx context.Context, w Wish, may bool, report task.Report) (p rescue.Plan, absent bool, err error) {
	s := &session{Retriever: r, Wish: w, report: report}
	defer s.close(ctx)
	if s.live, err = r.inAnother(ctx, w.LostDatabase); err != nil {
		return p, false, err
	}
	there, err := isThere(ctx, s.live, w.LostDatabase)
	if err != nil || there {
		return p, false, err
	}
	if s.old, err = copies.Connect(ctx, r.Host, r.Copy, r.Cluster, w.LostDatabase); err != nil {
		return p, false, err
	}
	if may {
		if err := mayMakeDatabase(ctx, s.live, s.old, w); err != nil {
			return p, false, err
		}
	}
	s.plan = rescue.Plan{XID: uint64(w.Entry.XID), Database: w.LostDatabase, Made: []string{"database " + w.LostDatabase}}
	if err := s.readObjects(ctx); err != nil {
		return p, false, err
	}
	for _, o := range s.objects {
		s.plan.Made = append(s.plan.Made, o.String())
	}
	for i, t := range w.Entry.Tables {
		name := journal.Table{Schema: t.Schema, Name: t.Table}.String()
		report.Progress(int64(i), int64(len(w.Entry.Tables)), task.Tables, "counting "+name+" on the copy")
		row := rescue.TablePlan{Table: name, Did: "dropped", Conflicts: []rescue.Conflict{}}
		old, err := s.relation(ctx, s.old, t.OID, "")
		if err != nil {
			return p, false, err
		}
		if !s.covers(t.Name) || old == nil || old.Root != old.OID { // a partition's rows are counted with the whole
			continue
		}
		only := map[string]string{"r": "only "}[old.Kind] // its children come by themselves
		if err := s.old.QueryRow(ctx, "select count(*) from "+only+pgx.Identifier{t.Schema,
			t.Table}.Sanitize()).Scan(&row.Rows); err != nil {
			return p, false, err
		}
		row.Missing, row.Inserts = row.Rows, row.Rows
		s.plan.Tables, s.plan.Made = append(s.plan.Tables, row), append(s.plan.Made, name)
	}
	return s.plan, true, nil
}
