package main

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/testbed"
)

// TestLimitsRaisedAfterTheBase restores over moments at which the original was given more
// connections and the like than at its base backup: recovery pauses there, short of its moment.
func TestLimitsRaisedAfterTheBase(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	b := s.Bed
	s.protect()
	s.service.Must("backup", "take", "ferries")
	s.commit(1)
	for _, more := range []string{"max_connections = 151", "max_prepared_transactions = 17", "max_locks_per_transaction = 99"} {
		require.NoError(t, s.db.Close(context.Background()))
		s.ferries.Configure(more)
		s.ferries.Stop("fast")
		s.ferries.Start()
		s.db = s.ferries.Connect("postgres")
		s.commit(testbed.One[int](b, s.db, "select max(n) + 1 from journal"))
	}
	last := s.commit(9)
	s.commit(10)
	s.streaming()
	s.captured()
	k, conn := s.restore("tx " + last)
	assert.Equal(t, "1,2,3,4,9", testbed.One[string](b, conn, numbersOf))
	assert.Equal(t, "151 17 99", testbed.One[string](b, conn,
		"select current_setting('max_connections') || ' ' || current_setting('max_prepared_transactions') || ' ' || "+
			"current_setting('max_locks_per_transaction')"))
	require.NoError(t, conn.Close(context.Background()))
	s.discard(k)
}
