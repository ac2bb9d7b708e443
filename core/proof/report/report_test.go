package report

import (
	"encoding/csv"
	"encoding/xml"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/journal"
	"velvetrewind/core/moment"
	"velvetrewind/core/proof"
)

// TestReport writes a proof whose names are markup: nothing of them is taken for that, and nothing is fetched.
func TestReport(t *testing.T) {
	live := int64(955)
	noon := time.Date(2026, 11, 27, 12, 0, 0, 0, time.UTC)
	evil := `<script src="http://reef.example/x.js">"'&`
	r := &Report{
		Proof:    "p1",
		Copy:     "k1",
		Cluster:  "ferries",
		SystemID: 7,
		Server:   "15.18",
		Started:  noon,
		Finished: noon.Add(3 * time.Second),
		Boundary: moment.Boundary{Moment: "before tx 1715", LastIn: &journal.Commit{XID: 1714, Time: noon}},
		Verdict:  proof.Failed,
		Phases:   []Phase{{"laying out", 90 * time.Second}, {"replay", 3 * time.Minute}},
		Checks: []proof.Check{
			{Name: proof.Place, Area: proof.AreaBoundary, Verdict: proof.Passed, Summary: "as planned", Took: 40 * time.Millisecond},
			{Name: proof.Heap, Area: proof.AreaStructure, Verdict: proof.CouldNotRun, Summary: "locked",
				LeftOut: []proof.Finding{{Where: "saltmarsh.crew", What: "a transaction holds it"}}},
			{Name: proof.Content, Area: proof.AreaContent, Verdict: proof.Failed, Summary: evil, Next: "Look at it.",
				Wrong: []proof.Finding{{Where: evil, What: "1 fewer"}},
				Tables: []proof.Table{
					{Database: "saltmarsh", Name: evil, Copy: 200_931, Live: &live, Agrees: proof.Failed, Cause: "1 fewer"},
				}},
		},
	}
	page, err := r.HTML()
	require.NoError(t, err)
	html := string(page)
	assert.NotContains(t, html, "<script")
	assert.NotRegexp(t, `<[^>]*(src|href)=`, html)
	for _, want := range []string{"✕ failed", "200,931", "1714", "Look at it.", "saltmarsh.crew: a transaction holds it", "90.0 s",
		"3m0s"} {
		assert.Contains(t, html, want)
	}
	assert.Less(t, strings.Index(html, "What to look at"), strings.Index(html, "as planned"), "what failed comes first")
	again, err := r.HTML()
	require.NoError(t, err)
	assert.Equal(t, page, again)

	lines, err := r.CSV()
	require.NoError(t, err)
	rows, err := csv.NewReader(strings.NewReader(string(lines))).ReadAll()
	require.NoError(t, err)
	require.Len(t, rows, 4)
	assert.Equal(t, []string{"p1", "ferries", "before tx 1715", "content", "content", "failed", "0.000", evil}, rows[3])

	b, err := r.JUnit()
	require.NoError(t, err)
	var s suite
	require.NoError(t, xml.Unmarshal(b, &s))
	assert.Equal(t, []int{3, 1, 1}, []int{s.Tests, s.Failures, s.Errors})
	assert.Equal(t, evil, s.Cases[2].Failure.Message)
}
