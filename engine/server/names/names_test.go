package names_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/journal"
	"velvetrewind/core/pg"
	"velvetrewind/core/wal"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/server/access"
	"velvetrewind/engine/server/names"
	"velvetrewind/testbed"
)

// books opens the book of one cluster, each time as another instance of the service does.
func books(b *testbed.Bed) func() *names.Book {
	ctx := context.Background()
	c, err := catalog.Open(ctx, b.Postgres("catalogue", false).DSN(testbed.Superuser, "postgres")+" password='"+testbed.Password+"'")
	require.NoError(b, err)
	b.Cleanup(c.Close)
	k := catalog.Cluster{ID: catalog.NewID(), Name: "ferries", SystemID: 1, ServerVersion: 150000,
		SegmentSize: pg.DefaultSegmentSize, Slot: "s"}
	require.NoError(b, c.AddCluster(ctx, k))
	return func() *names.Book {
		book, err := (&names.Books{Catalog: c}).Of(ctx, k.ID)
		require.NoError(b, err)
		return book
	}
}

// TestNamesAreFollowed has tables renamed, truncated, dropped and their numbers used again: each file is called what it
// was called at a time, also by a book that reads what another one has kept.
func TestNamesAreFollowed(t *testing.T) {
	ctx := context.Background()
	b := testbed.New(t)
	p := b.Postgres("ferries", true)
	open := books(b)
	p.Exec("postgres", "create schema crew", "create table booking (id serial primary key, note text)",
		"insert into booking (note) select 'x' from generate_series(1, 500)",
		"create table crew.shift (id int)", "create table fare (season int) partition by list (season)",
		"create view tide as select 1 as n",
		"create function fare() returns int language sql as 'select 1'", "create materialized view season as select 1 as n", "analyze")
	conn := p.Connect("postgres")
	defer func() { _ = conn.Close(ctx) }()
	database := testbed.One[uint32](b, conn, "select oid from pg_database where datname = 'postgres'")
	file := func(relation string) wal.RelationRef {
		return wal.RelationRef{Space: 1663, Database: database, Filenode: testbed.One[uint32](b, conn,
			"select pg_relation_filenode($1::regclass)", relation)}
	}
	login := access.Access{ConnString: p.DSN(testbed.Superuser, "postgres"), Password: testbed.Password}
	book := open()
	_, known := book.Now()(file("booking"))
	require.False(t, known, "nobody has asked yet")
	require.NoError(t, book.Sample(ctx, login))

	booking, toast := file("booking"), file(testbed.One[string](b, conn,
		"select reltoastrelid::regclass::text from pg_class where relname = 'booking'"))
	is := func(lookup journal.Lookup, ref wal.RelationRef, label string, part journal.Part) {
		t.Helper()
		n, ok := lookup(ref)
		require.True(t, ok, label)
		assert.Equal(t, label, n.Label())
		assert.Equal(t, part, n.Part, label)
		assert.Equal(t, "postgres", n.Database)
	}
	is(book.Now(), booking, "booking", journal.Main)
	is(book.Now(), toast, "booking", journal.Toast)
	is(book.Now(), file("booking_pkey"), "booking", journal.Index)
	is(book.Now(), file("booking_id_seq"), "sequence booking_id_seq", journal.Sequence)
	is(book.Now(), file("crew.shift"), "crew.shift", journal.Main)
	is(book.Now(), file("season"), "season", journal.Main)
	n, _ := book.Now()(booking)
	assert.EqualValues(t, 500, book.Rows(journal.TableChange{Name: n}))

	before := testbed.One[time.Time](b, conn, "select clock_timestamp()")
	shift := file("crew.shift")
	p.Exec("postgres", "alter table booking rename to reservation", "drop table crew.shift", "truncate reservation",
		"create temp table passing (n int)")
	require.NoError(t, book.Sample(ctx, login))
	oid := func(of, name string) uint32 {
		return testbed.One[uint32](b, conn, "select oid from "+of+" where oid >= 16384 and "+name)
	}
	fare, view := journal.ByOID(database, oid("pg_class", "relname = 'fare'")),
		journal.ByObject(journal.View, database, oid("pg_class", "relname = 'tide'"))
	function, schema := journal.ByObject(journal.Function, database, oid("pg_proc", "proname = 'fare'")),
		journal.ByObject(journal.Schema, database, oid("pg_namespace", "nspname = 'crew'"))
	index := journal.ByObject(journal.IndexItself, database, oid("pg_class", "relname = 'booking_pkey'"))
	for _, book := range []*names.Book{book, open()} {
		is(book.Now(), fare, "fare", journal.Main)
		is(book.Now(), view, "view tide", journal.View)
		is(book.Now(), function, "function fare", journal.Function)
		is(book.Now(), schema, "schema crew", journal.Schema)
		is(book.Now(), index, "index booking_pkey", journal.IndexItself)
		is(book.At(before), booking, "booking", journal.Main)
		is(book.Now(), booking, "booking", journal.Main) // under that name it went
		is(book.Now(), file("reservation"), "reservation", journal.Main)
		is(book.At(before), file("reservation"), "reservation", journal.Main) // the first that was learned of it
		is(book.Now(), shift, "crew.shift", journal.Main)
	}

	// What a transaction that truncates says of its new files, and one of which the order is not known.
	made := func(n uint32) wal.RelationRef { return wal.RelationRef{Space: 1663, Database: database, Filenode: n} }
	at := time.Now()
	old := file("reservation")
	assert.False(t, book.See(&journal.Transaction{Committed: true, Time: at, Created: []wal.RelationRef{made(900_001)},
		Dropped: []wal.RelationRef{old}}))
	is(book.Now(), made(900_001), "reservation", journal.Main)
	assert.True(t, book.See(&journal.Transaction{Committed: true, Time: at, Created: []wal.RelationRef{made(900_002)}}),
		"only the server can name it")
	assert.False(t, book.See(&journal.Transaction{Time: at, Created: []wal.RelationRef{made(900_003)}, Dropped: []wal.RelationRef{old}}),
		"rolled back")
	for _, n := range []uint32{900_002, 900_003} {
		_, known = book.Now()(made(n))
		assert.False(t, known)
	}
	require.NoError(t, book.Save(ctx))
	is(open().Now(), made(900_001), "reservation", journal.Main)

	// What the WAL tells of a new partition, before the server is asked; and of one that is attached later.
	at = testbed.One[time.Time](b, conn, "select clock_timestamp()")
	p.Exec("postgres", "create schema pier", "create table pier.fare_2026 partition of fare for values in (2026)",
		"create table fare_2019 (season int)")
	class := testbed.One[uint32](b, conn, "select oid from pg_namespace where nspname = 'pier'")
	public := testbed.One[uint32](b, conn, "select oid from pg_namespace where nspname = 'public'")
	table := func(schema uint32, relation, name string) journal.Named {
		return journal.Named{File: file(relation), OID: testbed.One[uint32](b, conn, "select $1::regclass::oid", relation), Schema: schema,
			Name: name}
	}
	assert.False(t, book.See(&journal.Transaction{Committed: true, Time: at, Named: []journal.Named{
		{File: journal.ByObject(journal.Schema, database, class), OID: class, Name: "pier", Part: journal.Schema},
		table(class, "pier.fare_2026", "fare_2026"), table(public, "fare_2019", "fare_2019")}}))
	first, later := file("pier.fare_2026"), file("fare_2019")
	is(book.Now(), first, "pier.fare_2026", journal.Main)
	require.NoError(t, book.Sample(ctx, login))
	attached := testbed.One[time.Time](b, conn, "select clock_timestamp()")
	p.Exec("postgres", "alter table fare attach partition fare_2019 for values in (2019)")
	require.NoError(t, book.Sample(ctx, login))
	for _, book := range []*names.Book{book, open()} {
		n, _ := book.Then(at)(first)
		assert.Equal(t, "public.fare", n.Above, "from the beginning")
		n, _ = book.Then(attached)(later)
		assert.Empty(t, n.Above, "not yet")
		n, _ = book.Now()(later)
		assert.Equal(t, "public.fare", n.Above)
		_, known := book.Then(at.Add(-time.Microsecond))(first)
		assert.False(t, known, "before it was made")
	}
}

// TestNamesInOtherEncodings has tables called in letters of other encodings, and in none. A database whose names the server
// cannot tell keeps none of the others from being known, here and to another instance.
func TestNamesInOtherEncodings(t *testing.T) {
	ctx := context.Background()
	b := testbed.New(t)
	p, open := b.Postgres("isles", true), books(b)
	login := access.Access{ConnString: p.DSN(testbed.Superuser, "postgres"), Password: testbed.Password}
	const latin, bytes, garbled = "caf\xe9", "quay\xff", "deep\x81" // the last is nothing in WIN1252
	named := make(map[string]journal.Named)
	for database, d := range map[string]struct{ encoding, table string }{
		"deep": {"WIN1252", garbled}, "isles": {"LATIN1", latin}, "reef": {"SQL_ASCII", bytes}} {
		p.Exec("postgres", "create database "+database+" encoding '"+d.encoding+"' lc_collate 'C' lc_ctype 'C' template template0")
		conn := p.Connect(database)
		_, err := conn.Exec(ctx, "set client_encoding = 'SQL_ASCII'")
		require.NoError(t, err)
		_, err = conn.PgConn().Exec(ctx, `create table "`+d.table+`" (n int)`).ReadAll()
		require.NoError(t, err)
		n := journal.Named{Name: d.table}
		require.NoError(t, conn.QueryRow(ctx, "select d.dattablespace, d.oid, c.oid, c.relfilenode, c.relnamespace from pg_class c, "+
			"pg_database d where d.datname = current_database() and c.relname like $1", d.table[:4]+"%").Scan(&n.File.Space,
			&n.File.Database, &n.OID, &n.File.Filenode, &n.Schema))
		named[database] = n
	}
	book := open()
	called := func(book *names.Book, database string) string {
		n, _ := book.Now()(named[database].File)
		return n.Table
	}
	require.ErrorContains(t, book.Sample(ctx, login), "database deep")
	for _, book := range []*names.Book{book, open()} {
		assert.Equal(t, "café", called(book, "isles"))
		assert.Equal(t, "quay\uFFFD", called(book, "reef"))
		assert.Empty(t, called(book, "deep"))
	}

	// What the WAL tells is in the database's encoding, too.
	at := time.Now()
	for database, n := range named {
		n.File.Filenode += 1000
		named[database] = n
		unclear := book.See(&journal.Transaction{Committed: true, Time: at, Named: []journal.Named{n}})
		assert.Equal(t, database != "isles", unclear, "the server must be asked of %s", database)
	}
	require.NoError(t, book.Save(ctx))
	for _, book := range []*names.Book{book, open()} {
		assert.Equal(t, "café", called(book, "isles"))
		assert.Empty(t, called(book, "reef"))
	}
}
