package handlers

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"log/slog"
	"net/http"

	"velvetrewind/api"
	"velvetrewind/core/problem"
	"velvetrewind/core/proof"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/store"
	"velvetrewind/service/custody"
	"velvetrewind/service/shapes"
)

// Proofs shows proofs, writes their reports, and keeps the DBA's own checks.
type Proofs struct {
	Catalog *catalog.Catalog
	Custody *custody.Custody
	Version string // of this program
	Log     *slog.Logger
}

// Register registers the operations.
func (h *Proofs) Register(api *Surface) {
	op(api, http.MethodGet, "/proofs/{proof}", "show-proof", "Show a proof, or the newest one of a copy", 0, h.showProof)
	op(api, http.MethodGet, "/clusters/{cluster}/proofs", "list-proofs", "List a cluster's proofs, newest first, without their tables",
		0, h.listProofs)
	op(api, http.MethodGet, "/proofs/{proof}/report", "report-proof", "Write a proof down as a report", 0, h.report)
	op(api, http.MethodGet, "/clusters/{cluster}/checks", "list-own-checks", "List the checks of a cluster's own", 0, h.listChecks)
	op(api, http.MethodGet, "/clusters/{cluster}/checks/{check}", "show-own-check", "Show every version of a check, newest first", 0,
		h.showCheck)
	op(api, http.MethodPut, "/clusters/{cluster}/checks/{check}", "set-own-check",
		"Add a check that every proof makes, or a version of it", 0, h.setCheck)
	op(api, http.MethodDelete, "/clusters/{cluster}/checks/{check}", "remove-own-check", "Have a check be made no more",
		http.StatusNoContent, h.removeCheck)
}

// ProofPath names a proof in a path.
type ProofPath struct {
	Proof string `path:"proof" doc:"id of the proof, or of a copy for its newest one"`
}

func (h *Proofs) showProof(ctx context.Context, in *ProofPath) (*body[api.Proof], error) {
	p, err := h.Catalog.Proof(ctx, in.Proof)
	if err != nil {
		return nil, err
	}
	return answer(shapes.Proof(p))
}

type listProofs struct {
	ClusterPath
	Limit int `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}

func (h *Proofs) listProofs(ctx context.Context, in *listProofs) (*body[[]api.Proof], error) {
	k, err := h.Catalog.Cluster(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	list, err := h.Catalog.Proofs(ctx, k.ID, in.Limit)
	if err != nil {
		return nil, err
	}
	views := make([]api.Proof, len(list))
	for i, p := range list {
		if views[i], err = shapes.Proof(p); err != nil {
			return nil, err
		}
		for c := range views[i].Checks {
			views[i].Checks[c].Tables = nil
		}
	}
	return answer(views, nil)
}

type reportProof struct {
	ProofPath
	Format string `query:"format" enum:"html,json,csv,junit" default:"html"`
}

// report gives the page that is kept in the store, or, of a base backup that was dropped, writes it again.
func (h *Proofs) report(ctx context.Context, in *reportProof) (*body[api.Report], error) {
	p, err := h.Catalog.Proof(ctx, in.Proof)
	if err != nil {
		return nil, err
	}
	k, err := h.Catalog.Cluster(ctx, p.ClusterID)
	if err != nil {
		return nil, err
	}
	r, err := shapes.Report(ctx, h.Catalog, p, k, h.Version)
	if err != nil {
		return nil, err
	}
	out := api.Report{Name: k.Name + "-proof-" + p.ID + "." + in.Format, Type: "text/" + in.Format}
	var content []byte
	switch in.Format {
	case "csv":
		content, err = r.CSV()
	case "junit":
		out.Name, out.Type = k.Name+"-proof-"+p.ID+".xml", "application/xml"
		content, err = r.JUnit()
	case "json":
		out.Type = "application/json"
		var v api.Proof
		if v, err = shapes.Proof(p); err == nil {
			content, err = json.MarshalIndent(v, "", "  ")
		}
	default:
		content, err = h.Custody.Store.Get(ctx, store.ReportKey(k.ID, p.BackupID, p.ID))
		if err != nil {
			if !errors.Is(err, store.ErrNotFound) {
				h.Log.Warn("the report could not be read from the store, and is written again", "proof", p.ID, "error", err)
			}
			content, err = r.HTML()
		}
	}
	if err != nil {
		return nil, err
	}
	sum := sha256.Sum256(content)
	out.Content, out.SHA256 = string(content), hex.EncodeToString(sum[:])
	return answer(out, nil)
}

// CheckPath names one of a cluster's own checks in a path.
type CheckPath struct {
	ClusterPath
	Check string `path:"check" doc:"its name"`
}

func ownChecks(list []catalog.OwnCheck) []api.OwnCheck {
	return shapes.Each(list, func(k catalog.OwnCheck) api.OwnCheck {
		return api.OwnCheck{Name: k.Name, Version: k.Version, SQL: k.SQL, Database: k.Database, Role: k.Role, Expects: k.Expects,
			Seconds: k.Seconds, AddedAt: k.AddedAt.UTC(), Removed: k.RemovedAt.Valid}
	})
}

func (h *Proofs) listChecks(ctx context.Context, in *ClusterPath) (*body[[]api.OwnCheck], error) {
	k, err := h.Catalog.Cluster(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	list, err := h.Catalog.OwnChecks(ctx, k.ID, "")
	return answer(ownChecks(list), err)
}

func (h *Proofs) showCheck(ctx context.Context, in *CheckPath) (*body[[]api.OwnCheck], error) {
	k, err := h.Catalog.Cluster(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	list, err := h.Catalog.OwnChecks(ctx, k.ID, in.Check)
	if err == nil && len(list) == 0 {
		err = problem.New(problem.NotFound, "List them with: velvet prove checks list "+k.Name, "there is nothing to show",
			"%s has no check named %q", k.Name, in.Check)
	}
	return answer(ownChecks(list), err)
}

type setCheck struct {
	CheckPath
	Body api.SetOwnCheckRequest
}

func (h *Proofs) setCheck(ctx context.Context, in *setCheck) (*body[api.OwnCheck], error) {
	const title = "the check was not kept"
	k, err := h.Catalog.Cluster(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	if !clusterName.MatchString(in.Check) || proof.IsDefined(in.Check) {
		return nil, problem.New(
			problem.Invalid,
			"Begin with a letter; use lower-case letters, digits, - and _, at most 40. Names of the checks "+
				"that every proof makes are taken.",
			title,
			"%q cannot be the name of a check",
			in.Check,
		)
	}
	expects, err := proof.ParseExpectation(in.Body.Expects)
	if err != nil {
		return nil, problem.Wrap(err, problem.Invalid, title, "")
	}
	_, err = h.Catalog.SetOwnCheck(ctx, catalog.OwnCheck{ClusterID: k.ID, Name: in.Check, SQL: in.Body.SQL, Database: in.Body.Database,
		Role: in.Body.Role, Expects: expects.String(), Seconds: in.Body.Seconds})
	if err != nil {
		return nil, err
	}
	list, err := h.Catalog.OwnChecks(ctx, k.ID, in.Check)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	return answer(ownChecks(list)[0], nil)
}

func (h *Proofs) removeCheck(ctx context.Context, in *CheckPath) (*struct{}, error) {
	k, err := h.Catalog.Cluster(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	return nil, h.Catalog.RemoveOwnCheck(ctx, k.ID, in.Check)
}
