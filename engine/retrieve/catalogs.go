package retrieve

// The queries below are asked on the copy, about a table whose oid is $1. What they give is SQL, or what is needed and the SQL
// that makes it.

// own are the table and, where it is partitioned, its partitions; parents come before their partitions.
const own = `with own as (select c.oid, c.relkind, c.relowner, c.relacl, c.relispartition,
	pg_catalog.format('%I.%I', n.nspname, c.relname) as name, c.relname, n.nspname, coalesce(t.level, 0) as level
	from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid = c.relnamespace
	left join pg_catalog.pg_partition_tree($1::pg_catalog.oid::pg_catalog.regclass) t on t.relid = c.oid
	where c.oid = $1::pg_catalog.oid or t.relid is not null) `

const schemasOf = own + `select distinct 'schema', pg_catalog.quote_ident(n.nspname),
	pg_catalog.format('create schema %I authorization %I', n.nspname, pg_catalog.pg_get_userbyid(n.nspowner))
	from own join pg_catalog.pg_namespace n on n.nspname = own.nspname`

// typeDefinition makes a type t, with its owner: an enum, a domain, a composite one or a range.
const typeDefinition = `case t.typtype
	when 'e' then pg_catalog.format('create type %s as enum (%s)', pg_catalog.format_type(t.oid, null),
	(select pg_catalog.string_agg(pg_catalog.quote_literal(e.enumlabel), ', ' order by e.enumsortorder) from pg_catalog.pg_enum e
	where e.enumtypid = t.oid))
	when 'd' then pg_catalog.format('create domain %s as %s%s%s%s%s', pg_catalog.format_type(t.oid, null),
	pg_catalog.format_type(t.typbasetype, t.typtypmod),
	(select pg_catalog.format(' collate %I.%I', n.nspname, c.collname) from pg_catalog.pg_collation c
	join pg_catalog.pg_namespace n on n.oid = c.collnamespace join pg_catalog.pg_type b on b.oid = t.typbasetype
	where c.oid = t.typcollation and t.typcollation <> b.typcollation), ' default ' || t.typdefault,
	coalesce((select pg_catalog.format(' constraint %I not null', k.conname) from pg_catalog.pg_constraint k where k.contypid = t.oid
	and k.contype = 'n'), case when t.typnotnull then ' not null' end),
	(select pg_catalog.string_agg(pg_catalog.format(' constraint %I %s', k.conname,
	pg_catalog.pg_get_constraintdef(k.oid)), '' order by k.conname) from pg_catalog.pg_constraint k
	where k.contypid = t.oid and k.contype = 'c'))
	when 'c' then pg_catalog.format('create type %s as (%s)', pg_catalog.format_type(t.oid, null),
	(select pg_catalog.string_agg(pg_catalog.format('%I %s', a.attname, pg_catalog.format_type(a.atttypid, a.atttypmod)), ', '
	order by a.attnum) from pg_catalog.pg_attribute a where a.attrelid = t.typrelid and a.attnum > 0 and not a.attisdropped))
	when 'r' then (select pg_catalog.format('create type %s as range (subtype = %s, subtype_opclass = %I.%I%s%s%s%s)',
	pg_catalog.format_type(t.oid, null), pg_catalog.format_type(r.rngsubtype, null), on_.nspname, o.opcname,
	(select pg_catalog.format(', collation = %I.%I', n.nspname, c.collname) from pg_catalog.pg_collation c
	join pg_catalog.pg_namespace n on n.oid = c.collnamespace where c.oid = r.rngcollation),
	', canonical = ' || nullif(r.rngcanonical::pg_catalog.oid, 0)::pg_catalog.regproc,
	', subtype_diff = ' || nullif(r.rngsubdiff::pg_catalog.oid, 0)::pg_catalog.regproc,
	', multirange_type_name = ' || pg_catalog.format_type(r.rngmultitypid, null))
	from pg_catalog.pg_range r join pg_catalog.pg_opclass o on o.oid = r.rngsubopc
	join pg_catalog.pg_namespace on_ on on_.oid = o.opcnamespace where r.rngtypid = t.oid) end
	|| pg_catalog.format('; alter type %s owner to %I', pg_catalog.format_type(t.oid, null), pg_catalog.pg_get_userbyid(t.typowner))`

// typesOf are the types of the columns, but for those that belong to a table, and the types of which these are made.
const typesOf = own + `, need as (
	with recursive t(oid, depth) as (select a.atttypid, 0 from own join pg_catalog.pg_attribute a on a.attrelid = own.oid
	where a.attnum > 0 and not a.attisdropped
	union select x.oid, t.depth + 1 from t join pg_catalog.pg_type p on p.oid = t.oid cross join lateral (
	select p.typelem union all select p.typbasetype union all select r.rngsubtype from pg_catalog.pg_range r where r.rngtypid = p.oid
	union all select r.rngtypid from pg_catalog.pg_range r where r.rngmultitypid = p.oid union all
	select a.atttypid from pg_catalog.pg_attribute a
	where a.attrelid = p.typrelid and p.typrelid <> 0 and a.attnum > 0 and not a.attisdropped) x(oid)
	where x.oid <> 0 and t.depth < 20)
	select oid, pg_catalog.max(depth) as depth from t group by oid)
	select 'type', pg_catalog.format_type(t.oid, null), ` + typeDefinition + `
	from need join pg_catalog.pg_type t on t.oid = need.oid left join pg_catalog.pg_class c on c.oid = t.typrelid
	where t.typtype in ('e', 'd', 'c', 'r') and (c.oid is null or c.relkind = 'c') and t.oid >= 16384 order by need.depth desc, t.oid`

// columnFunctionsOf are functions that defaults and generated columns call.
var columnFunctionsOf = own + `select distinct 'function', p.oid::pg_catalog.regprocedure::pg_catalog.text, ` + routineDefinition + `
	from own join pg_catalog.pg_attrdef f on f.adrelid = own.oid
	join pg_catalog.pg_depend d on d.classid = 2604 and d.objid = f.oid and d.refclassid = 1255
	join pg_catalog.pg_proc p on p.oid = d.refobjid where p.oid >= 16384 and p.prokind <> 'a'`

// sequenceOptions are what SQL says of a sequence.
const sequenceOptions = `pg_catalog.format('increment by %s minvalue %s maxvalue %s start with %s cache %s%s', q.seqincrement, q.seqmin,
	q.seqmax,
	q.seqstart, q.seqcache, case when q.seqcycle then ' cycle' end)`

// sequencesOf are those of serial columns; those of identity columns come with the table.
const sequencesOf = own + `select pg_catalog.format('create sequence %I.%I as %s ', n.nspname, c.relname,
	pg_catalog.format_type(q.seqtypid, null)) || ` + sequenceOptions + `
	from own join pg_catalog.pg_depend d on d.classid = 1259 and d.refclassid = 1259 and d.refobjid = own.oid and d.deptype = 'a'
	join pg_catalog.pg_class c on c.oid = d.objid and c.relkind = 'S' join pg_catalog.pg_namespace n on n.oid = c.relnamespace
	join pg_catalog.pg_sequence q on q.seqrelid = c.oid order by c.oid`

// tablesOf makes the tables themselves. A partition takes its columns from its parent.
const tablesOf = own + `select pg_catalog.format('create %stable %s %s%s%s%s%s', case r.relpersistence when 'u' then 'unlogged ' end,
	own.name,
	case when own.relispartition then pg_catalog.format('partition of %s %s', h.inhparent::pg_catalog.regclass,
	pg_catalog.pg_get_expr(r.relpartbound, r.oid)) else '(' || coalesce(columns.list, '') || ')' end,
	case when not own.relispartition then ' inherits (' || (select pg_catalog.string_agg(i.inhparent::pg_catalog.regclass::text,
	', ' order by i.inhseqno) from pg_catalog.pg_inherits i where i.inhrelid = own.oid) || ')' end,
	case own.relkind when 'p' then ' partition by ' || pg_catalog.pg_get_partkeydef(own.oid) end,
	' with (' || pg_catalog.array_to_string(r.reloptions, ', ') || ')',
	(select pg_catalog.format(' tablespace %I', s.spcname) from pg_catalog.pg_tablespace s where s.oid = r.reltablespace))
	from own join pg_catalog.pg_class r on r.oid = own.oid left join pg_catalog.pg_inherits h on h.inhrelid = own.oid
	and own.relispartition
	left join lateral (select pg_catalog.string_agg(pg_catalog.format('%I %s%s%s%s%s', a.attname, pg_catalog.format_type(a.atttypid,
	a.atttypmod),
	(select pg_catalog.format(' collate %I.%I', n.nspname, c.collname) from pg_catalog.pg_collation c
	join pg_catalog.pg_namespace n on n.oid = c.collnamespace where c.oid = a.attcollation and a.attcollation <> t.typcollation),
	case a.attgenerated when 's' then ' generated always as (' || pg_catalog.pg_get_expr(f.adbin, f.adrelid) || ') stored'
	when 'v' then ' generated always as (' || pg_catalog.pg_get_expr(f.adbin, f.adrelid) || ') virtual'
	else ' default ' || pg_catalog.pg_get_expr(f.adbin, f.adrelid) end,
	case a.attidentity when '' then null else pg_catalog.format(' generated %s as identity (sequence name %I.%I ',
	case a.attidentity when 'a' then 'always' else 'by default' end, qn.nspname, qc.relname) || ` + sequenceOptions + ` || ')' end,
	(select coalesce(pg_catalog.max(pg_catalog.format(' constraint %I not null', k.conname) || case when k.connoinherit
	then ' no inherit' else '' end) filter (where k.convalidated), case when pg_catalog.count(k.oid) = 0 and a.attnotnull
	then ' not null' end) from pg_catalog.pg_constraint k where k.conrelid = own.oid and k.contype = 'n' and k.conkey[1] = a.attnum)),
	', ' order by a.attnum) as list
	from pg_catalog.pg_attribute a join pg_catalog.pg_type t on t.oid = a.atttypid
	left join pg_catalog.pg_attrdef f on f.adrelid = a.attrelid and f.adnum = a.attnum
	left join pg_catalog.pg_depend d on a.attidentity <> '' and d.classid = 1259 and d.refclassid = 1259 and d.refobjid = a.attrelid
	and d.refobjsubid = a.attnum and d.deptype = 'i'
	left join pg_catalog.pg_class qc on qc.oid = d.objid left join pg_catalog.pg_namespace qn on qn.oid = qc.relnamespace
	left join pg_catalog.pg_sequence q on q.seqrelid = qc.oid
	where a.attrelid = own.oid and a.attnum > 0 and not a.attisdropped and a.attislocal) columns on true
	where own.relkind in ('r', 'p') order by own.level, own.oid`

// sequencesOwned binds sequences to their columns, and has every one go on where it stood.
const sequencesOwned = own + `, q as (select c.oid, pg_catalog.format('%I.%I', n.nspname, c.relname) as name, d.deptype,
	pg_catalog.format('%s.%I', own.name, a.attname) as owner from own
	join pg_catalog.pg_depend d on d.classid = 1259 and d.refclassid = 1259 and d.refobjid = own.oid and d.deptype in ('a', 'i')
	join pg_catalog.pg_class c on c.oid = d.objid and c.relkind = 'S' join pg_catalog.pg_namespace n on n.oid = c.relnamespace
	join pg_catalog.pg_attribute a on a.attrelid = own.oid and a.attnum = d.refobjsubid)
	select pg_catalog.format('alter sequence %s owned by %s', name, owner) from q where deptype = 'a'
	union all select pg_catalog.format('select pg_catalog.setval(%L, %s)', name, pg_catalog.pg_sequence_last_value(oid)) from q
	where pg_catalog.pg_sequence_last_value(oid) is not null`

// indexesOf are those that are not a constraint's, and not a part of the parent's.
const indexesOf = own + `select pg_catalog.replace(pg_catalog.pg_get_indexdef(i.indexrelid), ' ON ONLY ' || own.name || ' USING ',
	' ON ' || own.name || ' USING ') from own join pg_catalog.pg_index i on i.indrelid = own.oid
	where not exists (select from pg_catalog.pg_constraint k where k.conindid = i.indexrelid and k.contype in ('p', 'u', 'x'))
	and not exists (select from pg_catalog.pg_inherits h where h.inhrelid = i.indexrelid) and i.indisvalid order by i.indexrelid`

const constraintsOf = own + `select pg_catalog.format('alter table %s%s add constraint %I %s', case own.relkind when 'p' then '' else
	'only ' end,
	own.name, k.conname, pg_catalog.pg_get_constraintdef(k.oid)) from own join pg_catalog.pg_constraint k on k.conrelid = own.oid
	where (k.contype in ('p', 'u', 'x', 'c') or k.contype = 'n' and not k.convalidated) and k.conislocal
	and k.conparentid = 0 and k.coninhcount = 0
	order by pg_catalog.strpos('puxc', k.contype::pg_catalog.text), k.oid`

// settingsOf are those of columns and tables that have statements of their own.
const settingsOf = own + `, a as (select own.name, own.oid as of, a.*, t.typstorage from own join pg_catalog.pg_attribute a on a.attrelid =
	own.oid
	join pg_catalog.pg_type t on t.oid = a.atttypid where a.attnum > 0 and not a.attisdropped)
	select pg_catalog.format('alter table only %s alter column %I set storage %s', name, attname,
	case attstorage when 'p' then 'plain' when 'e' then 'external' when 'm' then 'main' else 'extended' end) from a where attstorage <>
	typstorage
	union all select pg_catalog.format('alter table only %s alter column %I set compression %s', name, attname,
	case attcompression when 'l' then 'lz4' else 'pglz' end) from a where attcompression <> ''
	union all select pg_catalog.format('alter table only %s alter column %I set statistics %s', name, attname, attstattarget) from a
	where attstattarget >= 0
	union all select pg_catalog.format('alter table only %s alter column %I set (%s)', name, attname, pg_catalog.array_to_string(attoptions,
	', '))
	from a where attoptions is not null
	union all select pg_catalog.format('alter table %s cluster on %I', own.name, x.relname) from own
	join pg_catalog.pg_index i on i.indrelid = own.oid and i.indisclustered join pg_catalog.pg_class x on x.oid = i.indexrelid
	union all select pg_catalog.format('alter table %s replica identity %s', own.name, case r.relreplident when 'f' then 'full'
	when 'n' then 'nothing' else 'using index ' || (select pg_catalog.quote_ident(x.relname) from pg_catalog.pg_index i
	join pg_catalog.pg_class x on x.oid = i.indexrelid where i.indrelid = own.oid and i.indisreplident) end)
	from own join pg_catalog.pg_class r on r.oid = own.oid where r.relreplident <> 'd'
	union all select pg_catalog.pg_get_statisticsobjdef(s.oid) from own join pg_catalog.pg_statistic_ext s on s.stxrelid = own.oid`

// grantsOn writes the grants on a relation; what was revoked from its owner stays granted.
const grantsOn = `select pg_catalog.format('grant %s on table %s to %s%s', g.privilege_type, own.name,
	case g.grantee when 0 then 'public' else pg_catalog.quote_ident(pg_catalog.pg_get_userbyid(g.grantee)) end,
	case when g.is_grantable then ' with grant option' end) from own cross join lateral pg_catalog.aclexplode(own.relacl) g
	where g.grantee <> own.relowner
	union all select pg_catalog.format('grant %s (%I) on table %s to %s%s', g.privilege_type, a.attname, own.name,
	case g.grantee when 0 then 'public' else pg_catalog.quote_ident(pg_catalog.pg_get_userbyid(g.grantee)) end,
	case when g.is_grantable then ' with grant option' end) from own join pg_catalog.pg_attribute a on a.attrelid = own.oid
	cross join lateral pg_catalog.aclexplode(a.attacl) g where not a.attisdropped`

const ownersOf = own + `select pg_catalog.format('alter table %s owner to %I', own.name, pg_catalog.pg_get_userbyid(own.relowner)) from own
	union all ` + grantsOn + `
	union all select pg_catalog.format('grant %s on sequence %I.%I to %s%s', g.privilege_type, n.nspname, c.relname,
	case g.grantee when 0 then 'public' else pg_catalog.quote_ident(pg_catalog.pg_get_userbyid(g.grantee)) end,
	case when g.is_grantable then ' with grant option' end) from own
	join pg_catalog.pg_depend d on d.classid = 1259 and d.refclassid = 1259 and d.refobjid = own.oid and d.deptype in ('a', 'i')
	join pg_catalog.pg_class c on c.oid = d.objid and c.relkind = 'S' join pg_catalog.pg_namespace n on n.oid = c.relnamespace
	cross join lateral pg_catalog.aclexplode(c.relacl) g where g.grantee <> c.relowner`

// foreignKeysOf are those of the table, and those of others that refer to it.
const foreignKeysOf = own + `select distinct on (k.oid) 'constraint', k.conname::pg_catalog.text,
	pg_catalog.format('alter table %s add constraint %I %s', k.conrelid::pg_catalog.regclass, k.conname,
	pg_catalog.pg_get_constraintdef(k.oid))
	from own join pg_catalog.pg_constraint k on own.oid in (k.conrelid, k.confrelid)
	where k.contype = 'f' and k.conparentid = 0 order by k.oid`

// functionsOf are those of triggers, and those that take or give the table's rows.
var functionsOf = own + `select distinct 'function', p.oid::pg_catalog.regprocedure::pg_catalog.text, ` + routineDefinition + `
	from own join pg_catalog.pg_proc p on p.oid in (select g.tgfoid from pg_catalog.pg_trigger g where g.tgrelid = own.oid and not
	g.tgisinternal)
	or p.oid in (select d.objid from pg_catalog.pg_depend d join pg_catalog.pg_type t on t.typrelid = own.oid
	where d.classid = 1255 and d.refclassid = 1247 and d.refobjid in (t.oid, t.typarray))
	where p.prokind <> 'a' and p.oid >= 16384`

const triggersOf = own + `select pg_catalog.pg_get_triggerdef(g.oid) from own join pg_catalog.pg_trigger g on g.tgrelid = own.oid
	where not g.tgisinternal and g.tgparentid = 0
	union all select pg_catalog.format('alter table %s %s trigger %I', own.name, case g.tgenabled when 'D' then 'disable'
	when 'R' then 'enable replica' else 'enable always' end, g.tgname) from own join pg_catalog.pg_trigger g on g.tgrelid = own.oid
	where not g.tgisinternal and g.tgenabled <> 'O'
	union all select pg_catalog.pg_get_ruledef(w.oid) from own join pg_catalog.pg_rewrite w on w.ev_class = own.oid where w.rulename <>
	'_RETURN'`

const policiesOf = own + `select pg_catalog.format('create policy %I on %s as %s for %s to %s%s%s', p.polname, own.name,
	case when p.polpermissive then 'permissive' else 'restrictive' end, case p.polcmd when 'r' then 'select' when 'a' then 'insert'
	when 'w' then 'update' when 'd' then 'delete' else 'all' end, (select pg_catalog.string_agg(case r when 0 then 'public'
	else pg_catalog.quote_ident(pg_catalog.pg_get_userbyid(r)) end, ', ') from pg_catalog.unnest(p.polroles) r),
	' using (' || pg_catalog.pg_get_expr(p.polqual, p.polrelid) || ')', ' with check (' || pg_catalog.pg_get_expr(p.polwithcheck,
	p.polrelid) || ')')
	from own join pg_catalog.pg_policy p on p.polrelid = own.oid
	union all select pg_catalog.format('alter table %s enable row level security', own.name) from own
	join pg_catalog.pg_class c on c.oid = own.oid where c.relrowsecurity
	union all select pg_catalog.format('alter table %s force row level security', own.name) from own
	join pg_catalog.pg_class c on c.oid = own.oid where c.relforcerowsecurity`

// publicationsOf are those that name the table, where they may hold only a part of it with their columns and conditions.
func publicationsOf(parts bool) string {
	filter := ""
	if parts {
		filter = ` || coalesce((select ' (' || pg_catalog.string_agg(pg_catalog.quote_ident(a.attname), ', ' order by a.attnum) || ')'
			from pg_catalog.pg_attribute a where a.attrelid = own.oid and a.attnum = any (p.prattrs)), '')
			|| coalesce(' where (' || pg_catalog.pg_get_expr(p.prqual, p.prrelid) || ')', '')`
	}
	return own + `select pg_catalog.format('alter publication %I add table %s', b.pubname, own.name)` + filter + `
		from own join pg_catalog.pg_publication_rel p on p.prrelid = own.oid join pg_catalog.pg_publication b on b.oid = p.prpubid`
}

// ownersAround are the owners, but for superusers, of a table, its partitions and the views on them.
const ownersAround = `with recursive v(oid) as (select $1::pg_catalog.oid
	union select t.relid from pg_catalog.pg_partition_tree($1::pg_catalog.oid::pg_catalog.regclass) t
	union select w.ev_class from v join pg_catalog.pg_depend d on d.refclassid = 1259 and d.refobjid = v.oid and d.classid = 2618
	join pg_catalog.pg_rewrite w on w.oid = d.objid)
	select distinct r.rolname::pg_catalog.text from v join pg_catalog.pg_class c on c.oid = v.oid
	join pg_catalog.pg_roles r on r.oid = c.relowner where not r.rolsuper order by 1`

// viewDefinition makes a view, with its owner, grants, indexes, rules and triggers.
const viewDefinition = `pg_catalog.format('create %sview %s%s as %s; alter %sview %s owner to %I', case relkind when 'm' then
	'materialized ' end,
	name, ' with (' || pg_catalog.array_to_string(reloptions, ', ') || ')', pg_catalog.rtrim(pg_catalog.pg_get_viewdef(oid), ';'),
	case relkind when 'm' then 'materialized ' end, name, pg_catalog.pg_get_userbyid(relowner))
	|| coalesce((select pg_catalog.string_agg('; ' || pg_catalog.pg_get_indexdef(i.indexrelid), '' order by i.indexrelid)
	from pg_catalog.pg_index i where i.indrelid = own.oid), '')
	|| coalesce((select '; ' || pg_catalog.string_agg(pg_catalog.format('grant %s on table %s to %s', g.privilege_type, name, case g.grantee
	when 0 then 'public' else pg_catalog.quote_ident(pg_catalog.pg_get_userbyid(g.grantee)) end), '; ')
	from pg_catalog.aclexplode(relacl) g where g.grantee <> relowner), '')
	|| coalesce('; ' || pg_catalog.format('comment on %sview %s is %L', case relkind when 'm' then 'materialized ' end, name,
	pg_catalog.obj_description(oid, 'pg_class')), '')
	|| coalesce((select '; ' || pg_catalog.string_agg(pg_catalog.rtrim(pg_catalog.pg_get_ruledef(w.oid), ';'), '; ' order by w.oid)
	from pg_catalog.pg_rewrite w where w.ev_class = own.oid and w.rulename <> '_RETURN'), '')
	|| coalesce((select '; ' || pg_catalog.string_agg(pg_catalog.pg_get_triggerdef(g.oid), '; ' order by g.oid)
	from pg_catalog.pg_trigger g where g.tgrelid = own.oid and not g.tgisinternal), '')`

// viewsOf are those that read the table, and those that read these, with their owners and grants.
const viewsOf = `with recursive v(oid, depth) as (select $1::pg_catalog.oid, 0 union select w.ev_class, v.depth + 1
	from v join pg_catalog.pg_depend d on d.refclassid = 1259 and d.refobjid = v.oid and d.classid = 2618
	join pg_catalog.pg_rewrite w on w.oid = d.objid where w.ev_class <> v.oid and v.depth < 100),
	own as (select c.oid, c.relowner, c.relacl, c.relkind, c.reloptions, pg_catalog.format('%I.%I', n.nspname, c.relname) as name,
	pg_catalog.max(v.depth) as depth from v join pg_catalog.pg_class c on c.oid = v.oid and c.relkind in ('v', 'm')
	join pg_catalog.pg_namespace n on n.oid = c.relnamespace group by 1, 2, 3, 4, 5, 6)
	select 'relation', name, ` + viewDefinition + `
	from own order by depth, oid`

const commentsOf = own + `select pg_catalog.format('comment on table %s is %L', own.name, d.description) from own
	join pg_catalog.pg_description d on d.classoid = 1259 and d.objoid = own.oid and d.objsubid = 0
	union all select pg_catalog.format('comment on column %s.%I is %L', own.name, a.attname, d.description) from own
	join pg_catalog.pg_attribute a on a.attrelid = own.oid
	join pg_catalog.pg_description d on d.classoid = 1259 and d.objoid = own.oid and d.objsubid = a.attnum and a.attnum > 0
	union all select pg_catalog.format('comment on index %I.%I is %L', n.nspname, x.relname, d.description) from own
	join pg_catalog.pg_index i on i.indrelid = own.oid join pg_catalog.pg_class x on x.oid = i.indexrelid
	join pg_catalog.pg_namespace n on n.oid = x.relnamespace
	join pg_catalog.pg_description d on d.classoid = 1259 and d.objoid = x.oid and d.objsubid = 0
	union all select pg_catalog.format('comment on constraint %I on %s is %L', k.conname, own.name, d.description) from own
	join pg_catalog.pg_constraint k on k.conrelid = own.oid join pg_catalog.pg_description d on d.classoid = 2606 and d.objoid = k.oid
	union all select pg_catalog.format('comment on trigger %I on %s is %L', g.tgname, own.name, d.description) from own
	join pg_catalog.pg_trigger g on g.tgrelid = own.oid join pg_catalog.pg_description d on d.classoid = 2620 and d.objoid = g.oid
	union all select pg_catalog.format('comment on policy %I on %s is %L', p.polname, own.name, d.description) from own
	join pg_catalog.pg_policy p on p.polrelid = own.oid join pg_catalog.pg_description d on d.classoid = 3256 and d.objoid = p.oid`
