package problem

import (
	"errors"
	"io"
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestProblems are one sentence after the other: what happened, why, what to do; and are found in whatever wraps them.
func TestProblems(t *testing.T) {
	assert.Equal(t, "nothing was done", (&Problem{Title: "nothing was done"}).Error())
	assert.Equal(t, "nothing was done: the tide is 3 m", New(Conflict, "", "nothing was done", "the tide is %d m", 3).Error())
	assert.Equal(t, "nothing was done. Wait", (&Problem{Title: "nothing was done", Next: "Wait"}).Error())
	whole := New(Conflict, "Wait", "nothing was done", "the tide is high")
	assert.Equal(t, "nothing was done: the tide is high. Wait", whole.Error())
	assert.Same(t, whole, Wrap(errors.Join(io.EOF, whole), Failed, "it failed", "Look"))
	wrapped := Wrap(io.EOF, Failed, "it failed", "Look")
	assert.Equal(t, &Problem{Kind: Failed, Title: "it failed", Detail: "EOF", Next: "Look", Err: io.EOF}, wrapped)
	assert.ErrorIs(t, wrapped, io.EOF)
}
