package keep

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"velvetrewind/core/figures"
	"velvetrewind/core/pg"
	"velvetrewind/core/reach"
)

// need is WAL that something needs.
type need struct {
	timeline pg.Timeline
	from, to pg.LSN
	reason   Reason
}

// ledger gathers what is needed and why.
type ledger struct {
	h     History
	at    time.Time
	zone  *time.Location
	runs  []reach.WAL
	forks map[pg.Timeline]reach.Fork
	bases []reach.Base // that can be restored, by the time they were complete
	why   map[string][]Reason
	needs []need
}

// Decide tells what a rule needs of a history at a time. Days, weeks, months and
// years are those of a zone. The rule has passed Check.
//
// What an audit found lost stands in for nothing: what is needed without it is needed as
// well. It is itself judged as if it were whole, for an audit may have been mistaken.
func Decide(h History, r Rule, at time.Time, zone *time.Location) Decision {
	l, since := gather(h, r, at, zone)
	sound := l
	if !h.Lost.None() {
		left := h
		left.Bases, left.WAL = h.Lost.Without(h.Bases, h.WAL, h.Size)
		sound, since = gather(left, r, at, zone)
		l.takeIn(sound)
	}
	d := Decision{AsOf: at, Promised: since}
	l.verdicts(&d)
	sound.reaches(&d)
	sound.judge(&d)
	return d
}

// gather notes what is needed and why, and since when moments are promised.
func gather(h History, r Rule, at time.Time, zone *time.Location) (*ledger, time.Time) {
	l := &ledger{h: h, at: at, zone: zone, runs: reach.Join(slices.DeleteFunc(slices.Clone(h.WAL), empty)),
		forks: make(map[pg.Timeline]reach.Fork), why: make(map[string][]Reason)}
	for _, f := range h.Forks {
		l.forks[f.Timeline] = f
	}
	for _, b := range h.Bases {
		if _, ok := l.runOf(b); ok {
			l.bases = append(l.bases, b)
		}
	}
	slices.SortFunc(l.bases, byStopTime)
	promised := at
	if r.SpanHours > 0 {
		promised = at.Add(-r.Span())
		l.promise(promised, func(b reach.Base) Reason {
			return Reason{"span", "taken within the last " + Hours(r.SpanHours)}
		})
	}
	if n := min(r.Count, len(l.bases)); n > 0 {
		since := l.bases[len(l.bases)-n].StopTime
		l.promise(since, func(b reach.Base) Reason {
			return Reason{"count", "one of the newest " + figures.Of(r.Count, "base backup")}
		})
		if since.Before(promised) {
			promised = since
		}
	}
	l.longTerm(r)
	l.held()
	l.safety()
	return l, promised
}

// takeIn adds what is needed when only what is sound counts.
func (l *ledger) takeIn(sound *ledger) {
	if len(sound.bases) == 0 {
		l.keepAll("no base backup of the cluster can be read, as an audit found, so nothing is deleted")
		return
	}
	l.needs = append(l.needs, sound.needs...)
	for id, reasons := range sound.why {
		if len(l.why[id]) == 0 {
			reasons = append(slices.Clone(reasons), Reason{"damaged", "an audit found that what would stand in for it cannot be read"})
		}
		for _, r := range reasons {
			l.keepBase(id, r)
		}
	}
}

func empty(w reach.WAL) bool { return w.End <= w.Start }

func byStopTime(a, b reach.Base) int {
	return cmp.Or(a.StopTime.Compare(b.StopTime), cmp.Compare(a.Stop, b.Stop))
}

// runOf finds the WAL that makes a base consistent.
func (l *ledger) runOf(b reach.Base) (reach.WAL, bool) {
	for _, r := range l.runs {
		if r.Timeline == b.Timeline && r.Start <= b.Start && b.Stop <= r.End {
			return r, true
		}
	}
	return reach.WAL{}, false
}

// live is the newest WAL of the timeline that is being captured.
func (l *ledger) live() (run reach.WAL, ok bool) {
	for _, r := range l.runs {
		if r.Timeline == l.h.Live {
			run, ok = r, true
		}
	}
	return run, ok
}

// endTime is the newest moment that a run is known to hold.
func (l *ledger) endTime(run reach.WAL) time.Time {
	if live, ok := l.live(); ok && live == run {
		return l.at
	}
	end := run.LastCommit
	for _, b := range l.bases {
		if b.Timeline == run.Timeline && run.Start <= b.Start && b.Stop <= run.End && b.StopTime.After(end) {
			end = b.StopTime
		}
	}
	return end
}

// keepBase notes that a base is needed.
func (l *ledger) keepBase(id string, r Reason) {
	if !slices.Contains(l.why[id], r) {
		l.why[id] = append(l.why[id], r)
	}
}

// alone notes that a base is needed with no more WAL than makes it consistent.
func (l *ledger) alone(b reach.Base, r Reason) {
	l.keepBase(b.ID, r)
	if _, sound := l.runOf(b); sound {
		l.needs = append(l.needs, need{b.Timeline, b.Start, b.Stop, Reason{"own", "makes base " + b.ID + " consistent"}})
	}
}

// promise keeps what reaches any moment since a time: of every run that leads there,
// the newest base before it, or else the earliest, and all WAL from there on.
func (l *ledger) promise(since time.Time, within func(reach.Base) Reason) {
	for _, run := range l.runs {
		if l.endTime(run).Before(since) {
			continue
		}
		base, path, ok := l.carry(run, run.End, since)
		if !ok {
			continue
		}
		text := "the newest before " + stamp(since, l.zone) + ", from which any moment is promised"
		if base.StopTime.After(since) {
			text = "moments are promised from " + stamp(since, l.zone) + ", and the earliest that can be reached begins here"
		}
		l.keepBase(base.ID, Reason{"promise", text})
		for _, n := range path {
			n.reason = Reason{"promise", "leads from base " + base.ID + " to promised moments"}
			l.needs = append(l.needs, n)
		}
	}
	for _, b := range l.bases {
		if !b.StopTime.Before(since) {
			l.alone(b, within(b))
		}
	}
}

// carry finds what reaches from a time to a place in a run: the base, and the WAL,
// which may begin on the timeline that the run's own left.
func (l *ledger) carry(run reach.WAL, to pg.LSN, since time.Time) (base reach.Base, path []need, ok bool) {
	var oldest *reach.Base
	for _, b := range slices.Backward(l.bases) {
		if b.Timeline != run.Timeline || b.Start < run.Start || b.Stop > to {
			continue
		}
		if !b.StopTime.After(since) {
			return b, []need{{timeline: run.Timeline, from: b.Start, to: to}}, true
		}
		oldest = &b
	}
	if f, forked := l.forks[run.Timeline]; forked && run.Start <= f.At && f.At <= to {
		for _, parent := range l.runs {
			if parent.Timeline != f.Parent || f.At < parent.Start || parent.End < f.At {
				continue
			}
			if base, path, ok = l.carry(parent, f.At, since); ok {
				return base, append(path, need{timeline: run.Timeline, from: run.Start, to: to}), true
			}
		}
	}
	if oldest == nil {
		return base, nil, false
	}
	return *oldest, []need{{timeline: run.Timeline, from: oldest.Start, to: to}}, true
}

// longTerm keeps the first base of each of the last periods that have one.
func (l *ledger) longTerm(r Rule) {
	for _, p := range r.periods() {
		seen := make(map[string]bool)
		var firsts []reach.Base
		for _, b := range l.bases {
			if name := p.of(b.StopTime.In(l.zone)); !seen[name] {
				seen[name] = true
				firsts = append(firsts, b)
			}
		}
		for _, b := range firsts[max(0, len(firsts)-p.count):] {
			l.alone(b, Reason{p.name, "the first base backup of " + p.of(b.StopTime.In(l.zone))})
		}
	}
}

// held keeps what is pinned, and what copies use.
func (l *ledger) held() {
	for _, p := range l.h.Pins {
		if !p.holds(l.at) {
			continue
		}
		text := "pinned: " + p.Reason
		if !p.Until.IsZero() {
			text += fmt.Sprintf(" (until %s)", stamp(p.Until, l.zone))
		}
		for _, b := range l.h.Bases {
			if b.ID == p.Base {
				l.alone(b, Reason{"pin", text})
			}
		}
	}
	for _, u := range l.h.Uses {
		for _, b := range l.h.Bases {
			if b.ID == u.Base {
				l.alone(b, Reason{"copy", "copy " + u.Copy + " is made from it"})
				l.way(b, u)
			}
		}
	}
}

// way keeps the WAL from a base to where a copy of it goes.
func (l *ledger) way(b reach.Base, u Use) {
	reason := Reason{"copy", "copy " + u.Copy + " replays it"}
	timeline, to := u.Timeline, u.To
	for timeline != b.Timeline {
		f, ok := l.forks[timeline]
		if !ok {
			return
		}
		l.needs = append(l.needs, need{timeline, l.h.Size.Start(l.h.Size.Number(f.At)), to, reason})
		timeline, to = f.Parent, min(to, f.At)
	}
	l.needs = append(l.needs, need{timeline, b.Start, to, reason})
}

// safety keeps the newest base that can be restored, the WAL after it, and WAL that
// a base backup now being taken may need.
func (l *ledger) safety() {
	live, capturing := l.live()
	for _, b := range l.h.Bases {
		if capturing && b.Timeline == live.Timeline && live.Start <= b.Start && b.Stop > live.End {
			l.keepBase(b.ID, Reason{"arriving", "the end of its WAL is still arriving"})
			l.needs = append(l.needs, need{b.Timeline, b.Start, live.End, Reason{"arriving", "base " + b.ID + " needs it"}})
		}
	}
	if len(l.bases) == 0 {
		l.keepAll("no base backup of the cluster can be restored, so nothing is deleted")
		return
	}
	if capturing {
		if base, path, ok := l.carry(live, live.End, l.at); ok {
			l.last(base, path)
			return
		}
		l.needs = append(l.needs, need{live.Timeline, live.Start, live.End,
			Reason{"last", "the first base backup on this WAL is still to come"}})
	}
	newest := l.bases[len(l.bases)-1]
	run, _ := l.runOf(newest)
	l.last(newest, []need{{timeline: run.Timeline, from: newest.Start, to: run.End}})
}

// keepAll keeps everything.
func (l *ledger) keepAll(because string) {
	for _, b := range l.h.Bases {
		l.keepBase(b.ID, Reason{"last", because})
	}
	for _, r := range l.runs {
		l.needs = append(l.needs, need{r.Timeline, r.Start, r.End, Reason{"last", because}})
	}
}

func (l *ledger) last(base reach.Base, path []need) {
	l.keepBase(base.ID, Reason{"last", "the newest that can be restored"})
	for _, n := range path {
		n.reason = Reason{"last", "after the newest base, " + base.ID}
		l.needs = append(l.needs, n)
	}
}

// verdicts tells of each base and each part of the WAL whether it is needed.
func (l *ledger) verdicts(d *Decision) {
	for _, b := range l.h.Bases {
		v := Base{ID: b.ID, Timeline: b.Timeline, Start: b.Start, Stop: b.Stop, StopTime: b.StopTime, Reasons: l.why[b.ID]}
		if v.Needed = len(v.Reasons) > 0; !v.Needed {
			v.Reasons = []Reason{l.whyNot(b)}
		}
		d.Bases = append(d.Bases, v)
	}
	slices.SortFunc(d.Bases, func(a, b Base) int { return cmp.Or(b.StopTime.Compare(a.StopTime), cmp.Compare(b.ID, a.ID)) })
	for _, r := range l.runs {
		d.WAL = append(d.WAL, l.cut(r)...)
	}
}

// reaches computes what can be reached now, and what with no more than is needed.
func (l *ledger) reaches(d *Decision) {
	d.Before, _ = reach.Compute(l.h.Bases, l.runs, l.h.Forks)
	needed := make(map[string]bool)
	for _, b := range d.Bases {
		needed[b.ID] = b.Needed
	}
	bases := slices.DeleteFunc(slices.Clone(l.h.Bases), func(b reach.Base) bool { return !needed[b.ID] })
	var wal []reach.WAL
	for _, w := range d.WAL {
		if w.Needed {
			wal = append(wal, reach.WAL{Timeline: w.Timeline, Start: w.From, End: w.To, LastCommit: l.lastCommit(w)})
		}
	}
	_, wal = l.h.Lost.Without(nil, wal, l.h.Size)
	d.After, _ = reach.Compute(bases, wal, l.h.Forks)
}

// lastCommit is the newest commit time of a run, for the part that holds its end.
func (l *ledger) lastCommit(w WAL) time.Time {
	for _, r := range l.runs {
		if r.Timeline == w.Timeline && r.End == w.To {
			return r.LastCommit
		}
	}
	return time.Time{}
}

// whyNot says why a base is not needed.
func (l *ledger) whyNot(b reach.Base) Reason {
	if _, ok := l.runOf(b); !ok {
		return Reason{"broken", "it cannot be restored: WAL between its start and its end is missing"}
	}
	for _, p := range l.h.Pins {
		if p.Base == b.ID {
			return Reason{"over", "its pin expired at " + stamp(p.Until, l.zone)}
		}
	}
	return Reason{"superseded", "older than what is promised, and nothing needs it"}
}

// cut divides a run, at borders of segments, into what is needed and what is not.
func (l *ledger) cut(run reach.WAL) []WAL {
	z := l.h.Size
	first, last := z.Number(run.Start), z.Number(run.End-1)
	type mark struct{ first, last uint64 }
	var marks []mark
	reasons := make(map[mark][]Reason)
	for _, n := range l.needs {
		if n.timeline != run.Timeline || n.to <= run.Start || n.from >= run.End || n.to <= n.from {
			continue
		}
		m := mark{max(first, z.Number(n.from)), min(last, z.Number(n.to-1))}
		if reasons[m] == nil {
			marks = append(marks, m)
		}
		if !slices.Contains(reasons[m], n.reason) {
			reasons[m] = append(reasons[m], n.reason)
		}
	}
	slices.SortFunc(marks, func(a, b mark) int { return cmp.Or(cmp.Compare(a.first, b.first), cmp.Compare(a.last, b.last)) })
	part := func(from, to uint64, needed bool, why []Reason) WAL {
		return WAL{Timeline: run.Timeline, First: from, Last: to, From: max(run.Start, z.Start(from)), To: min(run.End, z.Start(to+1)),
			Needed: needed, Reasons: why}
	}
	var parts []WAL
	next := first
	for _, m := range marks {
		if n := len(parts); n > 0 && parts[n-1].Needed && m.first <= next {
			p := &parts[n-1]
			*p = part(p.First, max(p.Last, m.last), true, addReasons(p.Reasons, reasons[m]))
			next = p.Last + 1
			continue
		}
		if m.first > next {
			parts = append(parts, part(next, m.first-1, false, []Reason{l.idle(run, z.Start(m.first))}))
		}
		parts = append(parts, part(m.first, m.last, true, slices.Clone(reasons[m])))
		next = m.last + 1
	}
	if next <= last {
		parts = append(parts, part(next, last, false, []Reason{l.idle(run, run.End)}))
	}
	return parts
}

// addReasons joins reasons; that a base is consistent needs no saying where more is kept.
func addReasons(to, more []Reason) []Reason {
	all := slices.Clone(to)
	for _, r := range more {
		if !slices.Contains(all, r) {
			all = append(all, r)
		}
	}
	own := func(r Reason) bool { return r.Kind == "own" }
	if rest := slices.DeleteFunc(slices.Clone(all), own); len(rest) > 0 {
		return rest
	}
	return all
}

// idle says why WAL of a run up to a place is not needed.
func (l *ledger) idle(run reach.WAL, to pg.LSN) Reason {
	if _, _, ok := l.carry(run, to, l.at); !ok {
		return Reason{"stranded", "no base backup leads into it"}
	}
	return Reason{"superseded", "no kept base needs it, and its moments are older than what is promised"}
}

// judge tells whether what is promised is held.
func (l *ledger) judge(d *Decision) {
	live, ok := l.live()
	if !ok {
		return
	}
	base, _, ok := l.carry(live, live.End, d.Promised)
	if !ok {
		return
	}
	from := base.StopTime
	d.HeldFrom = &from
	d.Held = !from.After(d.Promised)
}

func stamp(t time.Time, zone *time.Location) string {
	return t.In(zone).Format("2006-01-02 15:04 -07:00")
}
