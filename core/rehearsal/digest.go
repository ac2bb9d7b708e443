package rehearsal

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"velvetrewind/core/figures"
)

// Run is a rehearsal that has ended.
type Run struct {
	ID       string
	At       time.Time // when it ended
	Moment   string
	Outcome  Outcome
	Cause    string // why it was not good
	Try      int
	Measured Measured
	// Lost is how much would have been lost: how old the newest moment was that could be reached. Negative where that was not
	// asked for.
	Lost     time.Duration
	Estimate time.Duration // that it was to take, by those before; 0 where there were none
}

// Subject is a cluster with its rehearsals.
type Subject struct {
	Name      string
	Objective Objective
	// Reach says since when every moment can be reached, and Promised since when it should be; zero where nothing can be, or
	// nothing is promised.
	Reach, Promised time.Time
	Runs            []Run // the newest first, those before the span of time too
}

// Standing is how a cluster stands by its last rehearsal.
type Standing string

// The standings, the worst first.
const (
	Broken   Standing = "cannot be brought back"
	NoReach  Standing = "nothing can be reached"
	Unproved Standing = "never proved"
	Partly   Standing = "proved in part"
	Proved   Standing = "proved"
)

var standings = []Standing{Broken, NoReach, Unproved, Partly, Proved}

// Failure is a rehearsal that was not good, and what came of it.
type Failure struct {
	At    time.Time
	Cause string
	Then  string // what was done
}

// Line is what there is to say of one cluster over the span.
type Line struct {
	Cluster         string
	Standing        Standing
	Why             string // unless it is proved
	Reach, Promised time.Time
	PromiseKept     bool
	Objective       Objective
	Last            *Run
	Runs, Good      int
	// Back is the median time until a copy was proved, Worst the longest; Lost the largest loss. 0 where nothing was measured;
	// Lost is negative then.
	Back, Worst, Lost time.Duration
	// Kept says whether the objective was kept by every good rehearsal; nil where there is none to say it by.
	Kept *bool
	// Trend is by how much the median of the newer half differs from that of the older: 0.1 is a tenth longer. Without at
	// least four it is 0.
	Trend    float64
	Failures []Failure
	// Days are the outcomes by day, as 2006-01-02 in UTC; of several of a day the worst.
	Days map[string]Outcome
}

// Digest is what all clusters come to.
type Digest struct {
	From, To time.Time
	Lines    []Line // the worst first
}

// slack is by how much a promise may be missed, for a base backup is not taken in an instant.
const slack = 2 * time.Hour

// Consolidate makes the digest of a span of time.
func Consolidate(subjects []Subject, from, to time.Time) Digest {
	d := Digest{From: from, To: to, Lines: make([]Line, len(subjects))}
	for i := range subjects {
		d.Lines[i] = lineOf(&subjects[i], from, to)
	}
	slices.SortStableFunc(d.Lines, func(a, b Line) int {
		return cmp.Or(cmp.Compare(slices.Index(standings, a.Standing), slices.Index(standings, b.Standing)),
			cmp.Compare(a.Cluster, b.Cluster))
	})
	return d
}

func lineOf(s *Subject, from, to time.Time) Line {
	l := Line{Cluster: s.Name, Reach: s.Reach, Promised: s.Promised, Objective: s.Objective, Lost: -1, Days: make(map[string]Outcome),
		PromiseKept: s.Promised.IsZero() || !s.Reach.IsZero() && !s.Reach.After(s.Promised.Add(slack))}
	var back []time.Duration // newest first
	kept := true
	for i := range s.Runs {
		r := &s.Runs[i]
		if r.Outcome == Cancelled || r.At.After(to) {
			continue
		}
		if l.Last == nil {
			l.Last = r
		}
		if r.At.Before(from) {
			continue
		}
		l.Runs++
		day := r.At.UTC().Format(time.DateOnly)
		l.Days[day] = worse(l.Days[day], r.Outcome)
		if !r.Outcome.Good() {
			l.Failures = append(l.Failures, Failure{r.At, r.Cause, then(s.Runs[:i])})
		}
		if r.Outcome.Bad() {
			continue
		}
		if r.Outcome.Good() {
			l.Good++
		}
		back = append(back, r.Measured.Total())
		l.Lost = max(l.Lost, r.Lost)
		kept = kept && s.Objective.Keeps(r)
	}
	l.Standing, l.Why = standingOf(s, l.Last)
	if len(back) > 0 {
		l.Back, l.Worst = median(back), slices.Max(back)
		if s.Objective != (Objective{}) {
			l.Kept = &kept
		}
	}
	if n := len(back); n >= 4 {
		l.Trend = median(back[:n/2]).Seconds()/median(back[n/2:]).Seconds() - 1
	}
	return l
}

func standingOf(s *Subject, last *Run) (Standing, string) {
	switch {
	case s.Reach.IsZero():
		return NoReach, "there is no base backup from which the WAL leads on"
	case last == nil:
		return Unproved, "it was never rehearsed"
	case last.Outcome.Bad():
		return Broken, last.Cause
	case !last.Outcome.Good():
		return Partly, last.Cause
	}
	return Proved, ""
}

// then says what came after a rehearsal; later ones come first.
func then(later []Run) string {
	for i := len(later) - 1; i >= 0; i-- {
		switch r := &later[i]; {
		case r.Outcome.Good():
			return "passed " + r.At.UTC().Format("2006-01-02 15:04 UTC")
		case r.Outcome != Cancelled && r.Try > 1:
			return "tried again " + r.At.UTC().Format("2006-01-02 15:04 UTC") + ", in vain"
		}
	}
	return "nothing yet"
}

// Keeps tells whether a rehearsal kept to the objective.
func (o Objective) Keeps(r *Run) bool {
	return (o.Back == 0 || r.Measured.Total() <= o.Back) && (o.Lose == 0 || r.Lost <= o.Lose)
}

// worse is the worse of two outcomes.
func worse(a, b Outcome) Outcome {
	order := []Outcome{NoCopy, Failed, CouldNotRun, Passed, Cancelled, ""}
	if slices.Index(order, a) < slices.Index(order, b) {
		return a
	}
	return b
}

func median(list []time.Duration) time.Duration {
	sorted := slices.Sorted(slices.Values(list))
	return sorted[len(sorted)/2]
}

// First is the first line of the digest: which clusters could not be brought back today.
func (d *Digest) First() string {
	names := make(map[Standing][]string)
	for i := range d.Lines {
		l := &d.Lines[i]
		names[l.Standing] = append(names[l.Standing], l.Cluster)
	}
	bad := append(names[Broken], names[NoReach]...)
	first := fmt.Sprintf("All of %s could be brought back today.", figures.Of(len(d.Lines), "cluster"))
	switch known := len(d.Lines) - len(names[Unproved]); {
	case len(d.Lines) == 0:
		return "There are no clusters."
	case len(d.Lines) == 1 && len(bad) == 0 && known == 1:
		first = fmt.Sprintf("The one cluster, %s, could be brought back today.", d.Lines[0].Cluster)
	case len(bad) > 0:
		first = fmt.Sprintf("%s of %s could not be brought back today: %s.", figures.Count(int64(len(bad))),
			figures.Of(len(d.Lines), "cluster"), strings.Join(bad, ", "))
	case known == 0:
		first = "Whether any cluster could be brought back today is not known."
	case len(names[Unproved]) > 0:
		first = fmt.Sprintf("The %s that were rehearsed could be brought back today.", figures.Of(known, "cluster"))
	}
	for _, s := range []Standing{Unproved, Partly} {
		if list := names[s]; len(list) > 0 {
			first += fmt.Sprintf(" %s: %s.", strings.ToUpper(string(s[:1]))+string(s[1:]), strings.Join(list, ", "))
		}
	}
	return first
}
