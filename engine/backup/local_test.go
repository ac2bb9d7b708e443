package backup

import (
	"context"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/testbed"
)

// TestOnlyTheServersOwnDirectoryIsRead takes a data directory for the server's own only if all of its marks say so: another
// cluster's, a copy of it, or one that is left of an earlier start is not.
func TestOnlyTheServersOwnDirectoryIsRead(t *testing.T) {
	ctx := context.Background()
	p := testbed.New(t).Postgres("original", false)
	conn := p.Connect("postgres")
	defer func() { _ = conn.Close(ctx) }()
	var id int64
	var started time.Time
	const marks = "select system_identifier, pg_postmaster_start_time() from pg_control_system()"
	require.NoError(t, conn.QueryRow(ctx, marks).Scan(&id, &started))
	assert.Equal(t, p.DataDir, localRoot(ctx, conn, uint64(id)))
	assert.Empty(t, localRoot(ctx, conn, uint64(id)+1), "of another cluster")

	pidFile := p.DataDir + "/postmaster.pid"
	content, err := os.ReadFile(pidFile)
	require.NoError(t, err)
	mark := func(line int, text string) {
		lines := strings.Split(string(content), "\n")
		lines[line] = text
		require.NoError(t, os.WriteFile(pidFile, []byte(strings.Join(lines, "\n")), 0o600))
	}
	defer func() { require.NoError(t, os.WriteFile(pidFile, content, 0o600)) }()
	at := func(after time.Duration) string { return strconv.FormatInt(started.Add(after).Unix(), 10) }
	for after, own := range map[time.Duration]bool{0: true, -30 * time.Second: true, -2 * time.Minute: false, 3 * time.Second: false,
		time.Hour: false, -time.Hour: false} {
		mark(2, at(after))
		assert.Equal(t, own, localRoot(ctx, conn, uint64(id)) != "", "begun %s after the server says that it did", after)
	}
	mark(2, "noon")
	assert.Empty(t, localRoot(ctx, conn, uint64(id)))
	mark(3, "1")
	assert.Empty(t, localRoot(ctx, conn, uint64(id)), "of a server on another port")
	require.NoError(t, os.WriteFile(pidFile, content[:len(content)/8], 0o600))
	assert.Empty(t, localRoot(ctx, conn, uint64(id)), "cut short")
}
