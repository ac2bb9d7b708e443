// Package rehearsal says which cluster is rehearsed next, which moment for, how long a restore should take by what earlier
// ones took, and what all rehearsals of a span of time come to.
//
// Invariant: a cluster that was never proved comes before any that was, and one that failed is tried again once by itself;
// what was never measured is never given a figure. Making the copies, and proving them, is the caller's.
package rehearsal

import (
	"cmp"
	"math/rand/v2"
	"slices"
	"time"
)

// Outcome of a rehearsal.
type Outcome string

// The outcomes.
const (
	Passed      Outcome = "passed"
	Failed      Outcome = "failed"        // the proof failed
	CouldNotRun Outcome = "could not run" // of the proof some part
	NoCopy      Outcome = "no copy"       // the copy could not be made
	Cancelled   Outcome = "cancelled"
)

// Good tells whether the cluster could be brought back.
func (o Outcome) Good() bool { return o == Passed }

// Bad tells whether it surely could not, or not rightly.
func (o Outcome) Bad() bool { return o == Failed || o == NoCopy }

// Wish is a rehearsal that was asked for.
type Wish struct {
	ID, Cluster string
	AskedAt     time.Time
	// Proved is when a copy of the cluster last passed its proof; zero if never.
	Proved time.Time
	// Bytes is how much room the copy takes.
	Bytes int64
	Quiet bool // it is within hours in which nothing may be begun for the cluster
}

// Limits bound what is rehearsed at once.
type Limits struct {
	AtOnce int
	Bytes  int64 // of all copies of rehearsals together; 0: no bound but the disk's
}

// Next chooses what is begun now, with so many running that take so many bytes: the cluster longest unproved first. One that
// does not fit holds up those after it until it does, so that a large one is not passed over for ever; where nothing runs, it
// is begun, whatever the bound.
func Next(wishes []Wish, running int, held int64, l Limits) []Wish {
	list := slices.Clone(wishes)
	slices.SortFunc(list, func(a, b Wish) int {
		return cmp.Or(a.Proved.Compare(b.Proved), a.AskedAt.Compare(b.AskedAt), cmp.Compare(a.ID, b.ID))
	})
	var chosen []Wish
	for _, w := range list {
		switch {
		case running >= l.AtOnce:
			return chosen
		case w.Quiet:
			continue
		case l.Bytes > 0 && held+w.Bytes > l.Bytes && running > 0:
			return chosen
		}
		chosen = append(chosen, w)
		running, held = running+1, held+w.Bytes
	}
	return chosen
}

// AgainAfter is how long after a failure a rehearsal is tried again.
const AgainAfter = 15 * time.Minute

// TryAgain tells whether a rehearsal that ended so is tried again: once.
func TryAgain(o Outcome, try int) bool { return o.Bad() && try == 1 }

// Random picks a time within spans, each as likely as it is long. ok is false if there is none.
func Random(spans [][2]time.Time, r *rand.Rand) (at time.Time, ok bool) {
	var total time.Duration
	for _, s := range spans {
		total += s[1].Sub(s[0])
	}
	if total <= 0 {
		return at, false
	}
	rest := time.Duration(r.Int64N(int64(total)))
	for _, s := range spans {
		if length := s[1].Sub(s[0]); rest < length {
			return s[0].Add(rest), true
		} else {
			rest -= length
		}
	}
	return at, false
}

// Objective is what a cluster is to keep to.
type Objective struct {
	Back time.Duration // it is to be back within this
	Lose time.Duration // losing at most this
}

// Measured is what one rehearsal took.
type Measured struct {
	LaidOut, Replayed, Proved time.Duration
	Bytes, WAL                int64 // laid out, replayed
}

// Total is how long it took until the copy was proved.
func (m Measured) Total() time.Duration { return m.LaidOut + m.Replayed + m.Proved }

// Rates are what restores were seen to do, in bytes a second.
type Rates struct {
	LayOut, Replay float64
	Proof          float64
	Seen           int // rehearsals
}

// mostSeen bounds how many of the newest rehearsals are learned from.
const mostSeen = 10

// Learn takes the rates from the newest measurements, which come first: sums over sums, so that a long one tells more than a
// short one.
func Learn(newest []Measured) (r Rates) {
	var bytes, wal int64
	var laid, replayed, proved time.Duration
	for _, m := range newest[:min(len(newest), mostSeen)] {
		bytes, wal = bytes+m.Bytes, wal+m.WAL
		laid, replayed, proved = laid+m.LaidOut, replayed+m.Replayed, proved+m.Proved
		r.Seen++
	}
	rate := func(n int64, d time.Duration) float64 {
		if d <= 0 {
			return 0
		}
		return float64(n) / d.Seconds()
	}
	r.LayOut, r.Replay, r.Proof = rate(bytes, laid), rate(wal, replayed), rate(bytes, proved)
	return r
}

// Estimate is how long it should take to lay out so many bytes and replay so many of WAL. ok is false if nothing was measured.
func (r Rates) Estimate(bytes, wal int64) (m Measured, ok bool) {
	if r.LayOut <= 0 || wal > 0 && r.Replay <= 0 {
		return m, false
	}
	seconds := func(n int64, rate float64) time.Duration {
		if rate <= 0 {
			return 0
		}
		return time.Duration(float64(n) / rate * float64(time.Second))
	}
	return Measured{LaidOut: seconds(bytes, r.LayOut), Replayed: seconds(wal, r.Replay), Proved: seconds(bytes, r.Proof), Bytes: bytes,
		WAL: wal}, true
}
