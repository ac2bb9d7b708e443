package shapes

import (
	"velvetrewind/api"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/restore/repair"
)

// Repair shows what a repair found and did.
func Repair(k catalog.Cluster, o repair.Order, done repair.Outcome) api.Repair {
	return api.Repair{Cluster: k.Name, Directory: o.Original.DataDir, Planned: !o.Apply, Base: o.Base, From: o.Start, To: o.End,
		Findings: Each(done.Findings, func(f repair.Finding) api.RepairFile { return api.RepairFile(f) }), More: done.More,
		Files: done.Files, Bytes: done.Bytes, Newer: done.Newer, Segments: append([]string{}, done.Segments...),
		Aside: append([]string{}, done.Aside...), Strict: done.Strict}
}
