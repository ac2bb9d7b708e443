package proof

import (
	"fmt"

	"velvetrewind/core/figures"
	"velvetrewind/core/journal"
	"velvetrewind/core/moment"
	"velvetrewind/core/pg"
)

// Standing is where a copy says that it stands, or stood when it was opened.
type Standing struct {
	LSN      pg.LSN
	Timeline pg.Timeline // that it replayed
	Opened   bool
}

// Boundary checks where replay came to stand.
func Boundary(b moment.Boundary, at Standing) Check {
	c := New(Place)
	side := "before the record at"
	if b.Inclusive {
		side = "after the record at"
	}
	c.Verdict = Failed
	switch {
	case at.Timeline != b.Timeline:
		c.Summary = fmt.Sprintf("the copy replayed timeline %d, but timeline %d was planned", at.Timeline, b.Timeline)
	case at.LSN != b.End:
		c.Summary = fmt.Sprintf("replay stopped at %s, but %s was planned (%s %s)", at.LSN, b.End, side, b.Stop)
	default:
		c.Verdict = Passed
		c.Summary = fmt.Sprintf("replay stopped at %s, %s %s, as planned", at.LSN, side, b.Stop)
		if at.Opened {
			c.Summary += "; the copy was opened there"
		}
	}
	return c.settled()
}

// Status is what a copy's commit log says of a transaction.
type Status byte

// The statuses. A transaction is Forgotten once the log was truncated, which is done when nothing refers to it any more, and
// Unseen if the copy has met no record of it, nor of any later id.
const (
	Committed  Status = 'c'
	Aborted    Status = 'a'
	InProgress Status = 'i'
	Forgotten  Status = 'f'
	Unseen     Status = 'n'
)

func (s Status) String() string {
	switch s {
	case Committed:
		return "committed"
	case Aborted:
		return "aborted"
	case InProgress:
		return "in progress"
	case Forgotten:
		return "older than its commit log"
	case Unseen:
		return "unknown to it"
	}
	return fmt.Sprintf("%q", byte(s))
}

// Transaction checks that a transaction at the boundary is on its side of it. reused says that the copy gives ids out itself
// from that of this transaction on.
func Transaction(t journal.Commit, in bool, status Status, reused bool) Check {
	name, what, side := FirstOut, "committed %s on the original) is out", "out"
	if in {
		name, what, side = LastIn, "committed %s) is in", "in"
	}
	c := New(name)
	c.Verdict = Passed
	c.Summary = fmt.Sprintf("tx %d ("+what, t.XID, t.Time.UTC().Format("15:04:05.000000 UTC"))
	switch {
	case !in && reused:
		c.Summary += "; its first record comes after the place where the copy was opened, which has since used its id for itself"
	case status == Forgotten:
		c.Verdict = CouldNotRun
		c.Summary = fmt.Sprintf("the copy no longer knows what became of tx %d", t.XID)
	case in != (status == Committed):
		c.Verdict = Failed
		c.Summary = fmt.Sprintf("tx %d should be %s, but to the copy it is %s", t.XID, side, status)
	case status == Unseen:
		c.Summary += "; the copy has met nothing of it"
	default:
		c.Summary += fmt.Sprintf("; the copy says %s", status)
	}
	return c.settled()
}

// LogPage is how many transactions one page of the commit log is about (CLOG_XACTS_PER_PAGE).
const LogPage = pg.BlockSize * 4

// CommitLog gathers what should be in a copy's commit log, and holds what is in it against that. It takes 8 KiB for every
// LogPage ids.
type CommitLog struct {
	pages         map[uint64]*logPage
	in, out, left int64
	wrong         Findings
	forgotten     int64
	halted        string
}

// logPage has a bit for each transaction that must be committed, and one for each that must not.
type logPage struct{ in, out [LogPage / 64]uint64 }

// Expect says that a transaction must be committed, or that it must not.
func (l *CommitLog) Expect(x pg.FullXID, in bool) {
	p := l.pages[uint64(x)/LogPage]
	if p == nil {
		if l.pages == nil {
			l.pages = make(map[uint64]*logPage)
		}
		p = new(logPage)
		l.pages[uint64(x)/LogPage] = p
	}
	bits, count := &p.out, &l.out
	if in {
		bits, count = &p.in, &l.in
	}
	at, bit := x%LogPage/64, uint64(1)<<(x%64)
	if bits[at]&bit == 0 {
		bits[at] |= bit
		*count++
	}
}

// Leave counts a transaction whose id the copy may have used for itself.
func (l *CommitLog) Leave() { l.left++ }

// Pages are the numbers of the pages of which something is expected.
func (l *CommitLog) Pages() []uint64 {
	list := make([]uint64, 0, len(l.pages))
	for n := range l.pages {
		list = append(list, n)
	}
	return list
}

// See holds a page against what is expected: one Status for each id, from first on. What is not there is Unseen.
func (l *CommitLog) See(first pg.FullXID, seen []byte) {
	p := l.pages[uint64(first)/LogPage]
	if p == nil {
		return
	}
	for i := range LogPage {
		in, out := p.in[i/64]>>(i%64)&1 == 1, p.out[i/64]>>(i%64)&1 == 1
		if !in && !out {
			continue
		}
		status := Unseen
		if i < len(seen) {
			status = Status(seen[i])
		}
		switch x := first + pg.FullXID(i); {
		case status == Forgotten:
			l.forgotten++
		case in && status != Committed:
			l.wrong.Add(fmt.Sprintf("tx %d", x), "it committed before the boundary, but to the copy it is %s", status)
		case out && status == Committed:
			l.wrong.Add(fmt.Sprintf("tx %d", x), "it is out, but the copy has it as committed")
		}
	}
}

// LogSegment is how many pages a file of the commit log has (SLRU_PAGES_PER_SEGMENT).
const LogSegment = 32

// Statuses reads a page of a commit log's file: two bits for each id, from the lowest of a byte on (clog.c). A
// sub-transaction that waits for its parent counts as in progress.
func Statuses(page []byte) []byte {
	const bits = "icai" // TRANSACTION_STATUS_IN_PROGRESS, …COMMITTED, …ABORTED, …SUB_COMMITTED
	seen := make([]byte, 0, 4*len(page))
	for _, b := range page {
		seen = append(seen, bits[b&3], bits[b>>2&3], bits[b>>4&3], bits[b>>6])
	}
	return seen
}

// Settled tells whether statuses that may be old are as expected and can become no others: of every id from first on of
// which something is expected, that it committed if it must have, and that it was rolled back if it must not.
func (l *CommitLog) Settled(first pg.FullXID, seen []byte) bool {
	p := l.pages[uint64(first)/LogPage]
	if p == nil {
		return true
	}
	if len(seen) < LogPage {
		return false
	}
	for i := range LogPage {
		bit := uint64(1) << (i % 64)
		if p.in[i/64]&bit != 0 && Status(seen[i]) != Committed || p.out[i/64]&bit != 0 && Status(seen[i]) != Aborted {
			return false
		}
	}
	return true
}

// Halt says why the log was not read to its end.
func (l *CommitLog) Halt(why string) { l.halted = why }

// Check gives the verdict.
func (l *CommitLog) Check() Check {
	o := Observed{Unit: "transactions", Seen: l.in + l.out - l.forgotten, Wrong: l.wrong, Halted: l.halted}
	if l.forgotten > 0 {
		o.Notes = append(o.Notes, figures.Count(l.forgotten)+" are older than the copy's commit log, which the server cuts once every row "+
			"of theirs is frozen")
	}
	if l.left > 0 {
		o.Notes = append(o.Notes, figures.Count(l.left)+" later ones have ids that the copy gives out anew since it was opened; none of "+
			"their records was replayed")
	}
	c := Judge(Commits, &o)
	if c.Verdict == Passed {
		c.Summary = fmt.Sprintf("%s transactions of the journal since the base are committed in the copy; of %s that must not be, none is",
			figures.Count(l.in), figures.Count(l.out))
	}
	return c
}
