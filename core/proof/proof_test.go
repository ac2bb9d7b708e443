package proof

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"velvetrewind/core/journal"
	"velvetrewind/core/moment"
	"velvetrewind/core/pg"
)

func TestBoundary(t *testing.T) {
	b := moment.Boundary{Stop: 0x100, End: 0x100, Timeline: 2}
	assert.Equal(t, Passed, Boundary(b, Standing{LSN: 0x100, Timeline: 2}).Verdict)
	c := Boundary(b, Standing{LSN: 0x108, Timeline: 2})
	assert.Equal(t, Failed, c.Verdict)
	assert.Contains(t, c.Summary, "0/108")
	assert.Contains(t, Boundary(b, Standing{LSN: 0x100, Timeline: 1}).Summary, "timeline 2 was planned")
	inclusive := moment.Boundary{Stop: 0x100, End: 0x120, Inclusive: true}
	assert.Contains(t, Boundary(inclusive, Standing{LSN: 0x120}).Summary, "after the record at 0/100")
}

func TestTransaction(t *testing.T) {
	commit := journal.Commit{XID: 7, Time: time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)}
	for status, want := range map[Status]struct{ in, out Verdict }{
		Committed:  {Passed, Failed},
		InProgress: {Failed, Passed},
		Aborted:    {Failed, Passed},
		Unseen:     {Failed, Passed},
		Forgotten:  {CouldNotRun, CouldNotRun},
	} {
		assert.Equal(t, want.in, Transaction(commit, true, status, false).Verdict, "in, %s", status)
		assert.Equal(t, want.out, Transaction(commit, false, status, false).Verdict, "out, %s", status)
	}
	assert.Equal(t, Passed, Transaction(commit, false, Committed, true).Verdict, "the copy has used its id for itself")
}

// TestCommitLogAgainstAModel holds random logs, with one status changed or none, against what is expected.
func TestCommitLogAgainstAModel(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		first := pg.FullXID(rapid.Uint64Range(3, 1<<40).Draw(t, "first"))
		statuses := rapid.SliceOfN(rapid.SampledFrom([]Status{Committed, Aborted, InProgress, Unseen}), 1, 300).Draw(t, "statuses")
		var l CommitLog
		for i, s := range statuses {
			l.Expect(first+pg.FullXID(i), s == Committed)
		}
		seen := append([]Status(nil), statuses...)
		wrong := rapid.Bool().Draw(t, "one is wrong")
		if wrong {
			at := rapid.IntRange(0, len(seen)-1).Draw(t, "which")
			if seen[at] == Committed {
				seen[at] = rapid.SampledFrom([]Status{Aborted, InProgress, Unseen}).Draw(t, "status")
			} else {
				seen[at] = Committed
			}
		}
		for _, n := range l.Pages() {
			start := pg.FullXID(n * LogPage)
			var page []byte
			for i := range LogPage {
				if x := start + pg.FullXID(i); x >= first && x < first+pg.FullXID(len(seen)) {
					page = append(page, byte(seen[x-first]))
				} else {
					page = append(page, byte(Committed)) // of no concern
				}
			}
			settled := true
			for i, s := range statuses {
				if x := first + pg.FullXID(i); x >= start && x < start+LogPage {
					settled = settled && (s == Committed && seen[i] == Committed || s != Committed && seen[i] == Aborted)
				}
			}
			assert.Equal(t, settled, l.Settled(start, page))
			l.See(start, page)
		}
		assert.Equal(t, wrong, l.Check().Verdict == Failed)
	})
}

func TestStatusesOnDisk(t *testing.T) {
	assert.Equal(t, "icai"+"caic"+"iiii", string(Statuses([]byte{0b11_10_01_00, 0b01_11_10_01, 0})))
	var l CommitLog
	assert.True(t, l.Settled(0, nil), "nothing is expected of it")
	l.Expect(5, true)
	assert.False(t, l.Settled(0, []byte("cccccc")), "less than a page")
}

func TestCommitLogThatIsCutShort(t *testing.T) {
	var l CommitLog
	l.Expect(5, true)
	l.Expect(6, true)
	l.See(0, []byte("ccccc"))
	assert.Equal(t, Failed, l.Check().Verdict, "what is not there is not committed")
	var cut CommitLog
	cut.Expect(5, true)
	cut.See(0, []byte("ffffff"))
	c := cut.Check()
	assert.Equal(t, Passed, c.Verdict)
	assert.Contains(t, c.Notes[0], "older than the copy's commit log")
	cut.Halt("the connection ended")
	assert.Equal(t, CouldNotRun, cut.Check().Verdict)
}

func TestPages(t *testing.T) {
	good := PageCounts{Files: 2, Pages: 9, Checksums: true}
	assert.Equal(t, Passed, Pages(&good).Verdict)
	bad := good
	bad.Wrong.Add("base/5/16385, block 7", "checksum")
	assert.Equal(t, Failed, Pages(&bad).Verdict)
	assert.Contains(t, Pages(&bad).Summary, "block 7")
	map1 := good
	map1.Harmless.Add("base/5/16385_fsm, block 0", "checksum")
	assert.Equal(t, Passed, Pages(&map1).Verdict)
	assert.Contains(t, Pages(&map1).Notes[0], "harmless")
	cut := good
	cut.Unreadable = "input/output error"
	assert.Equal(t, CouldNotRun, Pages(&cut).Verdict)
	assert.Equal(t, CouldNotRun, Pages(&PageCounts{Files: 2, Checksums: true}).Verdict, "where nothing was seen nothing is proved")
	good.Checksums = false
	assert.Contains(t, Pages(&good).Summary, "no data checksums")
}

func TestJudge(t *testing.T) {
	o := Observed{Unit: "foreign keys", Seen: 3}
	assert.Equal(t, Passed, Judge(ForeignKeys, &o).Verdict)
	assert.Empty(t, Judge(ForeignKeys, &o).Next)
	o.LeftOut.Add("a.b", "locked")
	assert.Equal(t, CouldNotRun, Judge(ForeignKeys, &o).Verdict)
	for range 2 * mostFindings {
		o.Wrong.Add("c.d", "orphans")
	}
	c := Judge(ForeignKeys, &o)
	assert.Equal(t, Failed, c.Verdict)
	assert.Len(t, c.Wrong, mostFindings)
	assert.Contains(t, c.Summary, "wrong: 40")
	assert.NotEmpty(t, c.Next)
	assert.Equal(t, CouldNotRun, Judge(Log, &Observed{Unit: "lines", Halted: "no end"}).Verdict)
	assert.Equal(t, CouldNotRun, Unable(Roles, assert.AnError).Verdict)
}

// TestExplain has differences between a copy and its live cluster be explained, or not.
func TestExplain(t *testing.T) {
	count := func(n int64) *int64 { return &n }
	tx := func(id pg.FullXID, counts ...int64) func(*Since) {
		return func(s *Since) {
			var c journal.TableChange
			copy(c.Counts[:], counts)
			s.Add(&journal.Transaction{XID: id}, &c, c.Counts[journal.Insert])
		}
	}
	truncate := func(id pg.FullXID, rows int64) func(*Since) {
		return func(s *Since) {
			c := journal.TableChange{}
			c.Counts[journal.Truncate], c.Counts[journal.Insert] = 1, rows
			s.Add(&journal.Transaction{XID: id}, &c, rows)
		}
	}
	for name, c := range map[string]struct {
		copy, live       int64
		sum, liveSum     string
		changes          []func(*Since)
		partition, blind bool
		want             Verdict
		cause            string
	}{
		"nothing happened": {copy: 5, live: 5, sum: "1", liveSum: "1", want: Passed},
		"other rows, as many": {copy: 5, live: 5, sum: "1", liveSum: "2", want: Failed,
			cause: "the journal has no change of it since, yet its rows are not the same"},
		"the columns are others": {copy: 5, live: 5, sum: "1", want: Passed},
		"fewer for no reason":    {copy: 4, live: 5, want: Failed, cause: "1 fewer than live, but the journal has no change of it since"},
		"deleted, and some new": {copy: 200_931, live: 955, changes: []func(*Since){tx(1715, 0, 0, 200_931), tx(1720, 955)},
			want: Passed, cause: "199,976 more than live = 200,931 deleted by tx 1715 − 955 inserted since"},
		"one too few is left": {copy: 200_931, live: 954, changes: []func(*Since){tx(1715, 0, 0, 200_931), tx(1720, 955)},
			want: Failed, cause: "199,977 more than live, but by the journal it should be 199,976 more than live " +
				"(200,931 deleted by tx 1715 − 955 inserted since)"},
		"truncated and filled": {copy: 30, live: 4, changes: []func(*Since){tx(6, 3), truncate(7, 2), tx(8, 2)}, want: Passed,
			cause: "26 more than live = 30 truncated by tx 7 − 4 inserted since"},
		"updated": {copy: 5, live: 5, sum: "1", liveSum: "2", changes: []func(*Since){tx(7, 0, 3)}, want: Passed,
			cause: "as many as live (3 updated since)"},
		"moved to another": {copy: 5, live: 3, changes: []func(*Since){tx(7, 0, 4)}, partition: true, want: Passed,
			cause: "2 more than live (4 updated since) 2 moved to other partitions by updates"},
		"moved, but no partition": {copy: 5, live: 3, changes: []func(*Since){tx(7, 0, 4)}, want: Failed},
		"tables without a name": {copy: 5, live: 3, blind: true, want: CouldNotRun,
			cause: "2 more than live, by the journal as many as live, but tx 9 has no name"},
		"other rows, and no names": {copy: 5, live: 5, sum: "1", liveSum: "2", blind: true, want: CouldNotRun},
	} {
		table, since := Table{Copy: c.copy, Live: count(c.live), Sum: c.sum, LiveSum: c.liveSum}, new(Since)
		for _, change := range c.changes {
			change(since)
		}
		unsure := ""
		if c.blind {
			unsure = "tx 9 has no name"
		}
		table.Explain(since, c.partition, unsure)
		assert.Equal(t, c.want, table.Agrees, name)
		if c.cause != "" {
			assert.Equal(t, c.cause, table.Cause, name)
		}
	}
	partial, since := Table{Copy: 5, Live: count(3)}, new(Since)
	since.Add(&journal.Transaction{XID: 7, Partial: true}, &journal.TableChange{}, 0)
	partial.Explain(since, false, "")
	assert.Equal(t, CouldNotRun, partial.Agrees)
	gone, dropped := Table{Copy: 5}, new(Since)
	drop := journal.TableChange{}
	drop.Counts[journal.Drop] = 1
	dropped.Add(&journal.Transaction{XID: 9}, &drop, 0)
	gone.Explain(dropped, false, "")
	assert.Equal(t, "dropped by tx 9", gone.Cause)
}

func TestAgainstAnEarlierProof(t *testing.T) {
	then := time.Date(2026, 11, 26, 9, 5, 1, 0, time.UTC)
	for _, c := range []struct {
		now, earlier Table
		fails        bool
	}{
		{Table{Copy: 5, Sum: "1"}, Table{Copy: 5, Sum: "1"}, false},
		{Table{Copy: 5, Sum: "1"}, Table{Copy: 5, Sum: "2"}, true},
		{Table{Copy: 5, Sum: "1"}, Table{Copy: 6}, true},
		{Table{Copy: 5, Sum: "1", Columns: "id integer"}, Table{Copy: 5, Sum: "2", Columns: "id bigint"}, false},
		{Table{Problem: "locked"}, Table{Copy: 6}, false},
	} {
		c.now.Against(&c.earlier, then)
		assert.Equal(t, c.fails, c.now.Agrees == Failed, "%+v", c)
	}
}

func TestTables(t *testing.T) {
	tables := []Table{
		{Database: "saltmarsh", Name: "public.booking", Copy: 5, Agrees: Passed},
		{Name: "public.harbor", Copy: 8, Agrees: Passed},
	}
	assert.Equal(t, "2 tables read to the end, 13 rows", Reading(Heap, tables, Findings{}, 0).Summary)
	assert.Equal(t, Passed, Compared(tables, time.Now(), "").Verdict)
	c := Compared(tables, time.Now(), "refused")
	assert.Equal(t, CouldNotRun, c.Verdict, "the live cluster was not compared")
	assert.Contains(t, c.Summary, "refused")
	var wrong Findings
	wrong.Add("saltmarsh.public.booking", "invalid page")
	assert.Equal(t, Failed, Reading(Heap, tables, wrong, 0).Verdict)
	for _, state := range []Table{{Locked: true, Problem: "l"}, {Unsafe: true, Problem: "u"}, {Damaged: true, Problem: "d"}} {
		assert.Equal(t, CouldNotRun, Reading(Heap, append(tables, state), Findings{}, 0).Verdict)
		assert.Equal(t, CouldNotRun, Compared(append(tables, state), time.Now(), "").Verdict)
	}
	assert.Equal(t, CouldNotRun, Compared([]Table{{Name: "a", Copy: 1}}, time.Now(), "").Verdict, "it was compared with nothing")
}

func TestOverallIsTheWorst(t *testing.T) {
	assert.Equal(t, Passed, Overall([]Check{{Verdict: Passed}}))
	assert.Equal(t, CouldNotRun, Overall(nil), "nothing was observed")
	assert.Equal(t, CouldNotRun, Overall([]Check{{Verdict: CouldNotRun}, {Verdict: Passed}}))
	assert.Equal(t, Failed, Overall([]Check{{Verdict: CouldNotRun}, {Verdict: Failed}, {Verdict: Passed}}))
}

func TestExpectations(t *testing.T) {
	value := func(s string) Answer { return Answer{Rows: 1, Value: &s} }
	other := "7"
	for _, c := range []struct {
		expects string
		got     Answer
		other   *string
		want    Verdict
	}{
		{"no rows", Answer{}, nil, Passed}, {"no rows", value("1"), nil, Failed}, {"Some  Rows", value("1"), nil, Passed},
		{"some rows", Answer{}, nil, Failed}, {"value 5..10", value("5"), nil, Passed}, {"value 5..10", value("10.5"), nil, Failed},
		{"value ..10", value("-3"), nil, Passed}, {"value 5", value("5.00"), nil, Passed}, {"value 5..", value("many"), nil, Failed},
		{"value 5..", Answer{}, nil, Failed}, {"same as live", value("7"), &other, Passed}, {"same as live", value("8"), &other, Failed},
		{"same as last time", value("7"), nil, CouldNotRun}, {"value 0.1..0.3", value("0.3"), nil, Passed},
	} {
		e, err := ParseExpectation(c.expects)
		require.NoError(t, err, c.expects)
		assert.Equal(t, c.want, Own("purser", e, c.got, c.other, "nothing").Verdict, "%s of %s", c.expects, c.got)
	}
	for _, bad := range []string{"", "value", "value ..", "value a..b", "value 9..5", "value 1e999999999", "rows", "same as yesterday"} {
		_, err := ParseExpectation(bad)
		assert.ErrorContains(t, err, "write \"no rows\"", bad)
	}
}

// FuzzExpectation: whatever is understood is written so that it is understood again.
func FuzzExpectation(f *testing.F) {
	for _, s := range []string{"no rows", "value 1..2", "value ..-0.50", "same as live", "value 3"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		e, err := ParseExpectation(text)
		if err != nil {
			return
		}
		again, err := ParseExpectation(e.String())
		require.NoError(t, err, e.String())
		require.Equal(t, fmt.Sprint(e), fmt.Sprint(again))
	})
}
