package catalog

import "context"

// Standings is what is asked of many clusters at once, by cluster. Each is one query,
// whose time does not grow with the length of histories.
type Standings struct {
	Captures map[string]Capture
	Runs     map[string][]Run
	Firsts   map[string][]Backup // of each run, the earliest backup that begins and ends in it
	Newest   map[string]Backup
	Counts   map[string]int   // of backups
	Proofs   map[string]Proof // without their checks
	// Rehearsed is the last rehearsal of each cluster that ended and was not cancelled.
	Rehearsed map[string]Rehearsal
	Timelines map[string][]Timeline
	Released  map[string][]Released
	Causes    map[string][]HoleCause
	Incidents map[string][]Incident // that nobody has settled
	Backing   map[string]bool       // a backup is being taken
	Lost      map[string]Losses     // of these clusters, Firsts has every backup
	Aside     map[string][]Takeover // done, of which what was set aside is still there
}

// Standings reads how a cluster stands; all clusters when cluster is "".
func (c *Catalog) Standings(ctx context.Context, cluster string) (Standings, error) {
	s := Standings{
		Captures: make(map[string]Capture), Runs: make(map[string][]Run), Firsts: make(map[string][]Backup),
		Newest: make(map[string]Backup),
		Counts: make(map[string]int), Proofs: make(map[string]Proof), Rehearsed: make(map[string]Rehearsal),
		Timelines: make(map[string][]Timeline),
		Released:  make(map[string][]Released), Causes: make(map[string][]HoleCause), Incidents: make(map[string][]Incident),
		Backing: make(map[string]bool), Aside: make(map[string][]Takeover),
	}
	for _, read := range []func(context.Context, string, *Standings) error{c.readWAL, c.readBackups, c.readNotes} {
		if err := read(ctx, cluster, &s); err != nil {
			return s, err
		}
	}
	return s, nil
}

// readWAL reads captures, runs, timelines, what was deleted, and what takeovers set aside.
func (c *Catalog) readWAL(ctx context.Context, cluster string, s *Standings) error {
	var captures []Capture
	if err := c.db.SelectContext(ctx, &captures, `select * from velvet.captures where cluster_id = $1 or $1 = ''`, cluster); err != nil {
		return err
	}
	for _, v := range captures {
		s.Captures[v.ClusterID] = v
	}
	runs, err := c.Runs(ctx, cluster)
	if err != nil {
		return err
	}
	for _, v := range runs {
		s.Runs[v.ClusterID] = append(s.Runs[v.ClusterID], v)
	}
	var timelines []Timeline
	if err := c.db.SelectContext(ctx, &timelines, `select * from velvet.timelines where cluster_id = $1 or $1 = '' order by timeline`,
		cluster); err != nil {
		return err
	}
	for _, v := range timelines {
		s.Timelines[v.ClusterID] = append(s.Timelines[v.ClusterID], v)
	}
	var released []struct {
		ClusterID string `db:"cluster_id"`
		Released
	}
	err = c.db.SelectContext(ctx, &released, `select cluster_id, timeline, first, last, released_at, tidied from velvet.released
		where cluster_id = $1 or $1 = '' order by timeline, first`, cluster)
	if err != nil {
		return err
	}
	for _, v := range released {
		s.Released[v.ClusterID] = append(s.Released[v.ClusterID], v.Released)
	}
	var aside []Takeover
	if err := c.db.SelectContext(ctx, &aside, `select * from velvet.takeovers
		where (cluster_id = $1 or $1 = '') and step = $2 and removed_at is null
		and not coalesce((original ->> 'gone')::boolean, false) order by ended_at`, cluster, TakeoverDone); err != nil {
		return err
	}
	for _, v := range aside {
		s.Aside[v.ClusterID] = append(s.Aside[v.ClusterID], v)
	}
	var causes []HoleCause
	err = c.db.SelectContext(ctx, &causes, `select * from velvet.hole_causes where cluster_id = $1 or $1 = ''`, cluster)
	for _, v := range causes {
		s.Causes[v.ClusterID] = append(s.Causes[v.ClusterID], v)
	}
	return err
}

// readBackups reads the first backup of each run, the newest of each cluster, and how many.
func (c *Catalog) readBackups(ctx context.Context, cluster string, s *Standings) error {
	var firsts []Backup
	// The newest WAL of a cluster may be in the spool still, and a backup's end in it.
	err := c.db.SelectContext(ctx, &firsts, `select b.* from velvet.runs r cross join lateral (
			select * from velvet.backups b where b.cluster_id = r.cluster_id and b.timeline = r.timeline and b.dropped_at is null
				and b.stop_lsn > r.start_lsn and b.start_lsn >= r.start_lsn order by b.stop_lsn limit 1) b
		where r.cluster_id = $1 or $1 = ''`, cluster)
	if err != nil {
		return err
	}
	for _, v := range firsts {
		s.Firsts[v.ClusterID] = append(s.Firsts[v.ClusterID], v)
	}
	if s.Lost, err = c.losses(ctx, cluster); err != nil {
		return err
	}
	for id := range s.Lost { // reach may begin with any
		if s.Firsts[id], err = c.Backups(ctx, id); err != nil {
			return err
		}
	}
	var newest []Backup
	err = c.db.SelectContext(ctx, &newest, `select b.* from velvet.clusters k cross join lateral (
			select * from velvet.backups b where b.cluster_id = k.id and b.dropped_at is null order by b.stopped_at desc limit 1) b
		where k.id = $1 or $1 = ''`, cluster)
	if err != nil {
		return err
	}
	for _, v := range newest {
		s.Newest[v.ClusterID] = v
	}
	var counts []struct {
		ClusterID string `db:"cluster_id"`
		N         int    `db:"n"`
	}
	err = c.db.SelectContext(ctx, &counts, `select cluster_id, count(*) as n from velvet.backups
		where dropped_at is null and (cluster_id = $1 or $1 = '') group by cluster_id`, cluster)
	for _, v := range counts {
		s.Counts[v.ClusterID] = v.N
	}
	return err
}

// readNotes reads proofs, incidents, and which backups are being taken.
func (c *Catalog) readNotes(ctx context.Context, cluster string, s *Standings) error {
	var proofs []Proof
	err := c.db.SelectContext(ctx, &proofs, `select p.* from velvet.clusters k cross join lateral (
			select p.id, p.copy_id, p.cluster_id, p.backup_id, p.moment, p.verdict, '[]'::jsonb as checks, p.started_at, p.finished_at,
				p.task_id,
			p.moves, p.asked_by, p.report_hash from velvet.proofs p where p.cluster_id = k.id order by p.finished_at desc limit 1) p
		where k.id = $1 or $1 = ''`, cluster)
	if err != nil {
		return err
	}
	for _, v := range proofs {
		s.Proofs[v.ClusterID] = v
	}
	var rehearsals []Rehearsal
	err = c.db.SelectContext(ctx, &rehearsals, `select distinct on (cluster_id) * from velvet.rehearsals
		where ended_at is not null and outcome <> 'cancelled' and (cluster_id = $1 or $1 = '') order by cluster_id, ended_at desc`, cluster)
	if err != nil {
		return err
	}
	for _, v := range rehearsals {
		s.Rehearsed[v.ClusterID] = v
	}
	var incidents []Incident
	err = c.db.SelectContext(ctx, &incidents, `select * from velvet.incidents where (cluster_id = $1 or $1 = '') and settled_at is null
		order by committed_at desc, lsn desc`, cluster)
	if err != nil {
		return err
	}
	for _, v := range incidents {
		s.Incidents[v.ClusterID] = append(s.Incidents[v.ClusterID], v)
	}
	var backing []string
	err = c.db.SelectContext(ctx, &backing, `select cluster_id from velvet.tasks where kind = 'backup' and state in ('waiting', 'running')
		and (cluster_id = $1 or $1 = '')`, cluster)
	for _, id := range backing {
		s.Backing[id] = true
	}
	return err
}
