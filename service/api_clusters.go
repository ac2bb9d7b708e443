package service

import (
	"context"
	"net/http"
	"regexp"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"velvetrewind/api"
	"velvetrewind/core/layout"
	"velvetrewind/core/problem"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/server/access"
	"velvetrewind/engine/server/replication"
	"velvetrewind/engine/spool"
	"velvetrewind/engine/store/deposit"
)

// ClusterPath names a cluster in a path.
type ClusterPath struct {
	Cluster string `path:"cluster" doc:"name or id of the cluster"`
}

func (s *Service) clusterAPI(api huma.API) {
	op(s, api, http.MethodGet, "/clusters", "list-clusters", "List the protected clusters", 0, s.listClusters)
	op(s, api, http.MethodPost, "/clusters", "add-cluster", "Register a cluster, after testing it", http.StatusCreated, s.addCluster)
	op(s, api, http.MethodGet, "/clusters/{cluster}", "show-cluster", "Show a cluster and how it stands", 0, s.showCluster)
	op(s, api, http.MethodPut, "/clusters/{cluster}/copies-user", "set-copies-user", "Say as which OS user a cluster's copies run", 0,
		s.setCopiesUser)
	op(s, api, http.MethodPut, "/clusters/{cluster}/login", "change-login", "Change how a cluster is reached, after testing it", 0,
		s.changeLogin)
	op(s, api, http.MethodDelete, "/clusters/{cluster}", "remove-cluster", "Remove a cluster that has neither backups nor copies",
		http.StatusNoContent, s.removeCluster)
	op(s, api, http.MethodPost, "/clusters/{cluster}/capture/start", "start-capture", "Capture the cluster's WAL", 0, s.startCapture)
	op(s, api, http.MethodPost, "/clusters/{cluster}/capture/stop", "stop-capture",
		"Stop capturing; the server retains WAL in the slot until it is started again", 0, s.stopCapture)
	op(s, api, http.MethodPost, "/links", "make-link", "Make a link that opens the console once", http.StatusCreated, s.makeLink)
}

// clusterID gives the id of a cluster by which a list is narrowed; none is "".
func (s *Service) clusterID(ctx context.Context, name string) (string, error) {
	if name == "" {
		return "", nil
	}
	k, err := s.catalog.Cluster(ctx, name)
	return k.ID, err
}

func (s *Service) listClusters(ctx context.Context, _ *empty) (*body[[]api.Cluster], error) {
	f, err := s.fleetOf(ctx, "")
	if err != nil {
		return nil, err
	}
	views := make([]api.Cluster, len(f.calendar.Clusters))
	for i, k := range f.calendar.Clusters {
		if views[i], err = f.view(k); err != nil {
			return nil, err
		}
	}
	return answer(views, nil)
}

func (s *Service) showCluster(ctx context.Context, in *ClusterPath) (*body[api.Cluster], error) {
	k, err := s.catalog.Cluster(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	return answer(s.clusterView(ctx, k))
}

type setCopiesUser struct {
	ClusterPath
	Body api.CopiesUserRequest
}

func (s *Service) setCopiesUser(ctx context.Context, in *setCopiesUser) (*empty, error) {
	k, err := s.catalog.Cluster(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	if _, err := s.host.As(in.Body.User); err != nil {
		return nil, problem.Wrap(err, problem.Invalid, "the OS user of the cluster's copies was not changed",
			"Copies that stand keep theirs.")
	}
	return &empty{}, s.catalog.SetCopiesUser(ctx, k.ID, in.Body.User)
}

type addCluster struct {
	Body api.AddClusterRequest
}

var clusterName = regexp.MustCompile(`^[a-z][a-z0-9_-]{0,39}$`)

func (s *Service) addCluster(ctx context.Context, in *addCluster) (*body[api.AddedCluster], error) {
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
	report, err := s.checker().Check(ctx, access.Access{
		ConnString: in.Body.ConnString, Password: in.Body.Password,
		ReplicationUser: in.Body.ReplicationUser, ReplicationPassword: in.Body.ReplicationPassword,
	}, k.Slot)
	if err != nil {
		return nil, err
	}
	if !report.Ready() {
		return nil, notReady(report)
	}
	if k.PasswordSealed, err = s.sealPassword(passwordPurpose(k.ID), in.Body.Password); err != nil {
		return nil, err
	}
	if k.ReplicationSealed, err = s.sealPassword(replicationPurpose(k.ID), in.Body.ReplicationPassword); err != nil {
		return nil, err
	}
	f := report.Facts
	k.SystemID, k.ServerVersion, k.SegmentSize, k.DataChecksums, k.Superuser, k.DataDirectory = f.SystemID, f.ServerVersion, f.SegmentSize,
		f.Checksums, f.Superuser, f.Settings["data_directory"]
	if err := s.catalog.AddCluster(ctx, k); err != nil {
		return nil, err
	}
	s.log.Info("cluster added", "cluster", name, "system_id", k.SystemID)
	s.captures.Look()
	s.events.publish(eventCluster, k.ID)
	if !in.Body.NoBase {
		t, err := s.tasks.submit(ctx, taskBackup, k.ID, catalog.NewID(), backupArgs{Kind: layout.Full})
		if err != nil {
			return nil, err
		}
		added.Task = t.ID
	}
	added.Readiness = asReadiness(report)
	added.Cluster, err = s.clusterView(ctx, k)
	return answer(added, err)
}

func (s *Service) sealPassword(purpose, password string) ([]byte, error) {
	if password == "" {
		return nil, nil
	}
	return s.key.Seal(password, purpose)
}

type removeCluster struct {
	ClusterPath
	Confirm string `query:"confirm" doc:"the cluster's name"`
}

func (s *Service) removeCluster(ctx context.Context, in *removeCluster) (*empty, error) {
	k, err := s.catalog.Cluster(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	backups, err := s.catalog.Backups(ctx, k.ID)
	if err != nil {
		return nil, err
	}
	copies, err := s.catalog.Copies(ctx, k.ID)
	if err != nil {
		return nil, err
	}
	active, err := s.catalog.Tasks(ctx, catalog.TaskFilter{Cluster: k.ID, Active: true, Limit: 1})
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
		"removing "+k.Name+" ends its capture and deletes its captured WAL"+s.takenBack("velvet store rebuild")); err != nil {
		return nil, err
	}
	if err := s.catalog.WantCapture(ctx, k.ID, false); err != nil {
		return nil, err
	}
	s.captures.Look()
	if err := s.dropSlot(ctx, k); err != nil {
		return nil, problem.Wrap(err, problem.Conflict, "the cluster was not removed",
			"Its capture has been stopped. Wait a few seconds for it to end, see that the server can be reached, and remove the cluster "+
				"again.")
	}
	if err := spool.Forget(s.cfg.spool(), k.ID); err != nil {
		return nil, err
	}
	// A notice of an earlier removal that was taken back says nothing of this one.
	if _, _, err := s.notices().Due(ctx, k.ID, "all", nil); err != nil {
		return nil, err
	}
	if err := s.catalog.NoteRemoved(ctx, k); err != nil {
		return nil, err
	}
	if err := s.catalog.RemoveCluster(ctx, k.ID); err != nil {
		return nil, err
	}
	return nil, s.deleteRemoved(ctx)
}

// dropSlot lets the server forget the WAL that it retains for us.
func (s *Service) dropSlot(ctx context.Context, k catalog.Cluster) error {
	a, err := s.access(k)
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

func (s *Service) startCapture(ctx context.Context, in *ClusterPath) (*body[api.Cluster], error) {
	return s.wantCapture(ctx, in.Cluster, true)
}

func (s *Service) stopCapture(ctx context.Context, in *ClusterPath) (*body[api.Cluster], error) {
	return s.wantCapture(ctx, in.Cluster, false)
}

func (s *Service) wantCapture(ctx context.Context, name string, wanted bool) (*body[api.Cluster], error) {
	k, err := s.catalog.Cluster(ctx, name)
	if err != nil {
		return nil, err
	}
	if err := s.catalog.WantCapture(ctx, k.ID, wanted); err != nil {
		return nil, err
	}
	s.captures.Look()
	return answer(s.clusterView(ctx, k))
}

func (s *Service) makeLink(ctx context.Context, _ *empty) (*body[api.Link], error) {
	path, err := s.newLink(ctx, "")
	return answer(api.Link{Path: path, Expires: time.Now().Add(linkLifetime).UTC()}, err)
}

type changeLogin struct {
	ClusterPath
	Body api.Login
}

// changeLogin has a cluster be reached otherwise from now on: with another password, as another
// role, at another address. It must be the same cluster.
func (s *Service) changeLogin(ctx context.Context, in *changeLogin) (*body[api.Cluster], error) {
	k, err := s.catalog.Cluster(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	login := in.Body
	if login.ConnString == "" {
		login.ConnString = k.ConnString
	}
	report, err := s.checker().Check(ctx, loginAccess(login), k.Slot)
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
	if k.PasswordSealed, err = s.sealPassword(passwordPurpose(k.ID), login.Password); err != nil {
		return nil, err
	}
	if k.ReplicationSealed, err = s.sealPassword(replicationPurpose(k.ID), login.ReplicationPassword); err != nil {
		return nil, err
	}
	if err := s.catalog.SetLogin(ctx, k); err != nil {
		return nil, err
	}
	if err := deposit.PutCluster(ctx, s.store, k); err != nil {
		s.log.Warn("the cluster's record in the store has the login of before", "cluster", k.Name, "error", err)
	}
	s.captures.Restart(k.ID)
	s.events.publish(eventCluster, k.ID)
	return answer(s.clusterView(ctx, k))
}
