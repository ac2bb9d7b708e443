package bench

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"velvetrewind/api"
	"velvetrewind/core/layout"
	"velvetrewind/testbed"
)

// rescuing brings back the rows of a table that were deleted, beside a plain COPY of as many rows out of one table and into another
// with the same key.
func rescuing(b measure) {
	bed, p, s := stand(b, 1)
	p.Exec("postgres", "create table booking (id int primary key, crossing int, booked timestamptz, note text)",
		"create table plain (like booking including all)", fmt.Sprintf("insert into booking select n, n %% 8000, '2026-02-01', "+
			"case when n %% 5 = 0 then 'dog on a lead' end from generate_series(1, %d) n", b.rescued), "vacuum analyze booking")
	takeBackup(b, s, layout.Full)
	password := bed.Path("password")
	require.NoError(b, os.WriteFile(password, []byte(testbed.Password+"\n"), 0o600))
	var plain, took series
	for round := range b.warm + b.rounds {
		started := time.Now()
		require.EqualValues(b, b.rescued, copyPlainly(b, p))
		copied := time.Since(started)
		conn := p.Connect("postgres")
		accident := testbed.One[string](bed, conn, "with d as (delete from booking) select pg_current_xact_id()::text")
		caughtUp(bed, p, s)
		moment := "before tx " + accident
		s.Must("rescue", "apply", "original", moment, "--confirm", "original", "--as", testbed.Superuser, "--as-password-file", password)
		require.Equal(b, b.rescued, testbed.One[int](bed, conn, "select count(*) from booking"), "they are back")
		var list []api.Rescue
		s.JSON(&list, "rescue", "list", "original")
		require.Equal(b, "applied", list[0].State)
		var copies []api.Copy
		s.JSON(&copies, "copy", "list")
		s.Must("copy", "discard", copies[0].Name, "--confirm", "original")
		_, err := conn.Exec(context.Background(), "vacuum booking")
		require.NoError(b, err)
		require.NoError(b, conn.Close(context.Background()))
		if round >= b.warm {
			plain, took = append(plain, copied), append(took, list[0].EndedAt.Sub(list[0].BegunAt))
		}
	}
	b.ratio("rescue-x-plain-COPY", took, plain)
	b.report(took.median().Seconds(), "s-rescue")
	b.report(plain.median().Seconds(), "s-plain-COPY")
}

// copyPlainly copies a table's rows into another, which was empty.
func copyPlainly(b measure, p *testbed.Postgres) int64 {
	ctx := context.Background()
	from, to := p.Connect("postgres"), p.Connect("postgres")
	defer func() { require.NoError(b, errors.Join(from.Close(ctx), to.Close(ctx))) }()
	_, err := to.Exec(ctx, "truncate plain")
	require.NoError(b, err)
	read, write := io.Pipe()
	go func(from *pgx.Conn) {
		_, err := from.PgConn().CopyTo(ctx, write, "copy booking to stdout")
		_ = write.CloseWithError(err)
	}(from)
	tag, err := to.PgConn().CopyFrom(ctx, read, "copy plain from stdin")
	require.NoError(b, err)
	return tag.RowsAffected()
}
