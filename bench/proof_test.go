package bench

import (
	"context"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"velvetrewind/api"
	"velvetrewind/core/pg"
	"velvetrewind/testbed"
)

// proving proves a copy, and holds its parts against the same done plainly: reading the files, and hashing the rows on the
// server. The commit log has as many transactions as b.commits; the check is looked at whether it saw them. The memory is that of a
// service which has done nothing else, beside that with a hundredth of the transactions.
func proving(b measure) {
	bed, p, s := stand(b, b.scale)
	takeBackup(b, s, "full")
	commit(b, p, b.commits/100)
	caughtUp(bed, p, s)
	s.Must("restore", "start", "original", "latest", "--name", "few")
	few := proofAlone(b, s, "few")
	s.Must("copy", "discard", "few", "--confirm", "original")
	commit(b, p, b.commits)
	caughtUp(bed, p, s)
	s.Must("restore", "start", "original", "latest", "--name", "look")
	many := proofAlone(b, s, "look")
	b.report(many, "MiB-for-a-proof")
	b.report(many/few, "times-the-memory-with-a-hundredth-of-the-transactions")
	compare(b, s)
}

// commit has transactions committed, each with an id of its own, that write nothing else.
func commit(b measure, p *testbed.Postgres, transactions int) {
	const atOnce = 100_000
	conn := p.Connect("postgres")
	_, err := conn.Exec(context.Background(), "set synchronous_commit = off")
	require.NoError(b, err)
	for done := 0; done < transactions; done += atOnce {
		_, err := conn.Exec(context.Background(), fmt.Sprintf(`do $$ begin for n in 1..%d loop perform pg_current_xact_id(); commit;
			end loop; end $$`, min(atOnce, transactions-done)))
		require.NoError(b, err)
	}
}

// proofAlone is the most memory, in MiB, of a service that was started to prove a copy.
func proofAlone(b measure, s *testbed.Service, name string) float64 {
	s.Stop()
	s.Start()
	s.Must("prove", "run", name)
	return resident(b, s.PID())
}

// compare proves the copy in turn with the same done plainly.
func compare(b measure, s *testbed.Service) {
	var k api.Copy
	s.JSON(&k, "copy", "show", "look")
	log, pages, hashed := make(series, b.rounds), make([]series, 2), make([]series, 2)
	for i := range 2 {
		pages[i], hashed[i] = make(series, b.rounds), make(series, b.rounds)
	}
	where := strings.Fields(k.WaysIn[1].Command) // psql -h SOCKET -p PORT -U ROLE
	look, err := pgx.Connect(context.Background(), fmt.Sprintf("host=%s port=%s user=%s dbname=postgres sslmode=disable",
		where[2], where[4], where[6]))
	require.NoError(b, err)
	defer func() { _ = look.Close(context.Background()) }()
	for i := range b.rounds {
		var proof api.Proof
		s.JSON(&proof, "prove", "run", "look")
		took := make(map[string]time.Duration)
		for _, c := range proof.Checks {
			took[c.Name] = time.Duration(c.Seconds * float64(time.Second))
			if c.Name == "commit log" {
				seen, _, _ := strings.Cut(strings.ReplaceAll(c.Summary, ",", ""), " ")
				n, err := strconv.Atoi(seen)
				require.NoError(b, err, c.Summary)
				require.Greater(b, n, b.commits, "it saw them all")
			}
		}
		log[i], pages[0][i], hashed[0][i] = took["commit log"], took["pages"], took["tables"]
		pages[1][i] = readFiles(b, filepath.Join(k.Directory, "data"))
		started := time.Now()
		var rows int64
		var sum string
		err := look.QueryRow(context.Background(), `select count(*), sum(hashtextextended(t::text, 0))::text from pgbench_accounts t`).
			Scan(&rows, &sum)
		require.NoError(b, err)
		require.EqualValues(b, b.scale*100_000, rows)
		hashed[1][i] = time.Since(started)
	}
	b.ratio("times-as-long-as-reading-the-files", pages[0], pages[1])
	b.ratio("times-as-long-as-hashing-the-rows-of-the-largest-table", hashed[0], hashed[1])
	b.spread("s-for-the-commit-log", b.rounds, func(i int) float64 { return log[i].Seconds() })
}

// readFiles reads the relation files below a directory and throws away what it read.
func readFiles(b measure, dir string) time.Duration {
	started := time.Now()
	buf := make([]byte, 64*pg.BlockSize)
	err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		rel, _ := filepath.Rel(dir, path)
		if _, ok := pg.ParseRelationFile(rel); err != nil || !ok || d.IsDir() {
			return err
		}
		f, err := os.Open(path)
		if err != nil {
			return err
		}
		defer func() { _ = f.Close() }()
		_, err = io.CopyBuffer(struct{ io.Writer }{io.Discard}, struct{ io.Reader }{f}, buf)
		return err
	})
	require.NoError(b, err)
	return time.Since(started)
}
