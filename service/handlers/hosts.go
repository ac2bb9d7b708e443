package handlers

import (
	"context"
	"net/http"

	"velvetrewind/api"
	"velvetrewind/core/problem"
	"velvetrewind/engine/catalog"
	"velvetrewind/service/hosts"
	"velvetrewind/service/shapes"
)

// Hosts adds, shows and removes machines with a host agent.
type Hosts struct {
	Catalog  *catalog.Catalog
	Registry *hosts.Registry
	Address  string // at which this instance listens for agents, "" if it does not
}

// Register registers the operations.
func (h *Hosts) Register(api *Surface) {
	op(api, http.MethodGet, "/hosts", "list-hosts", "List the hosts with an agent", 0, h.list)
	op(api, http.MethodPost, "/hosts", "add-host", "Give a word with which a host may join", http.StatusCreated, h.add)
	op(api, http.MethodGet, "/hosts/{host}", "show-host", "Show a host", 0, h.one)
	op(api, http.MethodDelete, "/hosts/{host}", "remove-host", "Have a host be one no longer", http.StatusNoContent, h.remove)
}

// HostPath names a host.
type HostPath struct {
	Host string `path:"host" doc:"name or id"`
}

func (h *Hosts) list(ctx context.Context, _ *struct{}) (*body[[]api.Host], error) {
	list, err := h.Catalog.Hosts(ctx)
	if err != nil {
		return nil, err
	}
	views := []api.Host{}
	for _, k := range list {
		v, err := h.view(ctx, k)
		if err != nil {
			return nil, err
		}
		views = append(views, v)
	}
	return answer(views, nil)
}

func (h *Hosts) one(ctx context.Context, in *HostPath) (*body[api.Host], error) {
	k, err := h.Catalog.Host(ctx, in.Host)
	if err != nil {
		return nil, err
	}
	return answer(h.view(ctx, k))
}

func (h *Hosts) view(ctx context.Context, k catalog.Host) (api.Host, error) {
	names, err := h.Catalog.CopiesOn(ctx, k.ID)
	if err != nil {
		return api.Host{}, err
	}
	clusters, err := h.Catalog.ClustersOn(ctx, k.ID)
	if err != nil {
		return api.Host{}, err
	}
	_, connected := h.Registry.Connected(k.ID)
	v, err := shapes.Host(k, connected, names)
	v.Clusters = append([]string{}, clusters...)
	return v, err
}

type addHost struct {
	Body api.AddHostRequest
}

func (h *Hosts) add(ctx context.Context, in *addHost) (*body[api.HostWord], error) {
	const title = "the host was not added"
	if h.Address == "" {
		return nil, problem.New(problem.Conflict, "Serve with an address that the host reaches: --agents 0.0.0.0:8418", title,
			"this service listens for no host agents")
	}
	if !clusterName.MatchString(in.Body.Name) {
		return nil, problem.New(problem.Invalid, "Begin with a letter; use lower-case letters, digits, - and _, at most 40.",
			title, "%q cannot be a host's name", in.Body.Name)
	}
	word, until, err := h.Registry.Invite(ctx, in.Body.Name)
	if err != nil {
		return nil, err
	}
	return answer(api.HostWord{Name: in.Body.Name, Word: word, Address: h.Address, Until: until.UTC()}, nil)
}

type removeHost struct {
	HostPath
	Confirm string `query:"confirm" doc:"name of the host"`
}

func (h *Hosts) remove(ctx context.Context, in *removeHost) (*struct{}, error) {
	k, err := h.Catalog.Host(ctx, in.Host)
	if err != nil {
		return nil, err
	}
	if in.Confirm != k.Name {
		return nil, problem.New(problem.Unconfirmed, "To go on, confirm with the host's name: "+k.Name, "the host was not removed",
			"its agent will be turned away, and has to join anew; nothing on the machine is removed, and where it is lost, its copies are "+
				"given up")
	}
	if err := h.Catalog.RemoveHost(ctx, k); err != nil {
		return nil, err
	}
	h.Registry.Cut(k.ID)
	return nil, nil
}
