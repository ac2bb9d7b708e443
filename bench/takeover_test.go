package bench

import (
	"context"
	"os"
	"os/exec"
	"regexp"
	"strconv"
	"time"

	"github.com/stretchr/testify/require"

	"velvetrewind/api"
	"velvetrewind/core/layout"
	"velvetrewind/testbed"
)

// takingOver puts a copy in the place of its original again and again, from the word to the first query on what serves then, beside a
// plain copy of the same directory, which is the least that somebody does by hand.
func takingOver(b measure) {
	bed, p, s := stand(b, b.scale)
	takeBackup(b, s, layout.Full)
	phases := make(map[string]series)
	var plain, took series
	for round := range b.warm + b.rounds {
		started := time.Now()
		out, err := exec.Command("cp", "-a", p.DataDir, bed.Path("plain")).CombinedOutput()
		require.NoError(b, err, string(out))
		copied := time.Since(started)
		require.NoError(b, os.RemoveAll(bed.Path("plain")))
		p.Exec("postgres", "update pgbench_tellers set tbalance = 1")
		conn := p.Connect("postgres")
		accident := testbed.One[string](bed, conn, "with d as (delete from pgbench_tellers) select pg_current_xact_id()::text")
		require.NoError(b, conn.Close(context.Background()))
		caughtUp(bed, p, s)
		var k api.Copy
		s.JSON(&k, "restore", "start", "original", "before tx "+accident)
		started = time.Now()
		log := s.Must("restore", "takeover", k.Name, "--quick", "--confirm", "original")
		conn = p.Connect("postgres")
		require.Equal(b, b.scale*10, testbed.One[int](bed, conn, "select count(*) from pgbench_tellers"), "it serves, as it was")
		served := time.Since(started)
		require.NoError(b, conn.Close(context.Background()))
		settle(b, bed, s)
		if round < b.warm {
			continue
		}
		plain, took = append(plain, copied), append(took, served)
		for _, m := range phase.FindAllStringSubmatch(log, -1) {
			seconds, err := strconv.ParseFloat(m[2], 64)
			require.NoError(b, err)
			phases[m[1]] = append(phases[m[1]], time.Duration(seconds*float64(time.Second)))
		}
	}
	b.ratio("takeover-x-plain-copy", took, plain)
	b.report(took.median().Seconds(), "s-to-the-first-query")
	b.report(plain.median().Seconds(), "s-for-the-plain-copy")
	require.Len(b, phases, 7)
	for name, list := range phases {
		require.Len(b, list, len(took))
		b.report(list.median().Seconds(), "s-"+name)
	}
}

var phase = regexp.MustCompile(`(\w+): done in ([0-9.]+) s`)

// settle waits until what follows on a takeover is done, and removes what was set aside.
func settle(b measure, bed *testbed.Bed, s *testbed.Service) {
	bed.Eventually("it is captured, and its base backup taken", func() bool {
		var list []api.Task
		s.JSON(&list, "task", "list", "--active")
		return len(list) == 0 && cluster(s).Capture.State == "streaming"
	})
	var list []api.Takeover
	s.JSON(&list, "restore", "takeover", "history", "original")
	require.Equal(b, "in service", list[0].Step)
	s.Must("restore", "takeover", "clear", list[0].ID, "--confirm", "original")
}
