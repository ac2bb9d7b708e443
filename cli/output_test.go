package cli

import (
	"bytes"
	"testing"
	"time"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"

	"velvetrewind/api"
	"velvetrewind/core/problem"
	"velvetrewind/core/proof"
	"velvetrewind/core/readiness"
)

func TestFactsAreAligned(t *testing.T) {
	var out bytes.Buffer
	facts(&out, "copy", "01m8", "nothing", "", "replay stops", "before\nthe record")
	assert.Equal(t, "copy          01m8\nreplay stops  before\n              the record\n", out.String())
}

func TestErrorsSayWhatToDo(t *testing.T) {
	var out bytes.Buffer
	explain(&out, &api.Problem{Title: "the cluster was not added", Detail: "wal_level is minimal",
		Next: "ALTER SYSTEM …;\n-- then restart"})
	assert.Equal(t, "velvet: the cluster was not added\n  why:  wal_level is minimal\n  next: ALTER SYSTEM …;\n        -- then restart\n",
		out.String())
	assert.Equal(t, problem.Unconfirmed, kindOf(&api.Problem{Type: api.ProblemType + "unconfirmed"}))
	assert.Empty(t, kindOf(assert.AnError))
	out.Reset()
	cmd := &cobra.Command{}
	cmd.SetErr(&out)
	_, err := readMoment(cmd, "tx twelve")
	assert.Equal(t, "tx twelve\n   ^\n", out.String())
	assert.Equal(t, problem.Invalid, kindOf(err))
}

func TestAProofShowsWhatFailedFirst(t *testing.T) {
	live := int64(5)
	var out bytes.Buffer
	drawProof(&out, api.Proof{Verdict: "failed", Copy: "01m8", Moment: "latest", Checks: []api.Check{
		{Name: "boundary", Verdict: string(proof.Passed), Summary: "as planned"},
		{Name: "pages", Verdict: string(proof.Failed), Summary: "1 of 9 pages is damaged"},
		{Name: "last transaction in", Verdict: string(proof.CouldNotRun), Summary: "forgotten"},
		{Name: "tables", Verdict: string(proof.Passed), Summary: "3 tables", Tables: []api.Table{
			{Database: "saltmarsh", Name: "public.booking", Copy: 1200, Live: &live, Cause: "1,195 more than live"},
			{Database: "saltmarsh", Name: "public.gone", Copy: 3},
			{Database: "saltmarsh", Name: "public.torn", Problem: "invalid page"},
		}},
	}})
	text := out.String()
	order := []string{"failed: copy 01m8 at latest", "1 of 9 pages", "forgotten", "as planned", "rows in the copy", "1,200",
		"1,195 more than live",
		"not read", "invalid page"}
	for last := -1; len(order) > 0; order = order[1:] {
		at := bytes.Index([]byte(text), []byte(order[0]))
		assert.Greater(t, at, last, "%q is out of order in\n%s", order[0], text)
		last = at
	}
}

func TestReadinessNamesTheRemedy(t *testing.T) {
	var out bytes.Buffer
	drawReadiness(&out, api.ReadinessReport{Facts: api.ReadinessFacts{VersionText: "15.18"}, Checks: []api.ReadinessCheck{
		{ID: "a", Title: "Data checksums", State: string(readiness.Advised), Found: "off"},
		{ID: "wal_level", Title: "wal_level", State: string(readiness.Needed), Found: "minimal", Why: "too little",
			SQL: []string{"ALTER SYSTEM SET wal_level = 'replica';"}, After: "restart"},
		{ID: "v", Title: "Version", State: string(readiness.OK), Found: "15"},
	}})
	assert.Less(t, bytes.Index(out.Bytes(), []byte("needed: ")), bytes.Index(out.Bytes(), []byte("advised: ")),
		"what is needed comes first")
	for _, want := range []string{"PostgreSQL 15.18", "needed: wal_level: minimal  [wal_level]", "      ALTER SYSTEM", "must be restarted",
		"right: Version (15)", "cannot be protected yet: 1 needed"} {
		assert.Contains(t, out.String(), want)
	}
}

func TestPlansAndAmounts(t *testing.T) {
	var out bytes.Buffer
	drawPlan(&out, api.Restore{Base: "01m8", Count: 3, First: "A", Last: "C", Replay: 1 << 20})
	assert.Contains(t, out.String(), "no transaction that is known")
	assert.Contains(t, out.String(), "3 segments, A to C; 1.0 MiB to replay")
	assert.Equal(t, "1.0 KiB of 2.0 KiB (50 %), reading x", amount(api.Task{Done: 1024, Total: 2048, Unit: "bytes", Note: "reading x"}))
	assert.Equal(t, "3 of 7 tables, y", amount(api.Task{Done: 3, Total: 7, Unit: "tables", Note: "y"}))
	assert.Equal(t, "12,000 pages, z", amount(api.Task{Done: 12000, Unit: "pages", Note: "z"}))
	assert.Equal(t, "waiting", amount(api.Task{Note: "waiting"}))
	var log bytes.Buffer
	v := &lines{out: &log}
	v.line(api.Line{At: time.Now(), Level: "warning", Text: "low tide"})
	v.progress(api.Task{State: "running", Note: "n"})
	assert.Contains(t, log.String(), " ! low tide")
}
