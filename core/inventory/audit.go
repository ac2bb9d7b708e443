// Package inventory compares what a store should hold with what it holds, and says what
// each difference costs.
//
// Invariant: what nothing is known of is reported and never called expendable; what a missing or damaged object costs
// is computed from reach, with it and without it. Listing a store, and reading what lies there, is the caller's.
package inventory

import (
	"cmp"
	"slices"
	"time"

	"velvetrewind/core/pg"
	"velvetrewind/core/reach"
)

// Fault is what is wrong with an object.
type Fault string

// The kinds. Remade ones are made again by themselves and cost nothing.
const (
	Missing      Fault = "missing"
	Damaged      Fault = "damaged"
	Foreign      Fault = "foreign"      // of no cluster that is known
	Unreferenced Fault = "unreferenced" // of a known cluster, and nothing refers to it
)

// Object is something that a store should hold.
type Object struct {
	Key     string
	Cluster string      // id
	Backups []string    // ids of the base backups that need it, none for WAL
	Segment LostSegment // that it holds, for WAL, and would be lost
	Remade  bool        // it is made again when it is needed
}

// Discrepancy is one difference.
type Discrepancy struct {
	Kind   Fault
	Key    string
	Detail string
	Costs  bool // something cannot be restored because of it

	Elsewhere bool // the second store has it whole
	Fixed     bool // it was brought back from the second store
}

// Books is what a store should hold, while it is compared with what it does.
type Books struct {
	wanted   map[string]*entry
	clusters map[string]bool
	findings []Discrepancy
}

type entry struct {
	Object
	seen bool
	bad  bool
}

// NewBooks begins with the ids of the clusters that are known.
func NewBooks(clusters []string) *Books {
	b := &Books{wanted: make(map[string]*entry), clusters: make(map[string]bool)}
	for _, id := range clusters {
		b.clusters[id] = true
	}
	return b
}

// Want adds an object that should be there, or a backup that needs it too.
func (b *Books) Want(o Object) {
	if e := b.wanted[o.Key]; e != nil {
		e.Backups = append(e.Backups, o.Backups...)
		return
	}
	b.wanted[o.Key] = &entry{Object: o}
}

// Missing lists what is wanted and was not seen.
func (b *Books) Missing() []string {
	var keys []string
	for k, e := range b.wanted {
		if !e.seen {
			keys = append(keys, k)
		}
	}
	slices.Sort(keys)
	return keys
}

// Unclear lists what may only be so because work went on while the store was looked
// through: what is missing, and what nothing refers to.
func (b *Books) Unclear() []string {
	keys := b.Missing()
	for _, f := range b.findings {
		if f.Kind == Unreferenced || f.Kind == Foreign {
			keys = append(keys, f.Key)
		}
	}
	return keys
}

// Settle takes back what was so only for a while. now holds what is wanted since the store
// was looked through; passing tells of an object to which nothing refers even then whether
// it is being written or removed.
func (b *Books) Settle(now *Books, passing func(key string) (bool, error)) error {
	for key, e := range b.wanted {
		switch still := now.wanted[key]; {
		case e.seen:
		case still == nil:
			delete(b.wanted, key)
		default:
			e.Object = still.Object // fewer backups may need it
		}
	}
	var left []Discrepancy
	for _, f := range b.findings {
		if f.Kind == Unreferenced || f.Kind == Foreign {
			if e := now.wanted[f.Key]; e != nil {
				b.wanted[f.Key] = &entry{Object: e.Object, seen: true}
				continue
			}
			if is, err := passing(f.Key); err != nil {
				return err
			} else if is {
				continue
			}
		}
		left = append(left, f)
	}
	b.findings = left
	return nil
}

// Lost notes that an object that is wanted could not be read.
func (b *Books) Lost(key, why string) {
	e := b.wanted[key]
	if e == nil || e.bad {
		return // nobody needs it, or it was told already
	}
	e.bad, e.seen = true, true
	b.findings = append(b.findings, Discrepancy{Kind: Damaged, Key: key, Detail: why, Costs: !e.Remade})
}

// Elsewhere notes that a missing or damaged object is whole in another place, and
// whether it was brought back from there: it costs nothing then.
func (b *Books) Elsewhere(key string, fixed bool) {
	e := b.wanted[key]
	if e == nil {
		return
	}
	if !e.seen {
		b.findings = append(b.findings, Discrepancy{Kind: Missing, Key: key})
	}
	e.bad, e.seen = false, true
	for i := range b.findings {
		if f := &b.findings[i]; f.Key == key {
			f.Costs, f.Fixed, f.Elsewhere = false, fixed, true
		}
	}
}

// See takes an object that the store holds. cluster is the id in its key, "" if the
// key is of no known form.
func (b *Books) See(key, cluster string) {
	if e := b.wanted[key]; e != nil {
		e.seen = true
		return
	}
	f := Discrepancy{Kind: Unreferenced, Key: key, Detail: "no backup and no record refers to it"}
	if !b.clusters[cluster] {
		f.Kind, f.Detail = Foreign, "it is of no cluster that is known here"
	}
	b.findings = append(b.findings, f)
}

// Wanted visits what should be there, by key.
func (b *Books) Wanted() []string {
	keys := make([]string, 0, len(b.wanted))
	for k := range b.wanted {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}

// Close gives every finding, those that prevent a restore first, and what is lost by
// cluster id. It is called when all that the store holds was seen.
func (b *Books) Close() ([]Discrepancy, map[string]Losses) {
	lost := make(map[string]Losses)
	for _, e := range b.wanted {
		if !e.seen {
			b.findings = append(b.findings, Discrepancy{Kind: Missing, Key: e.Key, Costs: !e.Remade})
		}
		if (e.seen && !e.bad) || e.Remade {
			continue
		}
		l := lost[e.Cluster]
		for _, b := range e.Backups {
			if !slices.Contains(l.Backups, b) {
				l.Backups = append(l.Backups, b)
			}
		}
		if len(e.Backups) == 0 {
			l.Segments = append(l.Segments, e.Segment)
		}
		lost[e.Cluster] = l
	}
	for _, l := range lost {
		slices.Sort(l.Backups)
	}
	slices.SortFunc(b.findings, func(x, y Discrepancy) int {
		return cmp.Or(-cmp.Compare(b2i(x.Costs), b2i(y.Costs)), cmp.Compare(x.Kind, y.Kind), cmp.Compare(x.Key, y.Key))
	})
	return b.findings, lost
}

func b2i(v bool) int {
	if v {
		return 1
	}
	return 0
}

// Losses are the base backups and WAL segments of a cluster that cannot be read, as long
// as no audit finds otherwise.
type Losses struct {
	Backups  []string      `json:"backups,omitempty"`
	Segments []LostSegment `json:"segments,omitempty"`
}

// LostSegment is a WAL segment that cannot be read.
type LostSegment struct {
	pg.Segment
	Before time.Time `json:"before,omitzero"` // newest commit time in the WAL that leads to it; zero if there is none
}

// Has tells whether a segment is lost.
func (l Losses) Has(s pg.Segment) bool {
	return slices.ContainsFunc(l.Segments, func(x LostSegment) bool { return x.Segment == s })
}

// None tells that nothing is lost.
func (l Losses) None() bool { return len(l.Backups)+len(l.Segments) == 0 }

// With adds what else is lost.
func (l Losses) With(more Losses) Losses {
	for _, b := range more.Backups {
		if !slices.Contains(l.Backups, b) {
			l.Backups = append(slices.Clip(l.Backups), b)
		}
	}
	for _, s := range more.Segments {
		if !l.Has(s.Segment) {
			l.Segments = append(slices.Clip(l.Segments), s)
		}
	}
	return l
}

// Without gives what is left of a cluster's bases and WAL.
func (l Losses) Without(bases []reach.Base, wal []reach.WAL, z pg.SegmentSize) ([]reach.Base, []reach.WAL) {
	bases = slices.DeleteFunc(slices.Clone(bases), func(b reach.Base) bool { return slices.Contains(l.Backups, b.ID) })
	left := slices.Clone(wal)
	for _, s := range l.Segments {
		left = cut(left, s.Timeline, z.Start(s.Number), z.Start(s.Number+1), s.Before)
	}
	return bases, left
}

// cut takes a range out of stretches of WAL. newest is the last commit before it.
func cut(list []reach.WAL, t pg.Timeline, from, to pg.LSN, newest time.Time) (left []reach.WAL) {
	for _, w := range list {
		if w.Timeline != t || w.End <= from || w.Start >= to {
			left = append(left, w)
			continue
		}
		if w.Start < from {
			before := w
			before.End = from
			if newest.Before(w.LastCommit) {
				before.LastCommit = newest
			}
			left = append(left, before)
		}
		if w.End > to {
			after := w
			after.Start = to
			left = append(left, after)
		}
	}
	return left
}

// LostReach is a stretch of a timeline.
type LostReach struct {
	Timeline pg.Timeline
	From     pg.LSN
	To       pg.LSN
}

// Difference gives the parts of the spans before that the spans after do not cover.
func Difference(before, after []reach.Span) []LostReach {
	var lost []LostReach
	for _, b := range before {
		rest := []reach.WAL{{Timeline: b.Timeline, Start: b.From, End: b.To}}
		for _, a := range after {
			rest = cut(rest, a.Timeline, a.From, a.To, time.Time{})
		}
		for _, r := range rest {
			lost = append(lost, LostReach{r.Timeline, r.Start, r.End})
		}
	}
	return lost
}
