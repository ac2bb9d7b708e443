package keep_test

import (
	"fmt"
	"time"

	"velvetrewind/core/keep"
	"velvetrewind/core/pg"
	"velvetrewind/core/reach"
)

// Of four base backups, a day apart, a rule promises any moment of the last day and a half. The newest from before that
// time is needed to reach it, and all WAL from there on; what is older may be deleted.
func ExampleDecide() {
	monday := time.Date(2026, 11, 23, 2, 0, 0, 0, time.UTC)
	const perDay = pg.LSN(1 << 30)
	h := keep.History{Size: pg.DefaultSegmentSize, Live: 1}
	for day := range 4 {
		start := pg.LSN(day) * perDay
		h.Bases = append(h.Bases, reach.Base{ID: fmt.Sprintf("base-%d", day+1), Timeline: 1, Start: start, Stop: start + 1<<20,
			StopTime: monday.AddDate(0, 0, day)})
	}
	h.WAL = []reach.WAL{{Timeline: 1, Start: 0, End: 4 * perDay, LastCommit: monday.AddDate(0, 0, 4)}}

	now := monday.AddDate(0, 0, 4)
	d := keep.Decide(h, keep.Rule{SpanHours: 36}, now, time.UTC)
	for _, b := range d.Bases {
		verdict := "releasable"
		if b.Needed {
			verdict = "needed"
		}
		fmt.Printf("%s is %s: %s\n", b.ID, verdict, b.Reasons[0].Text)
	}
	for _, w := range d.WAL {
		fmt.Printf("WAL from %s to %s needed: %t\n", w.From, w.To, w.Needed)
	}
	// Output:
	// base-4 is needed: taken within the last 36 hours
	// base-3 is needed: the newest before 2026-11-25 14:00 +00:00, from which any moment is promised
	// base-2 is releasable: older than what is promised, and nothing needs it
	// base-1 is releasable: older than what is promised, and nothing needs it
	// WAL from 0/0 to 0/80000000 needed: false
	// WAL from 0/80000000 to 1/0 needed: true
}
