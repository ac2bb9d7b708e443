package handlers

import (
	"context"
	"log/slog"
	"net/http"
	"regexp"
	"time"

	"velvetrewind/api"
	"velvetrewind/core/layout"
	"velvetrewind/core/problem"
	"velvetrewind/engine/capture"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/host"
	"velvetrewind/engine/server/access"
	"velvetrewind/engine/server/replication"
	"velvetrewind/engine/server/survey"
	"velvetrewind/engine/spool"
	"velvetrewind/engine/store/deposit"
	"velvetrewind/service/auth"
	"velvetrewind/service/custody"
	"velvetrewind/service/events"
	"velvetrewind/service/fleet"
	"velvetrewind/service/logins"
	"velvetrewind/service/shapes"
	"velvetrewind/service/tasks"
	"velvetrewind/service/work"
)

// ClusterPath names a cluster in a path.
type ClusterPath struct {
	Cluster string `path:"cluster" doc:"name or id of the cluster"`
}

// Clusters registers clusters, and says how they stand.
type Clusters struct {
	Catalog  *catalog.Catalog
	Custody  *custody.Custody
	Fleet    *fleet.Reader
	Logins   logins.Logins
	Checker  func() *survey.Checker
	Captures *capture.Supervisor
	Tasks    *tasks.Queue
	Events   *events.Hub
	Auth     *auth.Auth
	Host     *host.Host
	Spool    string // directory
	Log      *slog.Logger
}

// Register registers the operations.
func (h *Clusters) Register(api *Surface) {
	op(api, http.MethodGet, "/clusters", "list-clusters", "List the protected clusters", 0, h.listClusters)
	op(api, http.MethodPost, "/clusters", "add-cluster", "Register a cluster, after testing it", http.StatusCreated, h.addCluster)
	op(api, http.MethodGet, "/clusters/{cluster}", "show-cluster", "Show a cluster and how it stands", 0, h.showCluster)
	op(api, http.MethodPut, "/clusters/{cluster}/copies-user", "set-copies-user", "Say as which OS user a cluster's copies run", 0,
		h.setCopiesUser)
	op(api, http.MethodPut, "/clusters/{cluster}/login", "change-login", "Change how a cluster is reached, after testing it", 0,
		h.changeLogin)
	op(api, http.MethodDelete, "/clusters/{cluster}", "remove-cluster", "Remove a cluster that has neither backups nor copies",
		http.StatusNoContent, h.removeCluster)
	op(api, http.MethodPost, "/clusters/{cluster}/capture/start", "start-capture", "Capture the cluster's WAL", 0, h.startCapture)
	op(api, http.MethodPost, "/clusters/{cluster}/capture/stop", "stop-capture",
		"Stop capturing; the server retains WAL in the slot until it is started again", 0, h.stopCapture)
	op(api, http.MethodPost, "/links", "make-link", "Make a link that opens the console once", http.StatusCreated, h.makeLink)
}

func (h *Clusters) listClusters(ctx context.Context, _ *empty) (*body[[]api.Cluster], error) {
	f, err := h.Fleet.Of(ctx, "")
	if err != nil {
		return nil, err
	}
	views := make([]api.Cluster, len(f.Calendar.Clusters))
	for i, k := range f.Calendar.Clusters {
		if views[i], err = f.View(k); err != nil {
			return nil, err
		}
	}
	return answer(views, nil)
}

func (h *Clusters) showCluster(ctx context.Context, in *ClusterPath) (*body[api.Cluster], error) {
	k, err := h.Catalog.Cluster(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	return answer(h.Fleet.View(ctx, k))
}

type setCopiesUser struct {
	ClusterPath
	Body api.CopiesUserRequest
}

func (h *Clusters) setCopiesUser(ctx context.Context, in *setCopiesUser) (*empty, error) {
	k, err := h.Catalog.Cluster(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	if _, err := h.Host.As(in.Body.User); err != nil {
		return nil, problem.Wrap(err, problem.Invalid, "the OS user of the cluster's copies was not changed",
			"Copies that stand keep theirs.")
	}
	return &empty{}, h.Catalog.SetCopiesUser(ctx, k.ID, in.Body.User)
}

type addCluster struct {
	Body api.AddClusterRequest
}

var clusterName = regexp.MustCompile(`^[a-z][a-z0-9_-]{0,39}$`)

func (h *Clusters) addCluster(ctx context.Context, in *addCluster) (*body[api.AddedCluster], error) {
	var added api.AddedCluster
	name := in.Body.Name
	if !clusterName.MatchString(name) {
		return nil, problem.New(problem.Invalid, "Begin with a letter; use lower-case letters, digits, - and _, at most 40.",
			"the cluster was not added", "%q cannot be a cluster's name", name)
	}
	if err := checkLabels(in.Body.Labels); err != nil {
		return nil, err
	}
	k := catalog.Cluster{ID: catalog.NewID(), Name: name, ConnString: in.Body.ConnString}
	if len(in.Body.Labels) > 0 {
		k.LabelsSet = *encode(in.Body.Labels)
	}
	k.Slot = "velvet_" + k.ID
	k.ReplicationUser = in.Body.ReplicationUser
	report, err := h.Checker().Check(ctx, access.Access{
		ConnString: in.Body.ConnString, Password: in.Body.Password,
		ReplicationUser: in.Body.ReplicationUser, ReplicationPassword: in.Body.ReplicationPassword,
	}, k.Slot)
	if err != nil {
		return nil, err
	}
	if !report.Ready() {
		return nil, notReady(report)
	}
	if err := h.Logins.Seal(&k, in.Body.Password, in.Body.ReplicationPassword); err != nil {
		return nil, err
	}
	f := report.Facts
	k.SystemID, k.ServerVersion, k.SegmentSize, k.DataChecksums, k.Superuser, k.DataDirectory = f.SystemID, f.ServerVersion, f.SegmentSize,
		f.Checksums, f.Superuser, f.Settings["data_directory"]
	if err := h.Catalog.AddCluster(ctx, k); err != nil {
		return nil, err
	}
	h.Log.Info("cluster added", "cluster", name, "system_id", k.SystemID)
	h.Captures.Look()
	h.Events.Publish(events.Cluster, k.ID)
	if !in.Body.NoBase {
		t, err := h.Tasks.Submit(ctx, k.ID, catalog.NewID(), work.Backup{Kind: layout.Full})
		if err != nil {
			return nil, err
		}
		added.Task = t.ID
	}
	added.Readiness = shapes.Readiness(report)
	added.Cluster, err = h.Fleet.View(ctx, k)
	return answer(added, err)
}

type removeCluster struct {
	ClusterPath
	Confirm string `query:"confirm" doc:"the cluster's name"`
}

func (h *Clusters) removeCluster(ctx context.Context, in *removeCluster) (*empty, error) {
	k, err := h.Catalog.Cluster(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	backups, err := h.Catalog.Backups(ctx, k.ID)
	if err != nil {
		return nil, err
	}
	copies, err := h.Catalog.Copies(ctx, k.ID)
	if err != nil {
		return nil, err
	}
	active, err := h.Catalog.Tasks(ctx, catalog.TaskFilter{Cluster: k.ID, Active: true, Limit: 1})
	if err != nil {
		return nil, err
	}
	if len(active) > 0 {
		return nil, problem.New(problem.Conflict, "Wait for its end, or cancel it: velvet task cancel "+active[0].ID,
			"the cluster was not removed",
			"a task of it is under way: %s %s", active[0].Kind, active[0].ID)
	}
	if len(backups)+len(copies) > 0 {
		return nil, problem.New(problem.Conflict, "Keep it, and stop its capture with: velvet capture stop "+k.Name,
			"the cluster was not removed",
			"it has %d base backups and %d copies", len(backups), len(copies))
	}
	if err := confirmed(in.Confirm, k.Name, "the cluster was not removed",
		"removing "+k.Name+" ends its capture and deletes its captured WAL"+
			takenBack(h.Custody.DeleteAfter, "velvet store rebuild")); err != nil {
		return nil, err
	}
	if err := h.Catalog.WantCapture(ctx, k.ID, false); err != nil {
		return nil, err
	}
	h.Captures.Look()
	if err := h.dropSlot(ctx, k); err != nil {
		return nil, problem.Wrap(err, problem.Conflict, "the cluster was not removed",
			"Its capture has been stopped. Wait a few seconds for it to end, see that the server can be reached, and remove the cluster "+
				"again.")
	}
	if err := spool.Forget(h.Spool, k.ID); err != nil {
		return nil, err
	}
	// A notice of an earlier removal that was taken back says nothing of this one.
	if _, _, err := h.Custody.Notices.Due(ctx, k.ID, "all", nil); err != nil {
		return nil, err
	}
	if err := h.Catalog.NoteRemoved(ctx, k); err != nil {
		return nil, err
	}
	if err := h.Catalog.RemoveCluster(ctx, k.ID); err != nil {
		return nil, err
	}
	return nil, h.Custody.DeleteRemoved(ctx)
}

// dropSlot lets the server forget the WAL that it retains for us.
func (h *Clusters) dropSlot(ctx context.Context, k catalog.Cluster) error {
	a, err := h.Logins.Access(k)
	if err != nil {
		return err
	}
	session, err := replication.Open(ctx, a)
	if err != nil {
		return err
	}
	defer func() { _ = session.Close(context.WithoutCancel(ctx)) }()
	return session.DropSlot(ctx, k.Slot)
}

func (h *Clusters) startCapture(ctx context.Context, in *ClusterPath) (*body[api.Cluster], error) {
	return h.wantCapture(ctx, in.Cluster, true)
}

func (h *Clusters) stopCapture(ctx context.Context, in *ClusterPath) (*body[api.Cluster], error) {
	return h.wantCapture(ctx, in.Cluster, false)
}

func (h *Clusters) wantCapture(ctx context.Context, name string, wanted bool) (*body[api.Cluster], error) {
	k, err := h.Catalog.Cluster(ctx, name)
	if err != nil {
		return nil, err
	}
	if err := h.Catalog.WantCapture(ctx, k.ID, wanted); err != nil {
		return nil, err
	}
	h.Captures.Look()
	return answer(h.Fleet.View(ctx, k))
}

func (h *Clusters) makeLink(ctx context.Context, _ *empty) (*body[api.Link], error) {
	path, err := h.Auth.NewLink(ctx, "")
	return answer(api.Link{Path: path, Expires: time.Now().Add(auth.LinkLifetime).UTC()}, err)
}

type changeLogin struct {
	ClusterPath
	Body api.Login
}

// changeLogin has a cluster be reached otherwise from now on: with another password, as another
// role, at another address. It must be the same cluster.
func (h *Clusters) changeLogin(ctx context.Context, in *changeLogin) (*body[api.Cluster], error) {
	k, err := h.Catalog.Cluster(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	login := in.Body
	if login.ConnString == "" {
		login.ConnString = k.ConnString
	}
	report, err := h.Checker().Check(ctx, loginAccess(login), k.Slot)
	if err != nil {
		return nil, err
	}
	if report.Facts.SystemID != k.SystemID {
		return nil, problem.New(problem.Conflict, "Register that server under another name.", "nothing was changed",
			"the server there has system identifier %d, %s has %d: it is another cluster", report.Facts.SystemID, k.Name, k.SystemID)
	}
	if !report.Ready() {
		return nil, notReady(report)
	}
	k.ConnString, k.ReplicationUser = login.ConnString, login.ReplicationUser
	if err := h.Logins.Seal(&k, login.Password, login.ReplicationPassword); err != nil {
		return nil, err
	}
	if err := h.Catalog.SetLogin(ctx, k); err != nil {
		return nil, err
	}
	if err := deposit.PutCluster(ctx, h.Custody.Store, k); err != nil {
		h.Log.Warn("the cluster's record in the store has the login of before", "cluster", k.Name, "error", err)
	}
	h.Captures.Restart(k.ID)
	h.Events.Publish(events.Cluster, k.ID)
	return answer(h.Fleet.View(ctx, k))
}
