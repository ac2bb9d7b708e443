package handlers

import (
	"context"
	"log/slog"
	"net/http"
	"strings"

	"velvetrewind/api"
	"velvetrewind/core/pg"
	"velvetrewind/core/problem"
	"velvetrewind/core/readiness"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/server/access"
	"velvetrewind/engine/server/survey"
	"velvetrewind/service/logins"
	"velvetrewind/service/shapes"
)

// Readiness says what clusters lack, and fixes it.
type Readiness struct {
	Catalog *catalog.Catalog
	Logins  logins.Logins
	Checker func() *survey.Checker
	Log     *slog.Logger
}

// Register registers the operations.
func (h *Readiness) Register(api *Surface) {
	op(api, http.MethodGet, "/clusters/{cluster}/readiness", "check-readiness", "Look at what a cluster is and lacks", 0,
		h.checkReadiness)
	question(api, "/readiness", "check-unregistered", "Look at what a cluster is and lacks that is not registered",
		h.checkUnregistered)
	op(api, http.MethodPost, "/readiness/apply", "apply-readiness", "Run the SQL that fixes what a cluster lacks, and look again", 0,
		h.applyReadiness)
	op(api, http.MethodGet, "/readiness/role", "script-role", "Give SQL that makes a role with just the rights that are needed",
		0, h.scriptRole)
}

// notReady puts what blocks, with its remedies, into one problem.
func notReady(r readiness.Report) error {
	detail, next := "", ""
	for _, c := range r.Checks {
		if c.State != readiness.Needed {
			continue
		}
		if detail != "" {
			detail += "; "
		}
		detail += c.Title + ": " + c.Found
		for _, line := range append(append([]string{}, c.SQL...), c.Edit...) {
			next += line + "\n"
		}
		if c.After == "restart" {
			next += "-- then restart the server\n"
		}
	}
	if next != "" {
		next = "As a superuser of that cluster:\n" + next + "Then add it again."
	}
	return problem.New(problem.NotReady, next, "the cluster was not added", "%s", detail)
}

func (h *Readiness) checkReadiness(ctx context.Context, in *ClusterPath) (*body[api.ReadinessReport], error) {
	k, err := h.Catalog.Cluster(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	a, err := h.Logins.Access(k)
	if err != nil {
		return nil, err
	}
	r, err := h.Checker().Check(ctx, a, k.Slot)
	return answer(shapes.Readiness(r), err)
}

type checkUnregistered struct {
	Body api.Login
}

func loginAccess(l api.Login) access.Access {
	return access.Access{ConnString: l.ConnString, Password: l.Password, ReplicationUser: l.ReplicationUser,
		ReplicationPassword: l.ReplicationPassword}
}

func (h *Readiness) checkUnregistered(ctx context.Context, in *checkUnregistered) (*body[api.ReadinessReport], error) {
	r, err := h.Checker().Check(ctx, loginAccess(in.Body), "")
	return answer(shapes.Readiness(r), err)
}

type applyReadiness struct {
	Body api.ApplyReadinessRequest
}

func (h *Readiness) applyReadiness(ctx context.Context, in *applyReadiness) (*body[api.Fixed], error) {
	a, name, slot, err := h.accessOf(ctx, in.Body.Cluster, in.Body.Login)
	if err != nil {
		return nil, err
	}
	before, err := h.Checker().Check(ctx, a, slot)
	if err != nil {
		return nil, err
	}
	checks, err := survey.Statements(before, in.Body.Checks)
	if err != nil {
		return nil, err
	}
	what := "the cluster's name"
	if in.Body.Login != nil {
		what = "the word"
	}
	if err := confirmedAs(what, in.Body.Confirm, name, "nothing was applied",
		"this would be run on the cluster: "+statements(checks)); err != nil {
		return nil, err
	}
	admin := a
	if in.Body.As != "" {
		if admin, err = a.As(in.Body.As, in.Body.AsPassword); err != nil {
			return nil, problem.Wrap(err, problem.Invalid, "nothing was applied", "")
		}
	}
	applied, err := survey.Apply(ctx, admin, checks)
	if err != nil {
		return nil, err
	}
	h.Log.Info("readiness was fixed", "cluster", name, "as", in.Body.As, "statements", len(applied.SQL))
	after, err := h.Checker().Check(ctx, a, slot)
	return answer(api.Fixed{Applied: api.ReadinessApplied(applied), Report: shapes.Readiness(after)}, err)
}

func statements(checks []readiness.Check) string {
	var list []string
	for _, c := range checks {
		list = append(list, c.SQL...)
	}
	return strings.Join(list, " ")
}

// accessOf is how to reach a cluster, and what is typed to confirm something about it.
func (h *Readiness) accessOf(ctx context.Context, cluster string, l *api.Login) (a access.Access, confirm, slot string, err error) {
	if l != nil {
		return loginAccess(*l), "apply", "", nil
	}
	k, err := h.Catalog.Cluster(ctx, cluster)
	if err != nil {
		return a, "", "", err
	}
	a, err = h.Logins.Access(k)
	return a, k.Name, k.Slot, err
}

func (h *Readiness) scriptRole(_ context.Context, in *struct {
	Role    string `query:"role" default:"velvet" maxLength:"63"`
	Version int    `query:"version" doc:"major version of the server; its functions have other names in some; 0 is the newest"`
}) (*body[api.Script], error) {
	if strings.ContainsAny(in.Role, "\n\r\x00") {
		return nil, problem.New(problem.Invalid, "Name it in one line.", "there is no script", "the role's name has a line break")
	}
	all := pg.Versions()
	v := all[len(all)-1]
	if in.Version != 0 {
		if v = pg.Major(in.Version); v == nil {
			return nil, problem.New(problem.Invalid, "Name the server's major version.", "there is no script",
				"PostgreSQL %d is not supported; versions %s are", in.Version, pg.SupportedVersions())
		}
	}
	return answer(api.Script{Text: readiness.RoleScript(in.Role, v)}, nil)
}
