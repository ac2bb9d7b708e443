package main

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/api"
	"velvetrewind/testbed"
)

// TestStep moves a copy about: to another base and back, refused, killed on its way.
func TestStep(t *testing.T) {
	t.Parallel()
	s := newStage(t, "--tasks-per-cluster", "1")
	s.protect()
	s.service.Must("backup", "take", "ferries", "--checkpoint", "fast")
	first := s.commit(1)
	s.service.Must("backup", "take", "ferries", "--checkpoint", "fast")
	second := s.commit(2)
	s.ferries.Exec("postgres", "truncate payment", "drop table booking")
	s.captured()

	k, _ := s.restore("latest")
	assert.Contains(t, s.service.Must("prove", "run", k.ID), "verdict: passed")
	moved, conn := s.step(k, "tx "+first)
	assert.Equal(t, 1, testbed.One[int](s.Bed, conn, "select max(n) from journal"))
	assert.Equal(t, 21000, testbed.One[int](s.Bed, conn, "select (select count(*) from booking) + (select count(*) from payment)"),
		"what was dropped and truncated is back")
	assert.Equal(t, []any{k.ID, k.Port, k.Directory}, []any{moved.ID, moved.Port, moved.Directory})
	assert.NotEqual(t, k.Plan.Base, moved.Plan.Base, "the first base, for it is before the second")
	require.NotNil(t, moved.ReplayedTo)
	assert.True(t, moved.ReplayedTo.Equal(moved.Plan.Boundary.LastIn.Time), "the transaction itself is the last one that it holds: %s, %s",
		moved.ReplayedTo, moved.Plan.Boundary.LastIn.Time)
	assert.Nil(t, moved.Proof, "the proof was of another moment")
	assert.Equal(t, "step copy", s.task(moved.Task).Kind)
	assert.Contains(t, s.service.Must("task", "show", moved.Task), "stood there already")
	assert.Contains(t, s.service.Must("prove", "run", k.ID), "verdict: passed")

	for moment, says := range map[string]string{"before lsn 0/1800000": "no base backup ends at or before", "tx 1999999999": "out of reach",
		"yesterday": "cannot be read"} {
		s.refused(1, []string{says}, "copy", "step", k.ID, moment)
	}
	var still api.Copy
	s.service.JSON(&still, "copy", "show", k.ID)
	assert.Equal(t, []any{"paused", moved.Replayed}, []any{still.State, still.Replayed}, "a move that is refused leaves it where it is")
	require.NotNil(t, still.Proof)
	s.refused(1, []string{"plan anew"}, "task", "retry", s.cancelledWhileWaiting(k, "tx "+second))

	s.killedOnItsWay(k, "tx "+second)
	k, _ = s.restore("tx " + second)
	s.service.Must("copy", "open", k.ID)
	s.refused(1, []string{"only one that is paused or down can be moved", "velvet restore start ferries"}, "copy", "step", k.ID, "latest")
	s.discard(k)
}

// cancelledWhileWaiting cancels what waits for a base backup to end: a copy that was to be
// made is forgotten, and one that was to be moved is where it was.
func (s *stage) cancelledWhileWaiting(k api.Copy, moment string) (task string) {
	var backup, made, moved api.Task
	s.exec("create table foam as select generate_series(1, 100000) n") // much that a checkpoint has to write
	s.service.JSON(&backup, "backup", "take", "ferries", "--detach")   // a spread checkpoint: it takes its time
	s.Eventually("the backup runs", func() bool { return s.task(backup.ID).State == "running" })
	s.service.JSON(&made, "restore", "start", "ferries", moment, "--detach")
	s.service.JSON(&moved, "copy", "step", k.ID, moment, "--detach")
	var list []api.Copy
	s.service.JSON(&list, "copy", "list")
	require.Len(s, list, 2)
	s.service.Must("task", "cancel", made.ID)
	s.service.Must("task", "cancel", moved.ID)
	s.service.JSON(&list, "copy", "list")
	require.Len(s, list, 1)
	assert.Equal(s, []any{k.ID, "paused"}, []any{list[0].ID, list[0].State})
	s.service.Must("task", "cancel", backup.ID)
	s.Eventually("the backup is cancelled", func() bool { return s.task(backup.ID).State == "cancelled" })
	assert.Equal(s, "cancelled", s.task(made.ID).State)
	return moved.ID
}

// killedOnItsWay kills the service while a copy is moved.
func (s *stage) killedOnItsWay(k api.Copy, moment string) {
	var moved api.Task
	s.service.JSON(&moved, "copy", "step", k.ID, moment, "--detach")
	s.Eventually("it has left", func() bool {
		return s.task(moved.ID).FinishedAt != nil || !strings.Contains(s.service.Must("copy", "show", k.ID), "paused")
	})
	s.service.Kill()
	s.service.Start()
	s.Eventually("the task is known to have ended", func() bool { return s.task(moved.ID).FinishedAt != nil })
	var list []api.Copy
	s.service.JSON(&list, "copy", "list")
	if s.task(moved.ID).State == "failed" { // it had not arrived before the service died
		assert.Empty(s, list)
		assert.NoDirExists(s, k.Directory)
		return
	}
	s.discard(k)
}

func (s *stage) task(id string) api.Task {
	var shown struct{ Task api.Task }
	s.service.JSON(&shown, "task", "show", id)
	return shown.Task
}
