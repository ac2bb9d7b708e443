package prove

import (
	"context"
	"errors"
	"fmt"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"velvetrewind/core/pg"
	"velvetrewind/core/wal"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/host"
	"velvetrewind/engine/restore/copies"
)

// database is one database of the copy, with what its catalogs say.
type database struct {
	OID       uint32
	Name      string
	relations []relation
	tables    []table
	tainted   bool // some type's values are written by a function that belongs to no superuser
}

// relation is a relation with a file.
type relation struct {
	ref               wal.RelationRef
	Schema, Name      string
	Kind, Persistence string
	Access            string // its access method
	database          string
}

func (n *relation) where() string { return n.database + "." + n.Schema + "." + n.Name }

// layout is how the items of its pages lie.
func (n *relation) layout() pg.Layout {
	switch {
	case n.Kind == "r" || n.Kind == "m" || n.Kind == "t" || n.Kind == "S":
		return pg.HeapPage
	case n.Access == "btree" || n.Access == "gist":
		return pg.ItemPage
	}
	return pg.OtherPage
}

// table is a table of somebody's.
type table struct {
	OID                 uint32
	Schema, Name, Owner string
	// Login says that the owner may log in, Super that it is a superuser, and Calls that planning a
	// scan calls functions: the server folds the expressions of indexes and statistics as it plans.
	Login, Super, Calls bool
	Policies            bool // rows are hidden from some
	Partition           bool
	ref                 wal.RelationRef
	toast               [2]wal.RelationRef // of its values out of line, and the index of those
}

func (t *table) String() string { return t.Schema + "." + t.Name }

func (t *table) sql() string { return pgx.Identifier{t.Schema, t.Name}.Sanitize() }

// harmless tells whether a scan calls nothing that belongs to people of less rights than whoever scans.
func (t *table) harmless() bool { return t.Super || !t.Calls }

// survey reads the catalogs of every database.
func (r *run) survey(ctx context.Context) error {
	type listed struct {
		OID  uint32
		Name string
		Open bool
	}
	all, err := ask(
		ctx,
		r.conn,
		pgx.RowToStructByPos[listed],
		`select oid, datname::pg_catalog.text, datallowconn from pg_catalog.pg_database
		where datname operator(pg_catalog.<>) 'template0' order by datname`,
	)
	if err != nil {
		return err
	}
	for _, l := range all {
		if !l.Open {
			r.closed[l.Name] = "it allows no connections"
			continue
		}
		db := database{OID: l.OID, Name: l.Name}
		if err := r.catalogs(ctx, &db); err != nil {
			if err := r.survives(ctx); err != nil {
				return err
			}
			r.closed[l.Name] = err.Error()
			continue
		}
		r.databases = append(r.databases, db)
	}
	return nil
}

// relationsQuery lists the relations of a database that have files.
const relationsQuery = `select case when c.reltablespace operator(pg_catalog.=) 0 then d.dattablespace else c.reltablespace end,
	case when c.relisshared then 0::pg_catalog.oid else d.oid end, pg_catalog.pg_relation_filenode(c.oid),
	n.nspname::pg_catalog.text, c.relname::pg_catalog.text, c.relkind::pg_catalog.text, c.relpersistence::pg_catalog.text,
	coalesce(m.amname::pg_catalog.text, '')
	from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid operator(pg_catalog.=) c.relnamespace
	join pg_catalog.pg_database d on d.datname operator(pg_catalog.=) pg_catalog.current_database()
	left join pg_catalog.pg_am m on m.oid operator(pg_catalog.=) c.relam
	where pg_catalog.pg_relation_filenode(c.oid) is not null and c.relpersistence operator(pg_catalog.<>) 't'`

// tablesQuery lists ordinary tables and materialised views with storage of their own, without the system's and without
// unlogged ones, which are empty after recovery.
var tablesQuery = `select c.oid, n.nspname::pg_catalog.text, c.relname::pg_catalog.text, a.rolname::pg_catalog.text, a.rolcanlogin,
	a.rolsuper,
	exists (select from pg_catalog.pg_index i where i.indrelid operator(pg_catalog.=) c.oid and (i.indexprs is not null
	or i.indpred is not null) and ` + callsOthers("1259", "i.indexrelid") + `)
	or exists (select from pg_catalog.pg_statistic_ext s where s.stxrelid operator(pg_catalog.=) c.oid and s.stxexprs is not null
	and ` + callsOthers("3381", "s.oid") + `),
	c.relrowsecurity, c.relispartition,
	case when c.reltablespace operator(pg_catalog.=) 0 then d.dattablespace else c.reltablespace end, d.oid,
	pg_catalog.pg_relation_filenode(c.oid), coalesce(pg_catalog.pg_relation_filenode(c.reltoastrelid), 0),
	coalesce((select pg_catalog.pg_relation_filenode(i.indexrelid) from pg_catalog.pg_index i
	where i.indrelid operator(pg_catalog.=) c.reltoastrelid limit 1), 0)
	from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid operator(pg_catalog.=) c.relnamespace
	join pg_catalog.pg_database d on d.datname operator(pg_catalog.=) pg_catalog.current_database()
	join pg_catalog.pg_roles a on a.oid operator(pg_catalog.=) c.relowner
	where c.relkind operator(pg_catalog.=) any ('{r, m}') and c.relpersistence operator(pg_catalog.=) 'p'
	and (c.relkind operator(pg_catalog.=) 'r' or c.relispopulated)
	and n.nspname operator(pg_catalog.<>) all ('{pg_catalog, information_schema}') and n.nspname operator(pg_catalog.!~~) 'pg\_toast%'
	and n.nspname operator(pg_catalog.!~~) 'pg\_temp%'
	order by 2, 3`

// taintedQuery tells whether a function that belongs to no superuser writes the values of some type.
const taintedQuery = `select exists (select from pg_catalog.pg_type t join pg_catalog.pg_proc p on p.oid operator(pg_catalog.=) t.typoutput
	join pg_catalog.pg_roles a on a.oid operator(pg_catalog.=) p.proowner where not a.rolsuper)`

// catalogs reads what the catalogs of a database say.
func (r *run) catalogs(ctx context.Context, db *database) error {
	conn, err := r.session(ctx, r.copy, db.Name)
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	db.relations, err = ask(ctx, conn, func(row pgx.CollectableRow) (n relation, err error) {
		n.database = db.Name
		return n, row.Scan(&n.ref.Space, &n.ref.Database, &n.ref.Filenode, &n.Schema, &n.Name, &n.Kind, &n.Persistence, &n.Access)
	}, relationsQuery)
	if err != nil {
		return err
	}
	if db.tables, err = tablesOf(ctx, conn); err != nil {
		return err
	}
	return conn.QueryRow(ctx, taintedQuery).Scan(&db.tainted)
}

// tablesOf lists the tables of the database of a session.
func tablesOf(ctx context.Context, conn *pgx.Conn) ([]table, error) {
	return ask(ctx, conn, func(row pgx.CollectableRow) (t table, err error) {
		err = row.Scan(&t.OID, &t.Schema, &t.Name, &t.Owner, &t.Login, &t.Super, &t.Calls, &t.Policies, &t.Partition, &t.ref.Space,
			&t.ref.Database, &t.ref.Filenode, &t.toast[0].Filenode, &t.toast[1].Filenode)
		for i := range t.toast {
			t.toast[i].Space, t.toast[i].Database = t.ref.Space, t.ref.Database
		}
		return t, err
	}, tablesQuery)
}

// session opens a session on a copy that reads tables and not indexes, for as long as that takes, and does not wait for
// what replay holds for as long as it is paused.
func (r *run) session(ctx context.Context, k catalog.Copy, name string) (*pgx.Conn, error) {
	conn, err := copies.Connect(ctx, r.Host, k, r.Cluster, name)
	if err != nil {
		return nil, err
	}
	return conn, prepare(ctx, conn)
}

// prepare has plans be neither compiled, which would trust what the catalogs say of columns, nor read by indexes.
func prepare(ctx context.Context, conn *pgx.Conn) error {
	_, err := conn.Exec(ctx, `set jit = off; set enable_indexscan = off; set enable_indexonlyscan = off; set enable_bitmapscan = off;
		set lock_timeout = '5s'; set statement_timeout = 0; set idle_in_transaction_session_timeout = 0; `+plainText)
	return err
}

// plainText has values be written in the same way in every session.
const plainText = `set datestyle = 'ISO'; set timezone = 'UTC'; set intervalstyle = 'postgres'; set bytea_output = 'hex';
	set extra_float_digits = 1; set lc_monetary = 'C'; set xmloption = 'content'`

// errUnsafe is that of what cannot be looked at without calling what belongs to somebody.
var errUnsafe = errors.New("that calls functions of its owner's")

// errDamaged is that of what lies in files with damaged pages: what is read of them tells nothing.
var errDamaged = errors.New("pages of its files are damaged")

// owners are sessions on a copy of the owners of tables: what planning a scan of theirs calls
// is called with their rights.
type owners struct {
	host     host.Machine
	copy     catalog.Copy
	database string
	open     map[string]*pgx.Conn
}

func (o *owners) of(ctx context.Context, t *table) (*pgx.Conn, error) {
	if !t.Login {
		return nil, fmt.Errorf("%w, who may not log in", errUnsafe)
	}
	if conn := o.open[t.Owner]; conn != nil {
		return conn, nil
	}
	conn, err := copies.ConnectAs(ctx, o.host, o.copy, t.Owner, o.database)
	if err != nil {
		return nil, fmt.Errorf("%w (as %s: %w)", errUnsafe, t.Owner, err)
	}
	if o.open == nil {
		o.open = make(map[string]*pgx.Conn)
	}
	o.open[t.Owner] = conn
	return conn, prepare(ctx, conn)
}

func (o *owners) close(ctx context.Context) {
	for _, conn := range o.open {
		_ = conn.Close(context.WithoutCancel(ctx))
	}
}

// codeOf is the SQLSTATE of an error, or "".
func codeOf(err error) string {
	var e *pgconn.PgError
	if errors.As(err, &e) {
		return e.Code
	}
	return ""
}

// Codes of errors.
const (
	lockTimeout       = "55P03"
	noRight           = "42501"
	undefinedFile     = "58P01"
	undefinedFunction = "42883"
)
