package shapes

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/engine/catalog"
)

var noon = time.Date(2027, 3, 10, 12, 0, 0, 0, time.UTC)

// TestPace tells how fast a task goes, and how long it may still take.
func TestPace(t *testing.T) {
	running := catalog.Task{State: catalog.TaskRunning, Done: 300, Total: 1200}
	running.StartedAt.Time, running.StartedAt.Valid = noon, true
	v, err := Task(running, nil)
	require.NoError(t, err)
	v.Rate, v.Left = 0, nil
	addPace(&v, running, noon.Add(10*time.Second))
	assert.InDelta(t, 30, v.Rate, 0.001)
	require.NotNil(t, v.Left)
	assert.InDelta(t, 30, *v.Left, 0.001)
	ended := running
	ended.State, ended.FinishedAt.Time, ended.FinishedAt.Valid = catalog.TaskDone, noon.Add(4*time.Second), true
	v, err = Task(ended, nil)
	require.NoError(t, err)
	assert.InDelta(t, 4, v.Seconds, 0.001)
	assert.Nil(t, v.Left, "nothing is left to do")
}
