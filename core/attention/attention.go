// Package attention tells what an administrator must look at, the worst first.
//
// Invariant: each need is one sentence and one thing to do; what fixes itself, or is merely young, is no need. Time
// comes from the caller. What the figures are is the caller's to find out.
package attention

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"velvetrewind/core/figures"
)

// Concern is what kind of need it is; they are listed by how much it hurts to wait.
type Concern string

// The kinds, the worst first.
const (
	Capture  Concern = "capture"   // WAL is not being received
	Store    Concern = "store"     // another catalogue uses the store, or its objects' locks run out
	NoBase   Concern = "no base"   // nothing can be restored
	Hole     Concern = "hole"      // captured WAL has a gap that nobody has accepted
	Promise  Concern = "promise"   // the keep rule promises more than can be reached
	Late     Concern = "late"      // a base backup of the calendar did not come
	Clock    Concern = "clock"     // the server's clock and ours disagree
	Unproved Concern = "rehearsal" // the last rehearsal failed
	Incident Concern = "incident"  // somebody deleted a lot
	Damage   Concern = "damage"    // damaged base backups, or damaged pages in the newest
	Aside    Concern = "aside"     // what a takeover set aside may be removed
)

var order = []Concern{Capture, Store, NoBase, Hole, Promise, Late, Unproved, Clock, Incident, Damage, Aside}

// Need is one thing that needs attention.
type Need struct {
	Kind    Concern
	Text    string // one sentence
	Command string // what deals with it, or shows more
}

// Cluster is what is known of one.
type Cluster struct {
	Name  string
	Added time.Time

	StoreTaken    string // why nothing in the store may be deleted or replaced; "" where it may
	StoreUnlocked string // why the locks of what the store holds were not extended; "" where they were

	CaptureWanted  bool
	CaptureState   string
	CaptureRuns    bool // its stream is open
	CaptureFailed  bool // it does not try by itself any more
	CaptureSince   time.Time
	CompleteAge    time.Duration // how old the newest moment is for which everything is safe; 0 where it is not known
	Spooled        int64         // bytes that wait for the store
	SpoolLimit     int64         // bytes at which capture pauses
	Retained       int64         // bytes of WAL that the server retains for us
	Room           int64         // bytes that it can still retain; -1 where that is not known
	ClockAhead     time.Duration // of the server's clock
	DamagedAt      string        // where the WAL that is being received cannot be read; "" where it can
	CaptureProblem string
	CaptureAlert   time.Duration // how long it may stand still
	Bases          int
	BaseRunning    bool
	LastBase       time.Time
	Holes          []Gap
	Promised       time.Time  // any moment since then is promised
	HeldFrom       *time.Time // since when every moment can be reached
	LateSince      time.Time  // when the calendar's base backup was due that did not come; zero: none
	Unproved       string     // why the last rehearsal failed; "" if it did not
	UnprovedAt     time.Time  // when
	Incidents      int
	PageFaults     int64
	LostBases      int // base backups that audits could not read
	Aside          []SetAside
}

// SetAside is what a takeover has set aside, and is still there.
type SetAside struct {
	Takeover string // its id
	At       time.Time
	Until    time.Time // kept until then in any case
}

// Gap is WAL that is missing.
type Gap struct {
	Text   string // where
	Closed bool   // a base backup after it carries on
	Meant  bool   // it was deleted by rule
}

// lateAfter is how much later than due a base backup may be complete; slack is by how
// much a promise may be missed, for a base backup is not taken in an instant.
const (
	lateAfter = time.Hour
	slack     = 2 * time.Hour
)

// leastRetained is how much retained WAL is no reason to worry.
const leastRetained = 1 << 30

// ClockTolerance is how far the server's clock and the service's may be apart.
const ClockTolerance = time.Second

func because(problem string) string {
	if problem == "" {
		return ""
	}
	return ": " + problem
}

// Needs lists what needs attention, the worst first.
func Needs(k Cluster, now time.Time) []Need {
	list := []Need{}
	add := func(kind Concern, command, text string, args ...any) {
		list = append(list, Need{kind, fmt.Sprintf(text, args...), command})
	}
	captureNeeds(k, now, add)

	captured := len(list) == 0
	if k.StoreTaken != "" {
		add(Store, "velvet store show", "Nothing in the store is deleted or replaced by this service: %s", k.StoreTaken)
	}
	if k.StoreUnlocked != "" {
		add(Store, "velvet store show", "The locks of what the store holds run out, and could not be extended: %s", k.StoreUnlocked)
	}
	if k.Bases == 0 && !k.BaseRunning {
		add(NoBase, "velvet backup take "+k.Name, "There is no base backup: nothing can be restored.")
	}
	for _, h := range k.Holes {
		if !h.Closed && !h.Meant {
			add(Hole, "velvet backup take "+k.Name, "WAL is missing (%s), and no base backup has been taken since: take one.", h.Text)
		}
	}
	if k.DamagedAt != "" {
		add(Hole, "velvet backup take "+k.Name, "The WAL that is being received cannot be read from %s on: what follows cannot be "+
			"reached before a base backup was taken after it.", k.DamagedAt)
	}
	young := k.Added.After(k.Promised)
	if k.HeldFrom != nil && k.HeldFrom.Sub(k.Promised) > slack && !young {
		add(Promise, "velvet keep show "+k.Name, "Any moment since %s is promised, and only those since %s can be reached.",
			stamp(k.Promised), stamp(*k.HeldFrom))
	}
	// Without capture none can come, and where there is none at all, that is told already.
	if captured && k.Bases > 0 && !k.LateSince.IsZero() && now.Sub(k.LateSince) > lateAfter && !k.BaseRunning {
		add(Late, "velvet task list --cluster "+k.Name+" --kind backup", "The base backup due at %s has not come.", stamp(k.LateSince))
	}
	if k.Unproved != "" {
		add(Unproved, "velvet rehearse now "+k.Name, "The rehearsal of %s failed: %s", stamp(k.UnprovedAt), k.Unproved)
	}
	if off := k.ClockAhead.Abs(); off > ClockTolerance {
		add(Clock, "velvet capture status "+k.Name,
			"The server's clock and this service's are %s apart: set them right; until then nothing is deleted by the keep rule.",
			off.Round(100*time.Millisecond))
	}
	if k.Incidents > 0 {
		add(Incident, "velvet changes list "+k.Name+" --incidents", "%s to look at: rows or tables went in bulk.",
			figures.Of(k.Incidents, "incident"))
	}
	if k.PageFaults > 0 {
		add(Damage, "velvet backup list "+k.Name, "The newest base backup found %s: the server's disk or memory is suspect.",
			figures.Of(int(k.PageFaults), "damaged page"))
	}
	if k.LostBases > 0 {
		add(Damage, "velvet store audit --full", "%s cannot be read, as an audit found: fix the store, or drop what is damaged.",
			figures.Of(k.LostBases, "base backup"))
	}
	for _, t := range k.Aside {
		if now.After(t.Until) {
			add(Aside, "velvet restore takeover clear "+t.Takeover,
				"The files that the takeover of %s set aside are still there: remove them once nobody needs them.", stamp(t.At))
		}
	}
	slices.SortStableFunc(list, func(a, b Need) int { return cmp.Compare(slices.Index(order, a.Kind), slices.Index(order, b.Kind)) })
	return list
}

// captureNeeds tells what keeps WAL from being received and stored.
func captureNeeds(k Cluster, now time.Time, add func(kind Concern, command, text string, args ...any)) {
	still := now.Sub(k.CaptureSince)
	switch {
	case !k.CaptureWanted:
		add(Capture, "velvet capture start "+k.Name,
			"Capture was stopped %s ago: what is committed now cannot be rewound to, and the server retains its WAL.", Ago(still))
	case k.CaptureFailed:
		add(Capture, "velvet cluster ready "+k.Name, "Capture has failed: %s", k.CaptureProblem)
	case !k.CaptureRuns && still > k.CaptureAlert:
		add(Capture, "velvet cluster ready "+k.Name, "Capture has been %s for %s: %s", k.CaptureState, Ago(still),
			cmp.Or(k.CaptureProblem, "it has not begun"))
	case k.CompleteAge > k.CaptureAlert:
		add(Capture, "velvet capture status "+k.Name, "Capture is %s behind (%s): what was committed since then is not all safe here%s.",
			Ago(k.CompleteAge), k.CaptureState, because(k.CaptureProblem))
	case k.SpoolLimit > 0 && k.Spooled > k.SpoolLimit/2:
		add(Capture, "velvet store show", "%s of WAL wait for the store; capture pauses at %s%s.", figures.Size(k.Spooled),
			figures.Size(k.SpoolLimit), because(k.CaptureProblem))
	}
	if k.Room >= 0 && k.Retained > leastRetained && k.Retained > k.Room {
		add(Capture, "velvet capture status "+k.Name,
			"The server retains %s of WAL for capture and has room for %s more: then it removes WAL that was not captured, or its disk "+
				"is full.", figures.Size(k.Retained), figures.Size(k.Room))
	}
}

// Rank tells how bad the worst of some needs is: 0 for none, higher is worse.
func Rank(kinds ...Concern) int {
	worst := 0
	for _, k := range kinds {
		worst = max(worst, len(order)-slices.Index(order, k))
	}
	return worst
}

// Ago says a stretch of time in words, roughly.
func Ago(d time.Duration) string {
	switch {
	case d < 2*time.Minute:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	case d < 2*time.Hour:
		return fmt.Sprintf("%d min", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h", int(d.Hours()))
	}
	return fmt.Sprintf("%d days", int(d.Hours()/24))
}

func stamp(t time.Time) string { return t.UTC().Format("2006-01-02 15:04 UTC") }
