package shapes

import (
	"encoding/json"
	"errors"

	"velvetrewind/api"
	"velvetrewind/core/rescue"
	"velvetrewind/engine/catalog"
)

// Rescue shows a rescue; names has those of clusters by their ids, copies those of copies.
func Rescue(r *catalog.Rescue, names, copies map[string]string) (api.Rescue, error) {
	var also []uint64
	if err := json.Unmarshal(r.Also, &also); err != nil {
		return api.Rescue{}, err
	}
	v := api.Rescue{Also: also, ID: r.ID, Cluster: names[r.ClusterID], Copy: copies[r.CopyID], Moment: r.Moment, Transaction: uint64(r.XID),
		State: r.State, Wrote: uint64(r.OwnXID), BegunAt: r.BegunAt.UTC(), Task: r.TaskID, Checks: []api.RescueCheck{}}
	if r.EndedAt.Valid {
		at := r.EndedAt.Time.UTC()
		v.EndedAt = &at
	}
	var p rescue.Plan
	var checks []rescue.Check
	var batches []rescue.Batch
	err := errors.Join(json.Unmarshal(r.Plan, &p), json.Unmarshal(r.Checks, &checks), json.Unmarshal(r.Batches, &batches))
	if err != nil {
		return v, err
	}
	for _, b := range batches {
		v.Batches, v.Left = append(v.Batches, b.Own), b.Left
	}
	v.Database, v.Unable, v.Runs = p.Database, append([]string{}, p.Unable...), append([]string{}, p.Runs...)
	v.Made = append([]string{}, p.Made...)
	v.Tables = Each(p.Tables, rescueTable)
	v.Checks = Each(checks, func(c rescue.Check) api.RescueCheck {
		return api.RescueCheck{Name: c.Name, Verdict: string(c.Verdict), Summary: c.Summary}
	})
	return v, nil
}

func rescueTable(t rescue.TablePlan) api.RescueTable {
	return api.RescueTable{Table: t.Table, Key: t.Key, Did: t.Did, Rows: t.Rows, Missing: t.Missing, Overwritten: t.Overwritten,
		Right: t.Right, Changed: t.Changed, Gone: t.Gone, Orphans: t.Orphans, Taken: t.Taken, Unsettled: t.Unsettled, Inserts: t.Inserts,
		Updates: t.Updates,
		Notes:   append([]string{}, t.Notes...),
		Conflicts: Each(t.Conflicts, func(c rescue.Conflict) api.RescueConflict {
			return api.RescueConflict{How: c.How, Key: c.Key, Do: string(c.Do),
				Columns: Each(c.Columns, func(d rescue.Differing) api.RescueDiffering { return api.RescueDiffering(d) })}
		})}
}
