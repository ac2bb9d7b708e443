package main

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/parquet-go/parquet-go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/api"
	"velvetrewind/testbed"
)

// TestJournal has things happen to a cluster and asks the journal what happened.
func TestJournal(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.ferries.Exec("postgres", "create schema crew", "create table crew.shift (id int primary key, note text)",
		"insert into crew.shift select n, 'x' from generate_series(1, 50) n",
		"create table invoice (id int primary key, body text)",
		"insert into invoice select n, repeat(md5(n::text), 200) from generate_series(1, 300) n",
		"create table berth (id int)", "insert into berth select generate_series(1, 1400)", "analyze")
	s.protect()
	s.service.Must("backup", "take", "ferries", "--checkpoint", "fast")
	d := s.operations()
	s.captured()
	t.Run("operations are told", func(t *testing.T) { s.tellOperations(t, d) })
	t.Run("moments by operation", func(t *testing.T) { s.momentsByOperation(t, d) })
	t.Run("what is open, rolled back or unclear", s.unclear)
	t.Run("incidents", func(t *testing.T) { s.incidents(t, d) })
	t.Run("export", s.export)
	t.Run("segments are located", func(t *testing.T) { s.locate(t, d) })
	t.Run("indexes are made again", func(t *testing.T) { s.indexesAgain(t, d) })
	t.Run("restores", func(t *testing.T) { s.restoresByOperation(t, d) })
}

// TestTruncatedInSavepoints has one transaction truncate tables within a savepoint and beside it, so that the log has
// their new files in another order than the server lists the old ones: none gets the other's name.
func TestTruncatedInSavepoints(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.protect()
	x := s.in("savepoint a", "truncate payment", "release savepoint a", "truncate booking")
	after := s.in("insert into payment select n, n from generate_series(1, 3) n")
	s.captured()
	s.Eventually("the journal tells it", func() bool { return s.service.Velvet("changes", "show", "ferries", after).Code == 0 })
	for _, table := range []string{"payment", "booking"} {
		assert.Equal(t, "0 0 0 truncate", tell(s.change(x), table), table)
	}
	s.Eventually("the new file has its name", func() bool { return tell(s.change(after), "payment") == "3 0 0 " })
	assert.Equal(t, "nothing", tell(s.change(after), "booking"))
}

// operations are the transaction ids of what was done.
type operations struct {
	smallDelete, bigDelete, truncate, rewrite, drop, create, between string
	base, noon                                                       string
}

// in runs statements in one transaction and returns its id.
func (s *stage) in(statements ...string) string {
	s.Helper()
	tx, err := s.db.Begin(context.Background())
	require.NoError(s, err)
	for _, q := range statements {
		_, err := tx.Exec(context.Background(), q)
		require.NoError(s, err, q)
	}
	var id string
	require.NoError(s, tx.QueryRow(context.Background(), "select pg_current_xact_id()::text").Scan(&id))
	require.NoError(s, tx.Commit(context.Background()))
	return id
}

func (s *stage) operations() (d operations) {
	var list []api.Backup
	s.service.JSON(&list, "backup", "list", "ferries")
	d.base = list[0].ID
	s.in("insert into journal values (1)")
	d.smallDelete = s.in("delete from booking where id <= 2", "update booking set note = 'x' where id between 10 and 19")
	s.in("select pg_create_restore_point('low tide')", "insert into journal values (2)")
	s.in("savepoint a", "delete from booking where id between 10 and 14", "rollback to a", "insert into journal values (3)")
	d.bigDelete = s.in("delete from booking where id > 3000")
	d.noon = time.Now().Format("15:04:05.000")
	d.truncate = s.in("truncate crew.shift", "insert into crew.shift values (1, 'anew')")
	d.rewrite = s.in("alter table invoice alter column id type bigint")
	s.ferries.Exec("postgres", "vacuum full invoice")
	d.between = s.in("insert into invoice values (1000, 'one more')")
	d.drop = s.in("drop table invoice")
	d.create = s.in("create table quay (id int primary key, note text)",
		"insert into quay select n, repeat('q', 3000) from generate_series(1, 20) n")
	s.in("delete from berth where id > 400")
	s.ferries.Exec("postgres", "alter table berth set tablespace ledger", "reindex table booking",
		"create temporary table puddle as select 1 as n")
	return d
}

func (s *stage) change(xid string) api.Transaction {
	s.Helper()
	var list api.Changes
	s.service.JSON(&list, "changes", "show", "ferries", xid)
	require.Len(s, list.Transactions, 1)
	return list.Transactions[0]
}

// tell finds what a transaction did to a table.
func tell(x api.Transaction, table string) string {
	for _, c := range x.Tables {
		if c.Table == table {
			return fmt.Sprintf("%d %d %d %s", c.Inserted, c.Updated, c.Deleted, strings.Join(c.Operations, " "))
		}
	}
	return "nothing"
}

func (s *stage) tellOperations(t *testing.T, d operations) {
	for _, c := range []struct{ xid, table, want string }{
		{d.smallDelete, "booking", "0 10 2 "},
		{d.bigDelete, "booking", "0 0 17000 "},
		{d.truncate, "crew.shift", "1 0 0 truncate"},
		{d.rewrite, "invoice", "0 0 0 rewrite alter"},
		{d.between, "invoice", "1 0 0 "},
		{d.drop, "invoice", "0 0 0 drop"},
		{d.create, "quay", "20 0 0 create"},
	} {
		x := s.change(c.xid)
		assert.Equal(t, c.want, tell(x, c.table), "tx %s", c.xid)
		assert.Equal(t, "postgres", x.Database)
		assert.False(t, x.Partial)
	}
	var list api.Changes
	s.service.JSON(&list, "changes", "list", "ferries", "--table", "berth", "--kind", "rewrite")
	require.Len(t, list.Transactions, 1, "SET TABLESPACE")
	s.service.JSON(&list, "changes", "biggest", "ferries", "--kind", "delete", "--limit", "2")
	require.Len(t, list.Transactions, 2)
	assert.Equal(t, d.bigDelete, fmt.Sprint(list.Transactions[0].XID))
	assert.Equal(t, "0 0 1000 ", tell(list.Transactions[1], "berth"))
	s.service.JSON(&list, "changes", "list", "ferries", "--table", "booking", "--kind", "delete", "--since", "1h ago")
	assert.Len(t, list.Transactions, 2, "what was rolled back to a savepoint is not told")
	s.service.JSON(&list, "changes", "list", "ferries", "--table", "booking", "--min-rows", "100", "--database", "postgres",
		"--kind", "delete")
	assert.Len(t, list.Transactions, 1)
	s.service.JSON(&list, "changes", "list", "ferries", "--until", "2020-01-01 00:00 Z")
	assert.Empty(t, list.Transactions)
	s.service.JSON(&list, "changes", "list", "ferries", "--limit", "3")
	assert.True(t, list.More)
	assert.Contains(t, s.service.Must("changes", "show", "ferries", d.truncate), "truncate")
	out := s.service.Must("changes", "rows", "ferries", d.create, "--table", "quay", "--limit", "2")
	assert.Regexp(t, `(?s)quay\n +place +id +note\ninsert  \(0,1\) +1 +q{47}…\ninsert  \(0,2\) +2 +q{47}…\nThere are more`, out)
	assert.Contains(t, s.service.Must("changes", "rows", "ferries", d.drop, "--table", "invoice"), "select * from \"public\".\"invoice\"")
	s.refused(1, []string{"changed no table berth"}, "changes", "rows", "ferries", d.create, "--table", "berth")
	s.refused(1, []string{"no such transaction", "has not begun"}, "changes", "rows", "ferries", "1999999999", "--table", "quay")
	s.refused(1, []string{"1 to 1000"}, "changes", "rows", "ferries", d.create, "--table", "quay", "--limit", "0")
	s.refused(1, []string{"no such transaction", "has not begun"}, "changes", "show", "ferries", "1999999999")
	s.refused(1, []string{"choose one of insert"}, "changes", "list", "ferries", "--kind", "lost")
	s.refused(1, []string{"before noon\n^", "begins no time"}, "changes", "list", "ferries", "--since", "before noon")
}

func (s *stage) explain(moment string) (m api.Moment) {
	s.Helper()
	s.service.JSON(&m, "moment", moment, "--cluster", "ferries")
	return m
}

func (s *stage) momentsByOperation(t *testing.T, d operations) {
	for moment, xid := range map[string]string{
		"before delete of booking":                       d.bigDelete, // outweighs the small one
		"before delete of public.booking near " + d.noon: d.bigDelete,
		"before truncate of crew.shift":                  d.truncate,
		"before truncate of shift near 1s ago":           d.truncate,
		"before drop of postgres.public.invoice":         d.drop,
		"before tx " + d.create:                          d.create,
	} {
		m := s.explain(moment)
		require.NotNil(t, m.Boundary.FirstOut, moment)
		assert.Equal(t, xid, fmt.Sprint(m.Boundary.FirstOut.XID), moment)
		assert.Equal(t, xid, fmt.Sprint(m.Around[m.Kept].XID), moment)
		assert.Equal(t, m.Boundary.LastIn.XID, m.Around[m.Kept-1].XID, moment)
		require.NotNil(t, m.Plan, moment)
		assert.GreaterOrEqual(t, m.Cost.Transactions, int64(1), moment)
	}
	m := s.explain("before delete of booking")
	assert.Contains(t, m.Note, "chosen over other deletes of booking, of which the largest removed 2 rows")
	assert.Equal(t, "0 0 17000 ", tell(api.Transaction{Tables: m.Cost.Tables}, "booking"), "what going back undoes")
	assert.Equal(t, "20 0 0 create", tell(api.Transaction{Tables: m.Cost.Tables}, "quay"))
	assert.Zero(t, s.explain("latest").Cost.Transactions)
	assert.Equal(t, d.smallDelete, fmt.Sprint(s.explain("restore point low tide").Boundary.LastIn.XID))
	mark := s.explain("restore point low tide").Boundary
	assert.Equal(t, mark.End, s.explain("before lsn "+mark.End.String()).Boundary.End)
	s.Eventually("the time of the operations is known", func() bool {
		return s.service.Velvet("moment", "today "+d.noon, "--cluster",
			"ferries").Code == 0
	})
	assert.NotNil(t, s.explain("today "+d.noon).UTC)
	out := s.service.Must("moment", "before delete of booking", "--cluster", "ferries")
	assert.Contains(t, out, "-17,000 booking")
	assert.Contains(t, out, "Going back here undoes")
}

func (s *stage) unclear(t *testing.T) {
	ctx := context.Background()
	open, err := s.ferries.Connect("postgres").Begin(ctx)
	require.NoError(t, err)
	defer func() { _ = open.Rollback(ctx) }()
	var id string
	require.NoError(t, open.QueryRow(ctx, "with i as (insert into journal values (50)) select pg_current_xact_id()::text").Scan(&id))
	two := s.ferries.Connect("postgres")
	_, err = two.PgConn().Exec(ctx, "begin; delete from berth where id = 350; prepare transaction 'ebb'").ReadAll()
	require.NoError(t, err)
	prepared := testbed.One[string](s.Bed, s.db, "select transaction::text from pg_prepared_xacts")
	s.in("delete from berth where id = 351")
	s.in("select pg_create_restore_point('low tide')")
	s.in("create table crew.booking (id int)", "insert into crew.booking values (1)")
	s.in("delete from crew.booking")
	s.captured()
	for moment, says := range map[string][]string{
		"before tx " + id:                                {"is still open"},
		"before tx " + prepared:                          {`was prepared as "ebb"`},
		"restore point low tide":                         {"2 restore points", "Choose one:", "lsn 0/"},
		"before delete of booking":                       {"more than one table", "postgres.public.booking", "postgres.crew.booking"},
		"before truncate of booking":                     {"no transaction in the captured WAL truncated booking"},
		"before delete of berth near 2026-01-01 10:00 Z": {"within 15 minutes", "At other times:", "before tx"},
	} {
		s.refused(1, says, "moment", moment, "--cluster", "ferries")
	}
	_, err = s.db.Exec(ctx, "commit prepared 'ebb'")
	require.NoError(t, err)
	s.captured()
	x := s.change(prepared)
	assert.Equal(t, "ebb", x.GID)
	assert.Equal(t, "0 0 1 ", tell(x, "berth"))

	// The API does not guess a zone.
	for text, status := range map[string]int{"2026-11-23 14:03": 422, "today 14:03": 422, "latest": 200} {
		body, err := json.Marshal(map[string]string{"moment": text})
		require.NoError(t, err)
		answer, content := s.call(http.MethodPost, "/clusters/ferries/moment", body)
		assert.Equal(t, status, answer, text)
		if status == 422 {
			assert.Contains(t, content, "zone is missing")
		}
	}
}

// call asks the API itself.
func (s *stage) call(method, path string, body []byte) (status int, content string) {
	token, err := os.ReadFile(s.Path("home", "token"))
	require.NoError(s, err)
	r, err := http.NewRequest(method, s.service.URL+"/api/v1"+path, bytes.NewReader(body))
	require.NoError(s, err)
	r.Header.Set("Authorization", "Bearer "+strings.TrimSpace(string(token)))
	r.Header.Set("Content-Type", "application/json")
	answer, err := http.DefaultClient.Do(r)
	require.NoError(s, err)
	defer func() { _ = answer.Body.Close() }()
	text, err := io.ReadAll(answer.Body)
	require.NoError(s, err)
	return answer.StatusCode, string(text)
}

func (s *stage) incidents(t *testing.T, d operations) {
	reasons := func() map[string]string {
		var list []api.Incident
		s.service.JSON(&list, "changes", "list", "ferries", "--incidents")
		found := make(map[string]string)
		for _, i := range list {
			found[fmt.Sprint(i.XID)] = strings.Join(i.Reasons, "; ")
		}
		return found
	}
	s.Eventually("incidents are recorded", func() bool { return len(reasons()) >= 4 })
	found := reasons()
	assert.Equal(t, "17,000 rows of booking were deleted", found[d.bigDelete])
	assert.Equal(t, "crew.shift was truncated", found[d.truncate])
	assert.Equal(t, "invoice was dropped", found[d.drop])
	assert.Len(t, found, 4, "the fourth by its share; moving and reindexing are none: %v", found)
	before := len(s.cluster().Incidents)
	assert.Contains(t, s.service.Must("cluster", "list"), "17,000 rows of booking were deleted")
	s.service.Must("changes", "settle", "ferries", d.bigDelete)
	assert.Len(t, s.cluster().Incidents, before-1)
	s.refused(1, []string{"is no incident"}, "changes", "settle", "ferries", d.create)

	assert.Contains(t, s.service.Must("cluster", "edit", "ferries"), "10,000 or more are an incident")
	assert.Contains(t, s.service.Must("cluster", "edit", "ferries", "--alert-rows", "5", "--alert-drops=false"), "5 or more")
	s.refused(1, []string{"cannot be a limit"}, "cluster", "edit", "ferries", "--alert-share", "7")
	s.Eventually("the new rule holds", func() bool {
		s.in("insert into berth select generate_series(1, 9)", "delete from berth where id < 10")
		return len(reasons()) > 4
	})
}

func (s *stage) export(t *testing.T) {
	s.captured() // nothing more comes between one form and the next
	dir := t.TempDir()
	path := func(name string) string { return filepath.Join(dir, name) }
	for _, name := range []string{"all.csv", "all.json", "all.parquet"} {
		s.service.Must("changes", "export", "ferries", "--to", path(name))
		s.refused(1, []string{"is there already"}, "changes", "export", "ferries", "--to", path(name))
	}
	s.refused(1, []string{"choose csv, json or parquet"}, "changes", "export", "ferries", "--to", path("all.xls"))
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, left, 3, "nothing unfinished is left")
	content, err := os.ReadFile(path("all.csv"))
	require.NoError(t, err)
	rows, err := csv.NewReader(bytes.NewReader(content)).ReadAll()
	require.NoError(t, err)
	type line struct {
		Transaction uint64 `json:"transaction" parquet:"transaction"`
		Table       string `json:"table" parquet:"table"`
		Deleted     int64  `json:"deleted" parquet:"deleted"`
	}
	columns, err := parquet.ReadFile[line](path("all.parquet"))
	require.NoError(t, err)
	require.Len(t, columns, len(rows)-1)
	assert.True(t, slices.ContainsFunc(columns, func(l line) bool { return l.Table == "booking" && l.Deleted == 17000 }))
	content, err = os.ReadFile(path("all.json"))
	require.NoError(t, err)
	var objects []line
	for d := json.NewDecoder(bytes.NewReader(content)); d.More(); {
		var l line
		require.NoError(t, d.Decode(&l))
		objects = append(objects, l)
	}
	assert.Equal(t, columns, objects)
	assert.Equal(t, fmt.Sprint(columns[0].Transaction), rows[1][0])
}

func (s *stage) locate(t *testing.T, d operations) {
	find := func(moment string) (l api.Located) {
		s.service.JSON(&l, "segment", "locate", moment, "--cluster", "ferries")
		return l
	}
	l := find("before tx " + d.drop)
	assert.Contains(t, []string{"spool", "store"}, l.Where, "it depends on how much WAL there has been")
	require.NotNil(t, l.Record)
	assert.Equal(t, "Transaction COMMIT", l.Record.Manager+" "+l.Record.Kind)
	assert.Equal(t, d.drop, fmt.Sprint(l.Record.XID))
	assert.NotEmpty(t, l.Record.Fields)
	again := find("lsn " + l.LSN.String())
	assert.Equal(t, l.Segment, again.Segment)
	assert.Equal(t, l.Record.End, again.Record.End)
	assert.Equal(t, "store", find("lsn 0/1000100").Where)
	assert.Equal(t, "absent", find("lsn 7F/0").Where)
}

// indexesAgain takes index objects away or breaks them, and asks the same again.
func (s *stage) indexesAgain(t *testing.T, d operations) {
	testbed.One[string](s.Bed, s.db, "select pg_switch_wal()::text")
	s.in("insert into journal values (90)")
	testbed.One[string](s.Bed, s.db, "select pg_switch_wal()::text")
	s.in("insert into journal values (91)")
	s.captured()
	s.Eventually("the operations are in the store", func() bool {
		var l api.Located
		s.service.JSON(&l, "segment", "locate", "before tx "+d.create, "--cluster", "ferries")
		return l.Where == "store"
	})
	before := s.change(d.bigDelete)
	var all []string
	s.Eventually("there is an index for each finished segment", func() bool {
		var complete bool
		all, complete = s.indexes()
		return complete && len(all) > 3
	})
	for i, path := range all {
		if i%2 == 0 {
			require.NoError(t, os.Remove(path))
			continue
		}
		content, err := os.ReadFile(path)
		require.NoError(t, err)
		content[len(content)/2] ^= 0x10
		require.NoError(t, os.WriteFile(path, content, 0o600))
	}
	assert.Equal(t, before, s.change(d.bigDelete))
	for _, path := range all {
		assert.FileExists(t, path, "it was made again")
	}
	assert.Equal(t, d.truncate, fmt.Sprint(s.explain("before truncate of crew.shift").Boundary.FirstOut.XID))
	s.damagedSegment(d)
}

// damagedSegment breaks a segment in the store whose index is gone too.
func (s *stage) damagedSegment(d operations) {
	var l api.Located
	s.service.JSON(&l, "segment", "locate", "before tx "+d.bigDelete, "--cluster", "ferries")
	k := s.cluster()
	index := s.Path("home", "store", "clusters", k.ID, "journal", "00000001", l.Segment)
	segment := s.Path("home", "store", "clusters", k.ID, "wal", "00000001", l.Segment)
	kept, err := os.ReadFile(segment)
	require.NoError(s, err)
	require.NoError(s, os.Remove(index))
	for says, content := range map[string][]byte{
		"checksum is wrong": slices.Concat(kept[:len(kept)/2], []byte{kept[len(kept)/2] ^ 1}, kept[len(kept)/2+1:]),
		"cut short":         kept[:len(kept)-100],
		"not an object":     make([]byte, len(kept)),
	} {
		require.NoError(s, os.WriteFile(segment, content, 0o600))
		s.refused(1, []string{"captured WAL cannot be read", l.Segment, says, "take a base backup"}, "changes", "show",
			"ferries", d.bigDelete)
	}
	require.NoError(s, os.WriteFile(segment, kept, 0o600))
	assert.Equal(s, d.bigDelete, fmt.Sprint(s.change(d.bigDelete).XID))
}

func (s *stage) restoresByOperation(t *testing.T, d operations) {
	for moment, want := range map[string]string{
		"base " + d.base:                "20000 50 300",
		"before tx " + d.bigDelete:      "19998 50 300",
		"before truncate of crew.shift": "2998 50 300",
		"before drop of public.invoice": "2998 1 301",
	} {
		k, conn := s.restore(moment)
		got := testbed.One[string](s.Bed, conn, "select (select count(*) from booking) || ' ' || (select count(*) from crew.shift) || ' "+
			"' || (select count(*) from invoice)")
		assert.Equal(t, want, got, moment)
		s.discard(k)
	}
}
