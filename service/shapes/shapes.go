// Package shapes gives what core and the engine work out, and the records of the catalogue, the shapes of the API.
//
// Invariant: it reads nothing and decides nothing; the same record always looks the same. Times are in UTC, and lists are
// never null. Looking things up is left to those who call it.
package shapes

import (
	"velvetrewind/api"
	"velvetrewind/core/attention"
	"velvetrewind/core/calendar"
	"velvetrewind/core/inventory"
	"velvetrewind/core/journal"
	"velvetrewind/core/keep"
	"velvetrewind/core/layout"
	"velvetrewind/core/moment"
	"velvetrewind/core/plan"
	"velvetrewind/core/proof"
	"velvetrewind/core/reach"
	"velvetrewind/core/readiness"
	"velvetrewind/engine/backup"
	"velvetrewind/engine/upkeep/audit"
	"velvetrewind/engine/upkeep/retention"
)

// What core and the engine work out becomes the shapes of the API, and the other way round. A conversion that names no
// field is of structs with the same fields: the compiler holds that they stay so.

// Each converts a list, which is never null.
func Each[A, B any](list []A, to func(A) B) []B {
	out := make([]B, len(list))
	for i, v := range list {
		out[i] = to(v)
	}
	return out
}

// Span shows a span of the reach.
func Span(s reach.Span) api.Span { return api.Span(s) }

// Need shows what needs attention.
func Need(n attention.Need) api.Need {
	return api.Need{Kind: string(n.Kind), Text: n.Text, Command: n.Command}
}

func commit(c *journal.Commit) *api.Commit { return (*api.Commit)(c) }

// Boundary shows a moment that was resolved.
func Boundary(b moment.Boundary) api.Boundary {
	return api.Boundary{
		Moment: b.Moment, Timeline: b.Timeline, Stop: b.Stop, Inclusive: b.Inclusive, End: b.End,
		LastIn: commit(b.LastIn), FirstOut: commit(b.FirstOut),
	}
}

// Restore shows a plan.
func Restore(p plan.Restore) api.Restore {
	return api.Restore{
		Boundary: Boundary(p.Boundary), Base: p.Base, Start: p.Start, First: p.First, Last: p.Last, Count: p.Count, Replay: p.Replay,
	}
}

func check(c proof.Check) api.Check {
	v := api.Check{Name: c.Name, Area: string(c.Area), Verdict: string(c.Verdict), Summary: c.Summary, Seconds: c.Took.Seconds(),
		Shows: c.Shows, Lacks: c.Lacks, Next: c.Next, Notes: c.Notes, Value: c.Value}
	for _, f := range c.Wrong {
		v.Wrong = append(v.Wrong, api.Finding(f))
	}
	for _, f := range c.LeftOut {
		v.LeftOut = append(v.LeftOut, api.Finding(f))
	}
	for _, t := range c.Tables {
		v.Tables = append(v.Tables, api.Table{Database: t.Database, OID: t.OID, Name: t.Name, Copy: t.Copy, Sum: t.Sum, Columns: t.Columns,
			Live: t.Live, LiveSum: t.LiveSum, Problem: t.Problem, Unsafe: t.Unsafe, Locked: t.Locked, Damaged: t.Damaged, Aside: t.Aside,
			Cause: t.Cause, Agrees: string(t.Agrees)})
	}
	return v
}

func damagedPage(p layout.DamagedPage) api.DamagedPage { return api.DamagedPage(p) }

func tablespace(t layout.TablespaceEntry) api.TablespaceEntry { return api.TablespaceEntry(t) }

// Content shows what a base backup holds.
func Content(c backup.Content) api.Content {
	return api.Content{
		Databases:   Each(c.Databases, func(d backup.DatabaseContent) api.DatabaseContent { return api.DatabaseContent(d) }),
		Tablespaces: Each(c.Tablespaces, func(t backup.TablespaceContent) api.TablespaceContent { return api.TablespaceContent(t) }),
		Relations:   Each(c.Relations, func(r backup.RelationContent) api.RelationContent { return api.RelationContent(r) }),
		MoreTables:  c.MoreTables, Catalogs: c.Catalogs, Other: c.Other, Packs: c.Packs, Alone: c.Alone, FirstWAL: c.FirstWAL,
		LastWAL: c.LastWAL,
	}
}

func reasons(list []keep.Reason) []api.KeepReason {
	return Each(list, func(r keep.Reason) api.KeepReason { return api.KeepReason(r) })
}

// KeepPreview shows what a keep rule would delete, and why the rest is kept.
func KeepPreview(p retention.Preview) api.KeepPreview {
	return api.KeepPreview{
		AsOf: p.AsOf, Promised: p.Promised, Held: p.Held, HeldFrom: p.HeldFrom,
		Bases: Each(p.Bases, func(b keep.Base) api.KeepBase {
			return api.KeepBase{
				ID: b.ID, Timeline: b.Timeline, Start: b.Start, Stop: b.Stop, StopTime: b.StopTime, Needed: b.Needed,
				Reasons: reasons(b.Reasons),
			}
		}),
		WAL: Each(p.WAL, func(w keep.WAL) api.KeepWAL {
			return api.KeepWAL{
				Timeline: w.Timeline, First: w.First, Last: w.Last, From: w.From, To: w.To, Needed: w.Needed, Reasons: reasons(w.Reasons),
			}
		}),
		Before: Each(p.Before, Span), After: Each(p.After, Span),
		Rule: api.KeepRule(p.Rule), Words: p.Words, Token: p.Token, FreesBackups: p.FreesBackups, FreesWAL: p.FreesWAL,
	}
}

func window(w calendar.Window) api.CalendarWindow { return api.CalendarWindow(w) }

// Schedule shows when work recurs.
func Schedule(s calendar.Schedule) api.CalendarSchedule {
	return api.CalendarSchedule{
		Cron: s.Cron, EveryHours: s.EveryHours, At: s.At, Weekdays: s.Weekdays, Zone: s.Zone, Jitter: s.Jitter,
		Quiet: Each(s.Quiet, window),
	}
}

// ScheduleOf reads a schedule that a request holds.
func ScheduleOf(s api.CalendarSchedule) calendar.Schedule {
	plan := calendar.Schedule{Cron: s.Cron, EveryHours: s.EveryHours, At: s.At, Weekdays: s.Weekdays, Zone: s.Zone, Jitter: s.Jitter}
	for _, q := range s.Quiet {
		plan.Quiet = append(plan.Quiet, calendar.Window(q))
	}
	return plan
}

// Run shows when something of the calendar is due.
func Run(r calendar.Run) api.CalendarRun { return api.CalendarRun(r) }

// Readiness shows what a cluster is and lacks.
func Readiness(r readiness.Report) api.ReadinessReport {
	f := r.Facts
	return api.ReadinessReport{
		Facts: api.ReadinessFacts{
			ServerVersion: f.ServerVersion, Catalog: f.Catalog, Sizes: api.ReadinessSizes(f.Sizes), VersionText: f.VersionText,
			SystemID: f.SystemID,
			Timeline: f.Timeline, SegmentSize: f.SegmentSize, Checksums: f.Checksums,
			Role: f.Role, RoleSuperuser: f.RoleSuperuser, Replication: f.Replication, ReplicationRole: f.ReplicationRole,
			ReplicationFail: f.ReplicationFail,
			ReadsFiles:      f.ReadsFiles, ReadsTables: f.ReadsTables, ReadsChanges: f.ReadsChanges, Settings: f.Settings,
			SendersUsed: f.SendersUsed,
			SlotsUsed:   f.SlotsUsed, SlotExists: f.SlotExists, ArchiveFailing: f.ArchiveFailing,
			Tablespaces: f.Tablespaces, Bytes: f.Bytes,
			ClockAhead: f.ClockAhead,
			Unverified: f.Unverified, ServerFree: f.ServerFree, StoreFree: f.StoreFree, StoreSealed: f.StoreSealed,
			ServiceZone: f.ServiceZone,
			CopiesUser:  f.CopiesUser, CopiesFailure: f.CopiesFailure,
		},
		Checks: Each(r.Checks, func(c readiness.Check) api.ReadinessCheck {
			return api.ReadinessCheck{
				ID: c.ID, Title: c.Title, State: string(c.State), Found: c.Found, Why: c.Why, SQL: c.SQL, Edit: c.Edit, After: c.After,
				Effect: c.Effect,
			}
		}),
	}
}

// Audit shows what an audit found.
func Audit(r audit.Result) api.AuditResult {
	return api.AuditResult{
		Full: r.Full, Objects: r.Objects, Bytes: r.Bytes, Second: r.Second, Behind: r.Behind,
		Findings: Each(r.Findings, func(d inventory.Discrepancy) api.Discrepancy {
			return api.Discrepancy{Kind: string(d.Kind), Key: d.Key, Detail: d.Detail, Costs: d.Costs, Elsewhere: d.Elsewhere,
				Fixed: d.Fixed}
		}),
		Losses: Each(r.Losses, func(l audit.Loss) api.Loss {
			return api.Loss{Cluster: l.Cluster, Backups: l.Backups,
				Reach: Each(l.Reach, func(x inventory.LostReach) api.LostReach { return api.LostReach(x) })}
		}),
	}
}
