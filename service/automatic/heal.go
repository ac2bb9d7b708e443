package automatic

import (
	"context"
	"time"

	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/engine/catalog"
	"velvetrewind/service/work"
)

const (
	healEvery = 15 * time.Second
	// healAgain is how long after a base backup that was begun for a hole another one is, if that
	// has not ended it.
	healAgain = time.Hour
)

// healer takes a base backup by itself where a hole in the captured WAL has no other end and the
// calendar takes the cluster's base backups anyway. It looks after the clusters whose capture this
// instance runs.
type healer struct {
	*Starter
	begun map[string]begunFor
}

type begunFor struct {
	hole pg.LSN
	at   time.Time
}

// Heal looks for such holes again and again until ctx ends.
func (s *Starter) Heal(ctx context.Context) {
	h := &healer{Starter: s, begun: make(map[string]begunFor)}
	s.every(ctx, healEvery, "holes were not looked for", h.look)
}

func (h *healer) look(ctx context.Context) error {
	f, err := h.Fleet.Of(ctx, "")
	if err != nil {
		return err
	}
	for _, k := range f.Calendar.Clusters {
		if !h.Captures.Captures(k.ID) || f.Standings.Backing[k.ID] || !f.Calendar.Allows(k, catalog.WorkBackup, f.Now) {
			continue
		}
		v, err := f.View(k)
		if err != nil {
			return err
		}
		at := v.Capture.ReadableTo
		for _, hole := range v.Holes {
			if hole.Until == nil && !hole.Meant {
				at = max(at, hole.From)
			}
		}
		last := h.begun[k.ID]
		if at == 0 || last.hole == at && time.Since(last.at) < healAgain {
			continue
		}
		h.begun[k.ID] = begunFor{at, time.Now()}
		t, err := h.Tasks.Submit(ctx, k.ID, catalog.NewID(), work.Backup{Kind: layout.Full})
		if err != nil {
			return err
		}
		h.Log.Info("a base backup is taken by itself, to end a hole", "cluster", k.Name, "hole", at.String(), "task", t.ID)
	}
	return nil
}
