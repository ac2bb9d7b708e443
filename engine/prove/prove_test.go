package prove_test

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/layout"
	"velvetrewind/core/problem"
	"velvetrewind/core/proof"
	"velvetrewind/core/task"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/prove"
	"velvetrewind/testbed"
	"velvetrewind/testbed/clusterbed"
)

func TestMain(m *testing.M) { clusterbed.Main(m) }

var ctx = context.Background()

// TestProof proves a right copy, and finds what is wrong with one: a bit of a page that was flipped on disk, another
// boundary than was asked for.
func TestProof(t *testing.T) {
	c := clusterbed.New(testbed.New(t))
	c.Server.Exec("postgres", "create table booking (id int, note text)", "create table fare (id int)",
		"insert into booking select n, repeat('tide', 50) from generate_series(1, 5000) n", "insert into fare values (1)")
	c.Capture()
	c.Eventually("capture streams", func() bool { return c.State().Receives() })
	c.Take(layout.Full)
	c.Server.Exec("postgres", "delete from booking", "insert into fare values (2)")
	c.Captured()
	file := testbed.One[string](c.Bed, c.SQL, "select pg_relation_filepath('booking')")
	k := c.Copy(c.Maker(), "before delete of booking")
	prover := &prove.Prover{Cluster: c.Record, Access: c.Access(), Host: c.Host}
	checks := func(k catalog.Copy) map[string]proof.Check {
		list, err := prover.Run(ctx, k, task.Silent)
		require.NoError(t, err)
		by := make(map[string]proof.Check, len(list))
		for _, check := range list {
			by[check.Name] = check
		}
		return by
	}
	verdict := func(by map[string]proof.Check) proof.Verdict {
		var list []proof.Check
		for _, check := range by {
			list = append(list, check)
		}
		return proof.Overall(list)
	}

	right := checks(k)
	for name, check := range right {
		assert.Equal(t, proof.Passed, check.Verdict, "%s: %s", name, check.Summary)
	}
	tables := map[string]proof.Table{}
	for _, check := range right {
		for _, table := range check.Tables {
			tables[table.Name] = table
		}
	}
	assert.EqualValues(t, 5000, tables["public.booking"].Copy)
	assert.EqualValues(t, 0, *tables["public.booking"].Live, "the live one has lost them")
	assert.EqualValues(t, 1, tables["public.fare"].Copy)

	moved := k
	latest, err := c.Plan("latest")
	require.NoError(t, err)
	moved.Plan, err = json.Marshal(latest)
	require.NoError(t, err)
	assert.Equal(t, proof.Failed, verdict(checks(moved)), "it does not stand where it should")

	page, err := os.OpenFile(filepath.Join(k.Directory, "data", file), os.O_RDWR, 0)
	require.NoError(t, err)
	defer func() { _ = page.Close() }()
	const somewhere = 8192 + 4000 // in the second page
	flip := func() {
		b := make([]byte, 1)
		_, err := page.ReadAt(b, somewhere)
		require.NoError(t, err)
		_, err = page.WriteAt([]byte{b[0] ^ 1}, somewhere)
		require.NoError(t, err)
	}
	flip()
	wrong := checks(k)
	assert.Equal(t, proof.Failed, verdict(wrong))
	assert.Equal(t, proof.Failed, wrong["pages"].Verdict)
	flip()
	assert.Equal(t, proof.Passed, verdict(checks(k)), "it is right again")

	k.State = catalog.CopyDown
	_, err = prover.Run(ctx, k, task.Silent)
	var refused *problem.Problem
	require.ErrorAs(t, err, &refused)
	assert.Contains(t, refused.Detail, "only a paused or open copy")
}
