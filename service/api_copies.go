package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"velvetrewind/api"
	"velvetrewind/core/pg"
	"velvetrewind/core/problem"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/restore/feed"
	"velvetrewind/engine/store"
)

// CopyPath names a copy in a path.
type CopyPath struct {
	Copy string `path:"copy" doc:"name or id of the copy, or an unambiguous beginning or end of its id"`
}

func (s *Service) copyAPI(api huma.API) {
	op(s, api, http.MethodPost, "/clusters/{cluster}/copies", "make-copy", "Make a side copy at a moment",
		http.StatusAccepted, s.submitCopy)
	op(s, api, http.MethodGet, "/copies", "list-copies", "List the copies, newest first", 0, s.listCopies)
	op(s, api, http.MethodGet, "/copies/{copy}", "show-copy", "Show a copy", 0, s.showCopy)
	op(s, api, http.MethodPost, "/copies/{copy}/step", "step-copy", "Move a paused copy to another moment",
		http.StatusAccepted, s.submitStep)
	op(s, api, http.MethodPost, "/copies/{copy}/open", "open-copy", "End a paused copy's recovery and open it for writing",
		http.StatusAccepted, s.submitOpen)
	op(s, api, http.MethodDelete, "/copies/{copy}", "discard-copy", "End a copy's server and remove its files", http.StatusAccepted,
		s.submitDiscard)
	op(s, api, http.MethodPost, "/copies/{copy}/proofs", "prove-copy", "Prove a copy", http.StatusAccepted, s.submitProof)
	op(s, api, http.MethodGet, "/proofs/{proof}", "show-proof", "Show a proof, or the newest one of a copy", 0, s.showProof)
	op(s, api, http.MethodGet, "/clusters/{cluster}/proofs", "list-proofs", "List a cluster's proofs, newest first", 0, s.listProofs)
}

type makeCopy struct {
	ClusterPath
	Body api.MakeCopyRequest
}

func (s *Service) submitCopy(ctx context.Context, in *makeCopy) (*body[api.Task], error) {
	cluster, p, replays, err := s.plan(ctx, in.Cluster, in.Body.Moment, "")
	if err != nil {
		return nil, err
	}
	if name := in.Body.Name; name != "" && !clusterName.MatchString(name) {
		return nil, problem.New(problem.Invalid, "Begin with a letter; use lower-case letters, digits, - and _, at most 40.",
			"the copy was not made", "%q cannot be a copy's name", name)
	}
	k, err := s.keeper.Prepare(ctx, cluster, p, in.Body.Name, in.Body.Port)
	if err != nil {
		return nil, err
	}
	if err := s.catalog.AddCopy(ctx, k, replays); err != nil {
		return nil, err
	}
	out, err := s.submitFor(ctx, taskCopy, k, cluster, copyArgs{Plan: p})
	if err != nil {
		return nil, err
	}
	return out, s.catalog.SetCopyTask(ctx, k.ID, out.Body.ID)
}

type stepCopy struct {
	CopyPath
	Body api.StepCopyRequest
}

func (s *Service) submitStep(ctx context.Context, in *stepCopy) (*body[api.Task], error) {
	k, cluster, err := s.present(ctx, in.Copy)
	if err != nil {
		return nil, err
	}
	if k.State != catalog.CopyPaused {
		return nil, problem.New(problem.Conflict, "Make another with: velvet restore start "+cluster.Name+" MOMENT",
			"the copy was not moved",
			"it is %s; only a paused copy can be moved", k.State)
	}
	_, p, replays, err := s.plan(ctx, cluster.Name, in.Body.Moment, "")
	if err != nil {
		return nil, err
	}
	return s.submitFor(ctx, taskStep, k, cluster, copyArgs{Plan: p, Replays: replays})
}

// submitFor submits a task about a copy.
func (s *Service) submitFor(ctx context.Context, kind string, k catalog.Copy, cluster catalog.Cluster, args any) (*body[api.Task], error) {
	t, err := s.tasks.submit(ctx, kind, cluster.ID, k.ID, args)
	if err != nil {
		return nil, err
	}
	s.events.publish(eventCopy, k.ID)
	return answer(taskView(t, map[string]string{cluster.ID: cluster.Name}))
}

func (s *Service) viewCopy(ctx context.Context, k catalog.Copy, cluster catalog.Cluster) (api.Copy, error) {
	k, err := s.keeper.Refresh(ctx, cluster, k)
	if err != nil {
		return api.Copy{}, err
	}
	v, err := copyView(k, cluster, s.host.User())
	if err != nil {
		return v, err
	}
	proofs, err := s.catalog.Proofs(ctx, k.ID)
	if err != nil || len(proofs) == 0 || proofs[0].Moves != k.Moves { // of another moment
		return v, err
	}
	p, err := proofView(proofs[0])
	v.Proof = &p
	return v, err
}

type listCopies struct {
	Cluster string `query:"cluster" doc:"only of this cluster"`
}

func (s *Service) listCopies(ctx context.Context, in *listCopies) (*body[[]api.Copy], error) {
	of, err := s.clusterID(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	list, err := s.catalog.Copies(ctx, of)
	if err != nil {
		return nil, err
	}
	views := make([]api.Copy, len(list))
	for i, k := range list {
		cluster, err := s.catalog.Cluster(ctx, k.ClusterID)
		if err != nil {
			return nil, err
		}
		if views[i], err = s.viewCopy(ctx, k, cluster); err != nil {
			return nil, err
		}
	}
	return answer(views, nil)
}

func (s *Service) showCopy(ctx context.Context, in *CopyPath) (*body[api.Copy], error) {
	k, cluster, err := s.copyAndCluster(ctx, in.Copy)
	if err != nil {
		return nil, err
	}
	return answer(s.viewCopy(ctx, k, cluster))
}

// present reads a copy that must still exist.
func (s *Service) present(ctx context.Context, id string) (catalog.Copy, catalog.Cluster, error) {
	k, cluster, err := s.copyAndCluster(ctx, id)
	if err == nil && k.State == catalog.CopyDiscarded {
		err = problem.New(problem.Conflict, "List the copies with: velvet copy list", "nothing was done",
			"the copy %s has been discarded", k.Name)
	}
	if err == nil {
		k, err = s.keeper.Refresh(ctx, cluster, k)
	}
	return k, cluster, err
}

func (s *Service) submitOpen(ctx context.Context, in *CopyPath) (*body[api.Task], error) {
	k, cluster, err := s.present(ctx, in.Copy)
	if err != nil {
		return nil, err
	}
	if k.State != catalog.CopyPaused {
		return nil, problem.New(problem.Conflict, "", "the copy was not opened", "it is %s; only a paused copy can be opened", k.State)
	}
	return s.submitFor(ctx, taskOpen, k, cluster, noArgs{})
}

type discardCopy struct {
	CopyPath
	Confirm string `query:"confirm" doc:"name of the cluster that it is a copy of"`
}

func (s *Service) submitDiscard(ctx context.Context, in *discardCopy) (*body[api.Task], error) {
	k, cluster, err := s.present(ctx, in.Copy)
	if err != nil {
		return nil, err
	}
	if k.State == catalog.CopyLayingOut || k.State == catalog.CopyReplaying {
		return nil, problem.New(problem.Conflict, "Cancel its task instead, with: velvet task cancel TASK", "the copy was not discarded",
			"it is still being made")
	}
	if err := s.keeper.Check(k); err != nil {
		return nil, err
	}
	loss := fmt.Sprintf("discarding ends the server on port %d and removes %s; what was changed in the copy is lost, backups and WAL "+
		"are not touched", k.Port, k.Directory)
	if err := confirmed(in.Confirm, cluster.Name, "the copy was not discarded", loss); err != nil {
		return nil, err
	}
	return s.submitFor(ctx, taskDiscard, k, cluster, noArgs{})
}

func (s *Service) submitProof(ctx context.Context, in *CopyPath) (*body[api.Task], error) {
	k, cluster, err := s.present(ctx, in.Copy)
	if err != nil {
		return nil, err
	}
	if k.State != catalog.CopyPaused && k.State != catalog.CopyOpen {
		return nil, problem.New(problem.Conflict, "See: velvet copy show "+k.ID, "the copy was not proved",
			"it is %s; only a paused or open copy can be proved", k.State)
	}
	return s.submitFor(ctx, taskProve, k, cluster, noArgs{})
}

// ProofPath names a proof in a path.
type ProofPath struct {
	Proof string `path:"proof" doc:"id of the proof, or of a copy for its newest one"`
}

func (s *Service) showProof(ctx context.Context, in *ProofPath) (*body[api.Proof], error) {
	p, err := s.catalog.Proof(ctx, in.Proof)
	if err != nil {
		return nil, err
	}
	return answer(proofView(p))
}

func (s *Service) listProofs(ctx context.Context, in *ClusterPath) (*body[[]api.Proof], error) {
	k, err := s.catalog.Cluster(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	list, err := s.catalog.Proofs(ctx, k.ID)
	if err != nil {
		return nil, err
	}
	views := make([]api.Proof, len(list))
	for i, p := range list {
		if views[i], err = proofView(p); err != nil {
			return nil, err
		}
	}
	return answer(views, nil)
}

// feed gives a recovering copy one segment or history file.
func (s *Service) feed(w http.ResponseWriter, r *http.Request) {
	_, cluster, err := s.copyAndCluster(r.Context(), chi.URLParam(r, "copy"))
	if err != nil {
		http.Error(w, "no such copy", http.StatusGone)
		return
	}
	name := chi.URLParam(r, "name")
	content, err := feed.Open(r.Context(), s.store, cluster, name)
	if errors.Is(err, store.ErrNotFound) {
		http.Error(w, "no such segment", http.StatusNotFound)
		return
	}
	if err != nil {
		s.log.Error("a segment could not be delivered", "cluster", cluster.Name, "segment", name, "error", err)
		http.Error(w, "the segment cannot be read", http.StatusInternalServerError)
		return
	}
	defer func() { _ = content.Close() }()
	size := int64(cluster.SegmentSize)
	if _, ok := pg.ParseHistoryName(name); !ok {
		// A body shorter than announced is an error at the other end, never a short segment.
		w.Header().Set("Content-Length", strconv.FormatInt(size, 10))
		content = padded{io.LimitReader(io.MultiReader(content, zeroes{}), size), content}
	}
	w.Header().Set("Content-Type", "application/octet-stream")
	if _, err := io.Copy(w, content); err != nil {
		s.log.Error("a segment could not be delivered", "cluster", cluster.Name, "segment", name, "error", err)
		panic(http.ErrAbortHandler) // so that the other end does not take it for whole
	}
}

type padded struct {
	io.Reader
	io.Closer
}

// zeroes fills up the part of a cut segment that was never written.
type zeroes struct{}

func (zeroes) Read(p []byte) (int, error) {
	clear(p)
	return len(p), nil
}
