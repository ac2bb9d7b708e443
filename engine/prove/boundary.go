package prove

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"time"

	"velvetrewind/core/journal"
	"velvetrewind/core/pg"
	"velvetrewind/core/proof"
	"velvetrewind/core/task"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/restore/copies"
)

// boundary checks the place, the transactions on both sides of it, and the commit log.
func (r *run) boundary(ctx context.Context) error {
	started := time.Now()
	at, err := r.standing(ctx)
	if err != nil {
		return err
	}
	b := r.plan.Boundary
	r.add(proof.Boundary(b, at), started)
	xmax, err := r.newest(ctx)
	if err != nil {
		return err
	}
	started = time.Now()
	l, seen, err := r.expected(ctx, xmax)
	for _, side := range []struct {
		commit *journal.Commit
		in     bool
	}{{b.LastIn, true}, {b.FirstOut, false}} {
		if side.commit == nil {
			continue
		}
		began := time.Now()
		if err != nil && !side.in && at.Opened {
			r.add(proof.Unable(proof.FirstOut, fmt.Errorf("the copy gives ids out itself, and the journal could not be read: %w", err)),
				began)
			continue
		}
		xid := pg.XID(side.commit.XID).Near(xmax)
		status, err := r.statuses(ctx, xid, xid, xmax)
		if err != nil {
			return err
		}
		reused := r.copy.State == catalog.CopyOpen && seen > 0 && xid >= seen
		r.add(proof.Transaction(*side.commit, side.in, proof.Status(status[0]), reused), began)
	}
	if err != nil {
		r.add(proof.Unable(proof.Commits, fmt.Errorf("the journal could not be read: %w", err)), started)
		return ctx.Err()
	}
	if err := r.readLog(ctx, l, xmax); err != nil {
		return err
	}
	r.add(l.Check(), started)
	return nil
}

// standing is where the copy itself says that it stands.
func (r *run) standing(ctx context.Context) (at proof.Standing, err error) {
	at.Opened = r.copy.State == catalog.CopyOpen
	if at.Opened {
		return r.opened()
	}
	var text string
	if err := r.conn.QueryRow(ctx, `select pg_catalog.pg_last_wal_replay_lsn()::pg_catalog.text`).Scan(&text); err != nil {
		return at, err
	}
	if err := at.LSN.UnmarshalText([]byte(text)); err != nil {
		return at, err
	}
	at.Timeline, err = r.replayed(ctx, at.LSN)
	return at, err
}

// walDir is where a copy's server keeps its WAL, in the copy's tree.
const walDir = "data/pg_wal"

// opened reads where the copy was opened from the history of the timeline that it began then.
func (r *run) opened() (at proof.Standing, err error) {
	at.Opened = true
	files, err := r.tree.List(walDir)
	if err != nil {
		return at, err
	}
	var own pg.Timeline // the newest that it has
	for _, f := range files {
		if t, ok := pg.ParseHistoryName(f.Name); ok {
			own = max(own, t)
		}
	}
	content, err := r.tree.ReadFile(walDir + "/" + pg.HistoryName(own))
	if err != nil {
		return at, fmt.Errorf("the history of the timeline that the copy was opened on: %w", err)
	}
	forks, err := pg.ParseHistory(own, content)
	if err != nil || len(forks) == 0 {
		return at, errors.Join(fmt.Errorf("the history of timeline %d tells of none before", own), err)
	}
	last := forks[len(forks)-1]
	at.LSN, at.Timeline = last.At, last.Timeline
	return at, nil
}

var restoredFile = regexp.MustCompile(`restored log file "([0-9A-F]{24})" from archive`)

// replayed is the timeline of the segment that was replayed last, as the copy's log has it; or, where that does not tell, of
// the last place that its control file knows.
func (r *run) replayed(ctx context.Context, at pg.LSN) (found pg.Timeline, err error) {
	log, err := r.Host.Log(copies.Server(r.copy, r.Cluster.Major()))
	if err != nil {
		return 0, err
	}
	defer func() { _ = log.Close() }()
	z := r.Cluster.SegmentSize
	for lines := bufio.NewReader(log); ; {
		line, err := lines.ReadString('\n')
		if m := restoredFile.FindStringSubmatch(line); m != nil {
			if seg, err := pg.ParseSegmentName(m[1], z); err == nil && seg.Number <= z.Number(at-1) {
				found = seg.Timeline
			}
		}
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return 0, err
		}
	}
	if found == 0 {
		var n int64
		err = r.conn.QueryRow(ctx, `select min_recovery_end_timeline from pg_catalog.pg_control_recovery()`).Scan(&n)
		found = pg.Timeline(n)
	}
	return found, err
}

// newest is above every id that has ended in the copy, with its epoch.
func (r *run) newest(ctx context.Context) (pg.FullXID, error) {
	var n int64
	err := r.conn.QueryRow(ctx,
		`select pg_catalog.pg_snapshot_xmax(pg_catalog.pg_current_snapshot())::pg_catalog.text::bigint`).Scan(&n)
	return pg.FullXID(n), err
}

// expected gathers from the journal what should be in the copy's commit log. seen is above every id that was surely given
// before the boundary.
func (r *run) expected(ctx context.Context, xmax pg.FullXID) (l *proof.CommitLog, seen pg.FullXID, err error) {
	l = new(proof.CommitLog)
	_, j, err := r.Open(ctx, r.plan.Boundary.Timeline)
	if err != nil {
		return l, 0, err
	}
	b := r.plan.Boundary
	opened := r.copy.State == catalog.CopyOpen
	var later []pg.FullXID
	number := 0
	err = j.Each(ctx, r.plan.Start, func(_ *journal.Segment, t *journal.Transaction) error {
		if number++; number%100_000 == 0 {
			r.report.Progress(int64(number), 0, task.None, "reading the journal")
		}
		in, top := b.Keeps(t.End), pg.XID(t.XID).Near(xmax)
		if in || t.First < b.End {
			seen = max(seen, top+1)
		}
		if !in && !t.Committed {
			return nil
		}
		for i := -1; i < len(t.Subxacts); i++ {
			x := top
			if i >= 0 {
				x = t.Subxacts[i].Near(xmax)
			}
			switch {
			case in:
				seen = max(seen, x+1)
				l.Expect(x, t.Committed)
			case opened:
				later = append(later, x)
			default:
				l.Expect(x, false)
			}
		}
		return nil
	})
	for _, x := range later {
		if x < seen {
			l.Expect(x, false)
		} else {
			l.Leave()
		}
	}
	return l, seen, err
}

// readLog shows the copy's commit log to l, page by page: as it is on disk where that settles everything, else as its server
// reads it, what it has not written yet included.
func (r *run) readLog(ctx context.Context, l *proof.CommitLog, xmax pg.FullXID) error {
	pages := l.Pages()
	slices.Sort(pages)
	for i, n := range pages {
		r.report.Progress(int64(i), int64(len(pages)), task.Pages, "reading the copy's commit log")
		first := pg.FullXID(n * proof.LogPage)
		if status := r.onDisk(first, xmax); l.Settled(first, status) {
			l.See(first, status)
			continue
		}
		status, err := r.statuses(ctx, first, first+proof.LogPage-1, xmax)
		if err != nil {
			if ctx.Err() != nil {
				return context.Cause(ctx)
			}
			l.Halt(err.Error())
			return nil
		}
		l.See(first, status)
	}
	return nil
}

// onDisk reads the page of the commit log that begins with an id from its file; nothing where that is not to be had. The file
// may be behind what the server knows.
func (r *run) onDisk(first, xmax pg.FullXID) []byte {
	if first+1<<31 < xmax {
		return nil // the place in the file may be a later id's
	}
	page := uint64(uint32(first)) / proof.LogPage
	f, err := r.tree.Open(fmt.Sprintf("data/pg_xact/%04X", page/proof.LogSegment))
	if err != nil {
		return nil
	}
	defer func() { _ = f.Close() }()
	content := make([]byte, pg.BlockSize)
	if _, err := f.ReadAt(content, int64(page%proof.LogSegment)*pg.BlockSize); err != nil {
		return nil
	}
	return proof.Statuses(content)
}

// statusQuery gives a letter for each id.
const statusQuery = `select pg_catalog.string_agg(coalesce(pg_catalog.left(pg_catalog.pg_xact_status(
	n::pg_catalog.text::pg_catalog.xid8), 1), 'f'), '' order by n) from pg_catalog.generate_series($1::bigint, $2::bigint) n`

// statuses asks the copy what became of the transactions from first to last: a proof.Status for each, none for those that are
// not below xmax, but one for a single id.
func (r *run) statuses(ctx context.Context, first, last, xmax pg.FullXID) ([]byte, error) {
	if first >= xmax {
		return []byte{byte(proof.Unseen)}, nil
	}
	var text string
	err := r.conn.QueryRow(ctx, statusQuery, int64(first), int64(min(last, xmax-1))).Scan(&text)
	return []byte(text), err
}
