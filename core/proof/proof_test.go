package proof

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"velvetrewind/core/journal"
	"velvetrewind/core/moment"
)

func TestBoundary(t *testing.T) {
	b := moment.Boundary{Stop: 0x100, End: 0x100}
	assert.Equal(t, Passed, Boundary(b, 0x100).Verdict)
	c := Boundary(b, 0x108)
	assert.Equal(t, Failed, c.Verdict)
	assert.Contains(t, c.Summary, "0/108")
	assert.Contains(t, Boundary(moment.Boundary{Stop: 0x100, End: 0x120, Inclusive: true}, 0x120).Summary, "after the record at 0/100")
}

func TestTransaction(t *testing.T) {
	commit := journal.Commit{XID: 7, Time: time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)}
	for status, want := range map[string]struct{ in, out Verdict }{
		StatusCommitted:  {Passed, Failed},
		StatusInProgress: {Failed, Passed},
		StatusAborted:    {Failed, Passed},
		StatusUnknown:    {CouldNotRun, CouldNotRun},
	} {
		assert.Equal(t, want.in, Transaction(commit, true, status).Verdict, "in, %q", status)
		assert.Equal(t, want.out, Transaction(commit, false, status).Verdict, "out, %q", status)
	}
}

func TestPages(t *testing.T) {
	good := PageCounts{Files: 2, Pages: 9, Checksums: true}
	assert.Equal(t, Passed, Pages(good).Verdict)
	bad := good
	bad.FaultCount, bad.Faults = 1, []string{"base/5/16385, block 7: checksum"}
	assert.Equal(t, Failed, Pages(bad).Verdict)
	assert.Contains(t, Pages(bad).Summary, "block 7")
	bad.Checksums = false
	assert.Equal(t, Failed, Pages(bad).Verdict, "a broken header is a fault without checksums too")
	cut := good
	cut.Unreadable = "input/output error"
	assert.Equal(t, CouldNotRun, Pages(cut).Verdict)
	assert.Contains(t, Pages(cut).Summary, "stopped after 9 pages: input/output error")
	assert.Equal(t, CouldNotRun, Pages(PageCounts{Files: 2, Checksums: true}).Verdict, "where nothing was seen nothing is proved")
	good.Checksums = false
	assert.Equal(t, CouldNotRun, Pages(good).Verdict, "without checksums nothing is proved")
}

func TestTables(t *testing.T) {
	live := int64(3)
	tables := []Table{{Database: "saltmarsh", Name: "public.booking", Copy: 5, Live: &live}, {Name: "public.harbor", Copy: 8}}
	c := Tables(tables, time.Now(), "")
	assert.Equal(t, Passed, c.Verdict)
	assert.Contains(t, c.Summary, "2 tables read to the end, 13 rows")
	assert.Contains(t, Tables(tables, time.Now(), "refused").Summary, "not compared with the live cluster: refused")
	assert.Contains(t, Tables(tables, time.Date(2026, 11, 26, 9, 5, 1, 0, time.UTC), "").Summary,
		"; live rows counted at 2026-11-26 09:05:01 UTC")
	tables[1].Problem = "invalid page"
	c = Tables(tables, time.Now(), "")
	assert.Equal(t, Failed, c.Verdict)
	assert.Contains(t, c.Summary, "1 of 2 tables could not be read to the end")
	assert.Contains(t, Tables([]Table{tables[0], {Problem: "locked", Locked: true}, {Problem: "locked", Locked: true}}, time.Now(),
		"").Summary, "2 of 3 tables are held")
	unsafe := Table{Name: "crew.rota", Problem: "it would call functions", Unsafe: true}
	c = Tables([]Table{unsafe, tables[0], unsafe}, time.Now(), "")
	assert.Equal(t, CouldNotRun, c.Verdict)
	assert.Contains(t, c.Summary, "2 of 3 tables cannot be read safely")
	assert.Equal(t, Failed, Tables(append(tables, unsafe), time.Now(), "").Verdict)
}

func TestOverallIsTheWorst(t *testing.T) {
	assert.Equal(t, Passed, Overall([]Check{{Verdict: Passed}}))
	assert.Equal(t, CouldNotRun, Overall(nil), "nothing was observed")
	assert.Equal(t, CouldNotRun, Overall([]Check{{Verdict: CouldNotRun}, {Verdict: Passed}}))
	assert.Equal(t, Failed, Overall([]Check{{Verdict: CouldNotRun}, {Verdict: Failed}, {Verdict: Passed}}))
}

func TestLockedTables(t *testing.T) {
	locked := Table{Name: "crew.shift", Problem: "canceling statement due to lock timeout", Locked: true}
	assert.Equal(t, CouldNotRun, Tables([]Table{{Name: "a"}, locked}, time.Now(), "").Verdict)
	assert.Equal(t, Failed, Tables([]Table{{Name: "a", Problem: "invalid page"}, locked}, time.Now(), "").Verdict)
}
