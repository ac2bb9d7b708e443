package remains

import (
	"bytes"
	"context"
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/pg"
	"velvetrewind/testbed"
)

// TestWhatIsLeft reads what a server that was killed has left: not while it runs, not what does not go on where captured WAL ends, and
// nothing beyond the last whole record; and it changes nothing.
func TestWhatIsLeft(t *testing.T) {
	t.Parallel()
	b := testbed.New(t)
	p := b.Postgres("ferries", true)
	conn := p.Connect("postgres")
	ctx, z := context.Background(), pg.DefaultSegmentSize
	p.Exec("postgres", "create table cargo (id int)", "insert into cargo select generate_series(1, 1000)")
	id := uint64(testbed.One[int64](b, conn, "select system_identifier from pg_control_system()"))
	flushed := func() pg.LSN {
		at, err := pg.ParseLSN(testbed.One[string](b, conn, "select pg_current_wal_flush_lsn()::text"))
		require.NoError(t, err)
		return at
	}
	from := flushed()
	p.Exec("postgres", "insert into cargo select generate_series(1, 100000)", "select pg_switch_wal()",
		"insert into cargo select generate_series(1, 1000)")
	end := flushed()
	_, err := Open(b.Host, p.DataDir, id, z)
	require.ErrorIs(t, err, ErrRuns)
	require.NoError(t, conn.Close(ctx))
	p.Kill()
	_, err = Open(b.Host, p.DataDir, id+1, z)
	require.ErrorContains(t, err, "system identifier")

	before := contents(t, p.DataDir)
	left, err := Open(b.Host, p.DataDir, id, z)
	require.NoError(t, err)
	defer func() { require.NoError(t, left.Close()) }()
	file := func(at pg.LSN) string {
		return filepath.Join(p.DataDir, "pg_wal", pg.Segment{Timeline: 1, Number: z.Number(at)}.Name(z))
	}
	theirs, err := os.ReadFile(file(from))
	require.NoError(t, err)
	captured := func() io.Reader { return bytes.NewReader(theirs[:z.Offset(from)]) }
	is, err := left.End(ctx, 1, from, captured())
	require.NoError(t, err)
	assert.GreaterOrEqual(t, is, end)
	var taken []byte
	require.NoError(t, left.Take(ctx, 1, from, is, func(at pg.LSN, part []byte) error {
		require.Equal(t, from+pg.LSN(len(taken)), at)
		taken = append(taken, part...)
		return nil
	}))
	require.Len(t, taken, int(is-from))
	assert.Equal(t, theirs[z.Offset(from):], taken[:int64(z)-z.Offset(from)])
	assert.Equal(t, before, contents(t, p.DataDir), "nothing was changed")

	other := bytes.Clone(theirs[:z.Offset(from)])
	other[len(other)-1] ^= 1
	_, err = left.End(ctx, 1, from, bytes.NewReader(other))
	require.ErrorIs(t, err, ErrOther)
	_, err = left.End(ctx, 1, from, bytes.NewReader(other[:len(other)-1]))
	require.ErrorIs(t, err, ErrOther)
	nothing, err := left.End(ctx, 1, z.Start(z.Number(is)+7)+5, nil)
	require.NoError(t, err)
	assert.Equal(t, z.Start(z.Number(is)+7)+5, nothing, "there is no such segment")

	// The last record is torn: what comes before it is all that there is.
	f, err := os.OpenFile(file(is-1), os.O_RDWR, 0)
	require.NoError(t, err)
	_, err = f.WriteAt([]byte{0xff}, z.Offset(is-1)-8)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	torn, err := left.End(ctx, 1, from, captured())
	require.NoError(t, err)
	assert.Less(t, torn, is)
	assert.Greater(t, torn, from)
}

// contents is the WAL of a data directory, by name.
func contents(t *testing.T, dir string) map[string]string {
	list, err := filepath.Glob(filepath.Join(dir, "pg_wal", "0*"))
	require.NoError(t, err)
	found := make(map[string]string)
	for _, name := range list {
		content, err := os.ReadFile(name)
		require.NoError(t, err)
		found[name] = string(content)
	}
	return found
}
