package handlers

import (
	"context"
	"net/http"
	"path/filepath"

	"velvetrewind/api"
	"velvetrewind/core/figures"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/restore/leftovers"
	"velvetrewind/service/shapes"
	"velvetrewind/service/tasks"
	"velvetrewind/service/work"
)

// Leftovers shows what takes room on hosts, and has removed what nobody needs.
type Leftovers struct {
	Catalog *catalog.Catalog
	Finder  *leftovers.Finder
	Tasks   *tasks.Queue
}

// Register registers the operations.
func (h *Leftovers) Register(api *Surface) {
	op(api, http.MethodGet, "/leftovers", "list-leftovers", "List what copies, takeovers and repairs hold on hosts", 0, h.list)
	op(api, http.MethodDelete, "/leftovers", "remove-leftover", "Remove a directory that is left on a host", http.StatusAccepted, h.remove)
}

func (h *Leftovers) list(ctx context.Context, _ *struct{}) (*body[api.Leftovers], error) {
	list, unseen, err := h.Finder.Find(ctx)
	if err != nil {
		return nil, err
	}
	clusters, err := h.Catalog.ClusterNames(ctx)
	if err != nil {
		return nil, err
	}
	hosts, err := h.Catalog.Hosts(ctx)
	if err != nil {
		return nil, err
	}
	names := make(map[string]string)
	for _, k := range hosts {
		names[k.ID] = k.Name
	}
	v := api.Leftovers{List: shapes.Each(list, func(l leftovers.Leftover) api.Leftover {
		view := api.Leftover{Host: names[l.Host], Cluster: clusters[l.Cluster], What: l.What, Path: l.Path, Bytes: l.Bytes,
			Removable: l.Removable, How: l.How}
		if l.Removable && view.Host != "" {
			view.How += " --host " + view.Host
		}
		if !l.Since.IsZero() {
			since := l.Since.UTC()
			view.Since = &since
		}
		return view
	}), Unseen: append([]string{}, unseen...)}
	return answer(v, nil)
}

type removeLeftover struct {
	Host    string `query:"host" doc:"name or id; the service's own if left out"`
	Path    string `query:"path" doc:"of the directory"`
	Confirm string `query:"confirm" doc:"last part of the path"`
}

func (h *Leftovers) remove(ctx context.Context, in *removeLeftover) (*body[api.Task], error) {
	on := ""
	if in.Host != "" {
		k, err := h.Catalog.Host(ctx, in.Host)
		if err != nil {
			return nil, err
		}
		on = k.ID
	}
	l, err := h.Finder.At(ctx, on, in.Path)
	if err != nil {
		return nil, err
	}
	if err := confirmed(in.Confirm, filepath.Base(l.Path), "nothing was removed", l.Path+" is removed permanently, with "+
		figures.Size(l.Bytes)); err != nil {
		return nil, err
	}
	t, err := h.Tasks.Submit(ctx, l.Cluster, l.Path, work.Clear{Host: on, Path: l.Path})
	if err != nil {
		return nil, err
	}
	names, err := h.Catalog.ClusterNames(ctx)
	if err != nil {
		return nil, err
	}
	return answer(shapes.Task(t, names))
}
