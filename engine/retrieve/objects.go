package retrieve

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"

	"velvetrewind/core/journal"
	"velvetrewind/core/problem"
)

// object is one that was dropped and is no table, as the copy has it.
type object struct {
	OID   uint32
	Kind  string // as a plan names it: "view", …
	Owner string // whose code is called as it is made; "" for nobody's
	need
}

// String is how a plan names it.
func (o object) String() string { return o.Kind + " " + o.Name }

// The queries below are asked on the copy, about the schemas $1, the functions $2 and the relations $3 that were dropped, but for the
// tables $4, by their oids. Each gives what an object has, in order.

// What an extension owns comes with it, and the functions of a range with that.
const (
	typeOfExtension  = `exists (select from pg_catalog.pg_depend d where d.deptype = 'e' and d.classid = 1247 and d.objid = t.oid)`
	functionOfOthers = `exists (select from pg_catalog.pg_depend d where d.deptype in ('e', 'i') and d.classid = 1255 and d.objid =
		p.oid)`
	relationOfExtension = `exists (select from pg_catalog.pg_depend d where d.deptype = 'e' and d.classid = 1259 and d.objid = c.oid)`
)

var droppedSchemas = `select n.oid, 'schema', '', 'schema', pg_catalog.quote_ident(n.nspname),
	pg_catalog.format('create schema %I authorization %I', n.nspname, pg_catalog.pg_get_userbyid(n.nspowner))` +
	granted("n.nspacl", "n.nspowner", "'schema ' || pg_catalog.quote_ident(n.nspname)") +
	commented("n.oid", "pg_namespace", "'schema ' || pg_catalog.quote_ident(n.nspname)") + `
	from pg_catalog.pg_namespace n where n.oid = any ($1)`

// lostExtensions and lostPublications are asked about a whole database.
const lostExtensions = `select e.oid, 'extension', '', 'extension', pg_catalog.quote_ident(e.extname), pg_catalog.format(
	'create extension %I schema %I version %L', e.extname, n.nspname, e.extversion) from pg_catalog.pg_extension e
	join pg_catalog.pg_namespace n on n.oid = e.extnamespace where e.extname <> 'plpgsql' order by e.oid`

const lostPublications = `select p.oid, 'publication', '', 'publication', pg_catalog.quote_ident(p.pubname), pg_catalog.format(
	'create publication %I%s with (publish = %L, publish_via_partition_root = %s); alter publication %I owner to %I', p.pubname,
	case when p.puballtables then ' for all tables' end, pg_catalog.concat_ws(', ', case when p.pubinsert then 'insert' end,
	case when p.pubupdate then 'update' end, case when p.pubdelete then 'delete' end, case when p.pubtruncate then 'truncate' end),
	case when p.pubviaroot then 'true' else 'false' end, p.pubname, pg_catalog.pg_get_userbyid(p.pubowner)) from
	pg_catalog.pg_publication p order by p.oid`

// lostOthers are kinds of things of a database that are not made.
const lostOthers = `select pg_catalog.pg_describe_object(3466, oid, 0) from pg_catalog.pg_event_trigger
	union all select pg_catalog.pg_describe_object(1417, oid, 0) from pg_catalog.pg_foreign_server
	union all select pg_catalog.pg_describe_object(826, oid, 0) from pg_catalog.pg_default_acl
	union all select pg_catalog.format('large objects (%s)', n) from (select pg_catalog.count(*) as n
	from pg_catalog.pg_largeobject_metadata) l where n > 0`

var droppedTypes = `select t.oid, case t.typtype when 'd' then 'domain' else 'type' end, '', 'type', pg_catalog.format_type(t.oid, null),
	` + typeDefinition + granted("t.typacl", "t.typowner", "'type ' || pg_catalog.format_type(t.oid, null)") +
	commented("t.oid", "pg_type", "'type ' || pg_catalog.format_type(t.oid, null)") + `
	from pg_catalog.pg_type t left join pg_catalog.pg_class c on c.oid = t.typrelid
	where t.typnamespace = any ($1) and t.typtype in ('e', 'd', 'c', 'r') and (c.oid is null or c.relkind = 'c')
	and not ` + typeOfExtension + ` order by t.oid`

var droppedSequences = `select q.oid, 'sequence', '', 'relation', q.name, pg_catalog.format('create sequence %s as %s ', q.name,
	pg_catalog.format_type(q.seqtypid, null)) || ` + sequenceOptions + `
	|| coalesce(pg_catalog.format('; select pg_catalog.setval(%L, %s)', q.name, pg_catalog.pg_sequence_last_value(q.oid)), '')
	|| pg_catalog.format('; alter sequence %s owner to %I', q.name, pg_catalog.pg_get_userbyid(q.relowner))` +
	granted("q.relacl", "q.relowner", "'sequence ' || q.name") + commented("q.oid", "pg_class", "'sequence ' || q.name") + `
	from (select c.oid, c.relowner, c.relacl, c.relnamespace, q.*, pg_catalog.format('%I.%I', n.nspname, c.relname) as name from
	pg_catalog.pg_class c
	join pg_catalog.pg_sequence q on q.seqrelid = c.oid join pg_catalog.pg_namespace n on n.oid = c.relnamespace) q
	where (q.relnamespace = any ($1) or q.oid = any ($3)) and not exists (select from pg_catalog.pg_depend d where d.classid = 1259
	and d.objid = q.oid and (d.deptype in ('i', 'e') or d.deptype = 'a' and (d.refobjid = any ($4) or q.oid <> all ($3))))
	order by q.oid`

var droppedFunctions = `select p.oid, case p.prokind when 'p' then 'procedure' when 'a' then 'aggregate' else 'function' end, '',
	'function', p.oid::pg_catalog.regprocedure::pg_catalog.text, coalesce(` + routineDefinition + `, '') from pg_catalog.pg_proc p
	where (p.pronamespace = any ($1) or p.oid = any ($2)) and not ` + functionOfOthers + ` order by p.prokind = 'a', p.oid`

// routineDefinition makes a function, a procedure or an aggregate p, with its owner, grants and comment.
var routineDefinition = `case p.prokind when 'a' then (select ` + aggregateDefinition + ` from pg_catalog.pg_aggregate a
	where a.aggfnoid = p.oid) else pg_catalog.pg_get_functiondef(p.oid) end
	|| pg_catalog.format('; alter routine %s owner to %I', p.oid::pg_catalog.regprocedure, pg_catalog.pg_get_userbyid(p.proowner))
	|| case when p.proacl is not null then pg_catalog.format('; revoke all on routine %s from public', p.oid::pg_catalog.regprocedure)
	else '' end` + granted("p.proacl", "p.proowner", "'routine ' || p.oid::pg_catalog.regprocedure") +
	commented("p.oid", "pg_proc", "'routine ' || p.oid::pg_catalog.regprocedure")

// aggregateDefinition makes an aggregate p, of which pg_aggregate says a; null for one over ordered rows.
const aggregateDefinition = `case a.aggkind when 'n' then pg_catalog.format('create aggregate %s.%s (%s) (sfunc = %s, stype = %s%s)',
	p.pronamespace::pg_catalog.regnamespace, pg_catalog.quote_ident(p.proname), case p.pronargs when 0 then '*' else
	pg_catalog.pg_get_function_arguments(p.oid) end, a.aggtransfn, pg_catalog.format_type(a.aggtranstype, null),
	pg_catalog.concat(', sspace = ' || nullif(a.aggtransspace, 0), ', finalfunc = ' || nullif(a.aggfinalfn::pg_catalog.oid,
	0)::pg_catalog.regproc, case when a.aggfinalextra then ', finalfunc_extra' end, ', combinefunc = ' ||
	nullif(a.aggcombinefn::pg_catalog.oid, 0)::pg_catalog.regproc, ', serialfunc = ' || nullif(a.aggserialfn::pg_catalog.oid,
	0)::pg_catalog.regproc, ', deserialfunc = ' || nullif(a.aggdeserialfn::pg_catalog.oid, 0)::pg_catalog.regproc,
	', initcond = ' || pg_catalog.quote_literal(a.agginitval), ', msfunc = ' || nullif(a.aggmtransfn::pg_catalog.oid,
	0)::pg_catalog.regproc, ', minvfunc = ' || nullif(a.aggminvtransfn::pg_catalog.oid, 0)::pg_catalog.regproc,
	', mstype = ' || pg_catalog.format_type(nullif(a.aggmtranstype, 0), null), ', mfinalfunc = ' ||
	nullif(a.aggmfinalfn::pg_catalog.oid, 0)::pg_catalog.regproc, ', minitcond = ' || pg_catalog.quote_literal(a.aggminitval),
	case p.proparallel when 's' then ', parallel = safe' when 'r' then ', parallel = restricted' end)) end`

const droppedViews = `with own as (select c.oid, c.relowner, c.relacl, c.relkind, c.reloptions, pg_catalog.format('%I.%I', n.nspname,
	c.relname) as name from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid = c.relnamespace
	where (c.relnamespace = any ($1) or c.oid = any ($3)) and c.relkind in ('v', 'm')
	and not ` + relationOfExtension + `)
	select oid, case relkind when 'm' then 'materialized view' else 'view' end, case relkind when 'm' then
	pg_catalog.pg_get_userbyid(relowner)::pg_catalog.text else '' end, 'relation', name, ` + viewDefinition + ` from own order by oid`

const droppedIndexes = `select c.oid, 'index', pg_catalog.pg_get_userbyid(c.relowner)::pg_catalog.text, 'relation',
	pg_catalog.format('%I.%I', n.nspname, c.relname), pg_catalog.pg_get_indexdef(c.oid)
	from pg_catalog.pg_class c join pg_catalog.pg_index i on i.indexrelid = c.oid
	join pg_catalog.pg_namespace n on n.oid = c.relnamespace where c.oid = any ($3) and i.indrelid <> all ($4) and i.indisvalid
	and not exists (select from pg_catalog.pg_constraint k where k.conindid = c.oid and k.contype in ('p', 'u', 'x'))
	and not exists (select from pg_catalog.pg_inherits h where h.inhrelid = c.oid) order by c.oid`

// otherObjects of the schemas are of kinds that are not made: foreign tables, operators and the like.
const otherObjects = `select pg_catalog.pg_describe_object(d.classid, d.objid, 0) from pg_catalog.pg_depend d
	where d.refclassid = 2615 and d.refobjid = any ($1) and d.deptype = 'n' and d.classid not in (1259, 1247, 1255, 3079, 3381)
	and not exists (select from pg_catalog.pg_depend e where e.classid = d.classid and e.objid = d.objid and e.deptype = 'e')
	union all select pg_catalog.pg_describe_object(1259, c.oid, 0) from pg_catalog.pg_class c
	where c.relnamespace = any ($1) and c.relkind = 'f' order by 1`

// granted writes who else than its owner may do what with an object. Its grants are acl, and on is how it is called.
func granted(acl, owner, on string) string {
	return fmt.Sprintf(`
	|| coalesce((select pg_catalog.string_agg(pg_catalog.format('; grant %%s on %%s to %%s%%s', g.privilege_type, %s, case g.grantee
	when 0 then 'public' else pg_catalog.quote_ident(pg_catalog.pg_get_userbyid(g.grantee)) end, case when g.is_grantable then
	' with grant option' end), '') from pg_catalog.aclexplode(%s) g where g.grantee <> %s), '')`, on, acl, owner)
}

// commented writes the comment on an object.
func commented(oid, catalog, on string) string {
	return fmt.Sprintf(`
	|| coalesce('; comment on ' || %s || ' is ' || pg_catalog.quote_literal(pg_catalog.obj_description(%s, '%s')), '')`, on, oid, catalog)
}

// readObjects reads from the copy the objects that the transaction dropped, in an order in which most of them can be made.
func (s *session) readObjects(ctx context.Context) error {
	var schemas, functions, relations []uint32
	for _, n := range s.Entry.Dropped {
		switch n.Part {
		case journal.Schema:
			schemas = append(schemas, n.OID)
		case journal.Function:
			functions = append(functions, n.OID)
		default:
			relations = append(relations, n.OID)
		}
	}
	var tables []uint32
	for _, c := range s.Entry.Tables {
		if c.Counts[journal.Drop] > 0 {
			tables = append(tables, c.OID)
		}
	}
	oids := strings.NewReplacer("$1", oidArray(schemas), "$2", oidArray(functions), "$3", oidArray(relations), "$4", oidArray(tables))
	queries := []string{droppedSchemas, droppedTypes, droppedSequences, droppedFunctions, droppedViews, droppedIndexes}
	unmade := otherObjects
	if s.LostDatabase != "" {
		queries = append([]string{droppedSchemas, lostExtensions, lostPublications}, queries[1:]...)
		unmade = lostOthers + " union all " + unmade
	}
	for _, query := range queries {
		rows, err := s.old.Query(ctx, oids.Replace(query))
		if err != nil {
			return err
		}
		found, err := pgx.CollectRows(rows, pgx.RowToStructByPos[object])
		if err != nil {
			return err
		}
		for _, o := range found {
			if o.SQL == "" {
				s.byHand(o.String())
				continue
			}
			s.objects = append(s.objects, o)
		}
	}
	rows, err := s.old.Query(ctx, oids.Replace(unmade))
	if err != nil {
		return err
	}
	others, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return err
	}
	for _, o := range others {
		s.byHand(o)
	}
	if rows, err = s.old.Query(ctx, "select p.oid from pg_catalog.pg_proc p where p.oid = any ($1) and "+functionOfOthers,
		functions); err != nil {
		return err
	}
	s.others, err = pgx.CollectRows(rows, pgx.RowTo[uint32])
	return err
}

func (s *session) byHand(object string) {
	s.plan.Unable = append(s.plan.Unable, "not made anew: "+object+"; look at it on the copy, and make it by hand")
}

func oidArray(list []uint32) string {
	texts := make([]string, len(list))
	for i, oid := range list {
		texts[i] = strconv.FormatUint(uint64(oid), 10)
	}
	return "'{" + strings.Join(texts, ",") + "}'::pg_catalog.oid[]"
}

// wholly tells whether all that the transaction dropped is wanted, and not some tables alone.
func (s *session) wholly() bool { return len(s.Tables) == 0 }

// lackingObjects lists those that live lacks and that are to be made.
func (s *session) lackingObjects(ctx context.Context) (list []object, err error) {
	if !s.wholly() {
		return nil, nil
	}
	for _, o := range s.objects {
		there, err := s.there(ctx, o.need)
		if err != nil {
			return nil, err
		}
		if !there {
			list = append(list, o)
		}
	}
	return list, nil
}

// makeObjects makes what it can of the objects that live lacks. What needs a table that is not there yet is left; why is what the server
// said of the last of them.
func (s *session) makeObjects(ctx context.Context) (left []string, why, err error) {
	absent, err := s.lackingObjects(ctx)
	if err != nil || len(absent) == 0 {
		return nil, nil, err
	}
	if err := s.mayMakeObjects(ctx, absent); err != nil {
		return nil, nil, err
	}
	if err := s.do(ctx, "set local check_function_bodies = off"); err != nil {
		return nil, nil, err
	}
	list := make([]string, len(absent))
	for i, o := range absent {
		list[i] = o.SQL
	}
	return s.settle(ctx, list)
}

// mayMakeObjects refuses, as mayMake does, to call code of others as a superuser.
func (s *session) mayMakeObjects(ctx context.Context, list []object) error {
	super, err := s.superuser(ctx)
	if err != nil || !super || s.Trust {
		return err
	}
	for _, o := range list {
		var trusted bool
		err := s.old.QueryRow(ctx, `select $1::pg_catalog.text operator(pg_catalog.=) '' or exists (select from pg_catalog.pg_roles
			where rolname operator(pg_catalog.=) $1 and rolsuper)`, o.Owner).Scan(&trusted)
		if err != nil {
			return err
		}
		if !trusted {
			return problem.New(problem.Conflict, "Give the login of "+o.Owner+" (--as), or trust those whose code it is (--trust-code).",
				title, "%s belongs to %s; making it anew would call their functions with the rights of a superuser", o, o.Owner)
		}
	}
	return nil
}

// finishObjects makes the objects that are left, now that all tables are there.
func (s *session) finishObjects(ctx context.Context) error {
	left, why, err := s.makeObjects(ctx)
	if err == nil && len(left) > 0 {
		err = problem.Wrap(why, problem.Conflict, title, "This is what it refused: "+left[len(left)-1])
	}
	return err
}
