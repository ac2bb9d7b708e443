package takeover

import (
	"context"
	"fmt"

	"velvetrewind/core/figures"
	"velvetrewind/core/pg"
	"velvetrewind/engine/host"
)

// Doors say how clients of a cluster come in.
type Doors struct {
	HBA   string   // path of its pg_hba.conf
	Roles []string // of ours, that have to go on coming in
}

// doors looks for what stands in the way of refusing clients ahead of the stop.
func (p *preparation) doors(ctx context.Context) {
	if !p.wish.Refuse || p.Original.Gone {
		return
	}
	d, err := p.Doors(ctx, p.cluster)
	if err == nil {
		_, err = admitOnly(p.machine, p.Original, d)
	}
	if err != nil {
		p.stop("Take over without --refuse-clients: they are cut off when the original is stopped.",
			"clients cannot be refused ahead of that: %v", err)
		return
	}
	p.HBA = d.HBA
}

// admitOnly is the pg_hba.conf by which nobody but us comes in.
func admitOnly(m host.Originals, o host.Original, d Doors) (string, error) {
	content, err := m.HBA(o, d.HBA)
	if err != nil {
		return "", err
	}
	only, err := pg.AdmitOnly(content, d.Roles)
	if err != nil {
		return "", fmt.Errorf("%s: %w", d.HBA, err)
	}
	return "# Written by Velvet Rewind for the time of a takeover; what stood here is beside it.\n" + only, nil
}

// refuse has no client come in any more, and ends the sessions of those that are in, as far as that is allowed to the registered role.
func (m *move) refuse(ctx context.Context) error {
	if m.record.HBA == "" {
		return nil
	}
	d, err := m.Doors(ctx, m.cluster)
	if err != nil {
		return err
	}
	content, err := admitOnly(m.Host, m.original, d)
	if err != nil {
		return err
	}
	if err := m.Host.Refuse(ctx, m.original, d.HBA, content); err != nil {
		return err
	}
	switch left, err := m.Disconnect(ctx, m.cluster); {
	case err != nil:
		m.report.Warn("sessions go on until the original is stopped: %v", err)
	case left > 0:
		m.report.Warn("the registered role may not end %s: they go on until the original is stopped", figures.Of(left, "session"))
	}
	return nil
}

// admit undoes refuse.
func (m *move) admit(ctx context.Context) error {
	if m.record.HBA == "" {
		return nil
	}
	return m.Host.Admit(ctx, m.original, m.record.HBA)
}
