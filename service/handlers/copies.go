package handlers

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"strconv"
	"time"

	"github.com/go-chi/chi/v5"

	"velvetrewind/api"
	"velvetrewind/core/partial"
	"velvetrewind/core/pg"
	"velvetrewind/core/plan"
	"velvetrewind/core/problem"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/host"
	"velvetrewind/engine/restore/copies"
	"velvetrewind/engine/restore/feed"
	"velvetrewind/engine/restore/takeover"
	"velvetrewind/engine/store"
	"velvetrewind/service/custody"
	"velvetrewind/service/events"
	"velvetrewind/service/planner"
	"velvetrewind/service/shapes"
	"velvetrewind/service/tasks"
	"velvetrewind/service/work"
)

// CopyPath names a copy in a path.
type CopyPath struct {
	Copy string `path:"copy" doc:"name or id of the copy, or an unambiguous beginning or end of its id"`
}

// Copies makes copies, moves, opens, proves and discards them, and gives them the WAL that they ask for.
type Copies struct {
	Catalog *catalog.Catalog
	Custody *custody.Custody
	Planner *planner.Planner
	Copies  *copies.Maker
	Tasks   *tasks.Queue
	Events  *events.Hub
	Host    *host.Host
	Taker   *takeover.Taker
	Now     func() time.Time
	Log     *slog.Logger
}

// Register registers the operations.
func (h *Copies) Register(api *Surface) {
	op(api, http.MethodPost, "/clusters/{cluster}/copies", "make-copy", "Make a side copy at a moment",
		http.StatusAccepted, h.submitCopy)
	op(api, http.MethodGet, "/copies", "list-copies", "List the copies, newest first", 0, h.listCopies)
	op(api, http.MethodGet, "/copies/{copy}", "show-copy", "Show a copy", 0, h.showCopy)
	op(api, http.MethodPost, "/copies/{copy}/step", "step-copy", "Move a paused copy to another moment",
		http.StatusAccepted, h.submitStep)
	op(api, http.MethodPost, "/copies/{copy}/open", "open-copy", "End a paused copy's recovery and open it for writing",
		http.StatusAccepted, h.submitOpen)
	op(api, http.MethodDelete, "/copies/{copy}", "discard-copy", "End a copy's server and remove its files", http.StatusAccepted,
		h.submitDiscard)
	op(api, http.MethodPost, "/copies/{copy}/proofs", "prove-copy", "Prove a copy", http.StatusAccepted, h.submitProof)
}

type makeCopy struct {
	ClusterPath
	Body api.MakeCopyRequest
}

func (h *Copies) submitCopy(ctx context.Context, in *makeCopy) (*body[api.Task], error) {
	cluster, p, replays, err := h.Planner.Plan(ctx, in.Cluster, in.Body.Moment, "")
	if err != nil {
		return nil, err
	}
	if name := in.Body.Name; name != "" && !clusterName.MatchString(name) {
		return nil, problem.New(problem.Invalid, "Begin with a letter; use lower-case letters, digits, - and _, at most 40.",
			"the copy was not made", "%q cannot be a copy's name", name)
	}
	if len(in.Body.Only) > 0 && in.Body.Over {
		return nil, problem.New(problem.Invalid, "Make it in a directory of its own, or make a whole copy.",
			"the copy was not made", "a partial copy is not made over the original's files")
	}
	wish := copies.Wish{Name: in.Body.Name, Port: in.Body.Port, Over: in.Body.Over}
	if in.Body.Host != "" {
		on, err := h.Catalog.Host(ctx, in.Body.Host)
		if err != nil {
			return nil, err
		}
		wish.Host = on.ID
	}
	k, err := h.Copies.Prepare(ctx, cluster, p, wish)
	if err != nil {
		return nil, err
	}
	order := work.Copy{Plan: p}
	if k.Partial, order.Whole, err = h.part(ctx, cluster, p, in.Body); err != nil {
		return nil, err
	}
	if err := h.mayLayOver(ctx, cluster, k, in.Body.Confirm); err != nil {
		return nil, err
	}
	if err := h.Catalog.AddCopy(ctx, k, replays); err != nil {
		return nil, err
	}
	out, err := h.submitFor(ctx, k, cluster, order)
	if err != nil {
		return nil, err
	}
	return out, h.Catalog.SetCopyTask(ctx, k.ID, out.Body.ID)
}

// part is what a copy is to hold, as it is recorded, or why it is a whole one although it need not be.
func (h *Copies) part(ctx context.Context, cluster catalog.Cluster, p plan.Restore, in api.MakeCopyRequest) (
	recorded json.RawMessage, why string, err error) {
	var s *partial.Spec
	switch {
	case len(in.Only) > 0:
		s, err = h.Planner.Only(ctx, cluster.Name, in.Database, in.Only)
	case in.Rescue && in.Over:
		why = "a partial copy is not made over the original's files"
	case in.Rescue:
		s, why, err = h.Planner.Rescuing(ctx, cluster.Name, p, in.Also)
	}
	if err != nil || s == nil {
		return nil, why, err
	}
	recorded, err = json.Marshal(s)
	return recorded, "", err
}

// mayLayOver refuses a copy that is to be laid over the original's own files where that cannot be, or was not confirmed.
func (h *Copies) mayLayOver(ctx context.Context, cluster catalog.Cluster, k catalog.Copy, typed string) error {
	if !k.Over {
		return nil
	}
	p := h.Taker.PrepareOver(ctx, cluster, k, h.Now())
	if len(p.Obstacles) > 0 {
		return &p.Obstacles[0]
	}
	loss := fmt.Sprintf("%s is stopped, and %s is laid over: once that has begun, the way back is through the backups and the captured "+
		"WAL alone; nothing serves until the copy has taken over", cluster.Name, p.Original.DataDir)
	return confirmed(typed, cluster.Name, "the original was not touched", loss)
}

type stepCopy struct {
	CopyPath
	Body api.StepCopyRequest
}

func (h *Copies) submitStep(ctx context.Context, in *stepCopy) (*body[api.Task], error) {
	k, cluster, err := h.present(ctx, in.Copy)
	if err != nil {
		return nil, err
	}
	if err := copies.Whole(k, "the copy was not moved"); err != nil {
		return nil, err
	}
	if k.State != catalog.CopyPaused && k.State != catalog.CopyDown {
		return nil, problem.New(problem.Conflict, "Make another with: velvet restore start "+cluster.Name+" MOMENT",
			"the copy was not moved",
			"it is %s; only one that is paused or down can be moved", k.State)
	}
	_, p, replays, err := h.Planner.Plan(ctx, cluster.Name, in.Body.Moment, "")
	if err != nil {
		return nil, err
	}
	return h.submitFor(ctx, k, cluster, work.Step{Plan: p, Replays: replays})
}

// submitFor submits a task about a copy.
func (h *Copies) submitFor(ctx context.Context, k catalog.Copy, cluster catalog.Cluster, order tasks.Order) (*body[api.Task], error) {
	t, err := h.Tasks.Submit(ctx, cluster.ID, k.ID, order)
	if err != nil {
		return nil, err
	}
	h.Events.Publish(events.Copy, k.ID)
	return answer(shapes.Task(t, map[string]string{cluster.ID: cluster.Name}))
}

// whereabouts is the OS user that runs a copy, and the name of its host if that has an agent.
func (h *Copies) whereabouts(ctx context.Context, k catalog.Copy) (user, on string, err error) {
	if k.Host == "" {
		return h.Host.User(), "", nil
	}
	at, err := h.Catalog.Host(ctx, k.Host)
	if err != nil {
		return "", "", err
	}
	shown, err := shapes.Host(at, false, nil)
	if len(shown.Users) > 0 {
		user = shown.Users[0]
	}
	return user, at.Name, err
}

func (h *Copies) viewCopy(ctx context.Context, k catalog.Copy, cluster catalog.Cluster) (api.Copy, error) {
	k, err := h.Copies.Refresh(ctx, cluster, k)
	if err != nil {
		return api.Copy{}, err
	}
	user, on, err := h.whereabouts(ctx, k)
	if err != nil {
		return api.Copy{}, err
	}
	v, err := shapes.Copy(k, cluster, user)
	if err != nil {
		return v, err
	}
	v.Host = on
	proofs, err := h.Catalog.Proofs(ctx, k.ID, 1)
	if err != nil || len(proofs) == 0 || proofs[0].Moves != k.Moves { // of another moment
		return v, err
	}
	p, err := shapes.Proof(proofs[0])
	v.Proof = &p
	return v, err
}

type listCopies struct {
	Cluster string `query:"cluster" doc:"only of this cluster"`
}

func (h *Copies) listCopies(ctx context.Context, in *listCopies) (*body[[]api.Copy], error) {
	of, err := h.Catalog.ClusterID(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	list, err := h.Catalog.Copies(ctx, of)
	if err != nil {
		return nil, err
	}
	views := []api.Copy{}
	for _, k := range list {
		if k.Beside != "" {
			continue
		}
		cluster, err := h.Catalog.Cluster(ctx, k.ClusterID)
		if err != nil {
			return nil, err
		}
		view, err := h.viewCopy(ctx, k, cluster)
		if err != nil {
			return nil, err
		}
		views = append(views, view)
	}
	return answer(views, nil)
}

func (h *Copies) showCopy(ctx context.Context, in *CopyPath) (*body[api.Copy], error) {
	k, cluster, err := h.Catalog.CopyAndCluster(ctx, in.Copy)
	if err != nil {
		return nil, err
	}
	return answer(h.viewCopy(ctx, k, cluster))
}

// present reads a copy that must still exist.
func (h *Copies) present(ctx context.Context, id string) (catalog.Copy, catalog.Cluster, error) {
	k, cluster, err := h.Catalog.CopyAndCluster(ctx, id)
	if err == nil && k.State == catalog.CopyDiscarded {
		err = problem.New(problem.Conflict, "List the copies with: velvet copy list", "nothing was done",
			"the copy %s has been discarded", k.Name)
	}
	if err == nil {
		k, err = h.Copies.Refresh(ctx, cluster, k)
	}
	return k, cluster, err
}

func (h *Copies) submitOpen(ctx context.Context, in *CopyPath) (*body[api.Task], error) {
	k, cluster, err := h.present(ctx, in.Copy)
	if err != nil {
		return nil, err
	}
	if err := copies.Whole(k, "the copy was not opened"); err != nil {
		return nil, err
	}
	if k.State != catalog.CopyPaused {
		return nil, problem.New(problem.Conflict, "", "the copy was not opened", "it is %s; only a paused copy can be opened", k.State)
	}
	return h.submitFor(ctx, k, cluster, work.Open{})
}

type discardCopy struct {
	CopyPath
	Confirm string `query:"confirm" doc:"name of the cluster that it is a copy of"`
}

func (h *Copies) submitDiscard(ctx context.Context, in *discardCopy) (*body[api.Task], error) {
	k, cluster, err := h.present(ctx, in.Copy)
	if err != nil {
		return nil, err
	}
	if k.State == catalog.CopyLayingOut || k.State == catalog.CopyReplaying {
		return nil, problem.New(problem.Conflict, "Cancel its task instead, with: velvet task cancel TASK", "the copy was not discarded",
			"it is still being made")
	}
	if err := h.Copies.Check(k); err != nil {
		return nil, err
	}
	loss := fmt.Sprintf("discarding ends the server on port %d and removes %s; what was changed in the copy is lost, backups and WAL "+
		"are not touched", k.Port, k.Directory)
	if k.Over {
		loss += "; it was laid over the original's own files, of which nothing else is left"
	}
	if err := confirmed(in.Confirm, cluster.Name, "the copy was not discarded", loss); err != nil {
		return nil, err
	}
	return h.submitFor(ctx, k, cluster, work.Discard{})
}

func (h *Copies) submitProof(ctx context.Context, in *CopyPath) (*body[api.Task], error) {
	k, cluster, err := h.present(ctx, in.Copy)
	if err != nil {
		return nil, err
	}
	if err := copies.Whole(k, "the copy was not proved"); err != nil {
		return nil, err
	}
	if k.State != catalog.CopyPaused && k.State != catalog.CopyOpen {
		return nil, problem.New(problem.Conflict, "See: velvet copy show "+k.ID, "the copy was not proved",
			"it is %s; only a paused or open copy can be proved", k.State)
	}
	under, err := h.Catalog.UnderWay(ctx, work.KindProve, k.ID)
	if err == nil && under {
		err = problem.New(problem.Conflict, "Watch it with: velvet task list", "no second proof was begun",
			"a proof of the copy %s is under way already", k.Name)
	}
	if err != nil {
		return nil, err
	}
	return h.submitFor(ctx, k, cluster, work.Prove{})
}

// Feed gives a recovering copy one segment or history file.
func (h *Copies) Feed(w http.ResponseWriter, r *http.Request) {
	_, cluster, err := h.Catalog.CopyAndCluster(r.Context(), chi.URLParam(r, "copy"))
	if err != nil {
		http.Error(w, "no such copy", http.StatusGone)
		return
	}
	name := chi.URLParam(r, "name")
	content, err := feed.Open(r.Context(), h.Custody.Store, cluster, name)
	if errors.Is(err, store.ErrNotFound) {
		http.Error(w, "no such segment", http.StatusNotFound)
		return
	}
	if err != nil {
		h.Log.Error("a segment could not be delivered", "cluster", cluster.Name, "segment", name, "error", err)
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
	from := &failing{Reader: content}
	if _, err := io.Copy(w, from); err != nil {
		if from.err != nil && r.Context().Err() == nil { // else who asked wanted no more
			h.Log.Error("a segment could not be delivered", "cluster", cluster.Name, "segment", name, "error", from.err)
		}
		panic(http.ErrAbortHandler) // so that the other end does not take it for whole
	}
}

// failing remembers why reading failed, which is not why writing what was read did.
type failing struct {
	io.Reader
	err error
}

func (f *failing) Read(p []byte) (int, error) {
	n, err := f.Reader.Read(p)
	if err != nil && !errors.Is(err, io.EOF) {
		f.err = err
	}
	return n, err
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
