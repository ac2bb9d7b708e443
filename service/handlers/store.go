package handlers

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"net/http"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"velvetrewind/api"
	"velvetrewind/core/problem"
	"velvetrewind/engine/backup"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/store"
	"velvetrewind/engine/store/vault"
	"velvetrewind/service/custody"
	"velvetrewind/service/shapes"
	"velvetrewind/service/tasks"
	"velvetrewind/service/work"
)

// Store shows the store, has it audited and rebuilt from, and gives it other keys.
type Store struct {
	Catalog  *catalog.Catalog
	Custody  *custody.Custody
	Tasks    *tasks.Queue
	Home     string // directory
	Log      *slog.Logger
	measured measured
}

// Register registers the operations.
func (h *Store) Register(api *Surface) {
	op(api, http.MethodGet, "/store", "show-store", "Show the store, and what each cluster takes in it", 0, h.showStore)
	op(api, http.MethodPost, "/store/key", "rekey-store", "Give the store another key, without writing what it holds anew", 0, h.rekey)
	op(api, http.MethodGet, "/store/key", "show-key-record",
		"Show the record of the store's keys, which opens nothing without the store's key, for a safe", 0, h.keyRecord)
	op(api, http.MethodPost, "/store/deposits", "deposit-catalogue",
		"Put what only the catalogue knows into the store, as is done every night", 0, h.depositCatalogue)
	op(api, http.MethodPost, "/store/audits", "audit-store", "Look through the store", http.StatusAccepted, h.submitAudit)
	op(api, http.MethodPost, "/store/rebuilds", "rebuild-catalogue",
		"Record everything that the store holds and the catalogue does not know", http.StatusAccepted, h.submitRebuild)
	op(api, http.MethodGet, "/store/audits/{task}", "show-audit", "Show what an audit found", 0, h.showAudit)
	op(api, http.MethodPut, "/clusters/{cluster}/second-store", "set-second-store",
		"Say whether a cluster is copied to the second store", 0, h.setSecond)
}

type submitAudit struct {
	Body api.AuditRequest
}

func (h *Store) submitAudit(ctx context.Context, in *submitAudit) (*body[api.Task], error) {
	if in.Body.Fix && h.Custody.Store.Second() == nil {
		return nil, problem.New(problem.Conflict, "Name one when the service starts: --second-store", "the store was not audited",
			"without a second store there is nothing to fix it from")
	}
	t, err := h.Tasks.Submit(ctx, "", "", work.Audit{Full: in.Body.Full, Fix: in.Body.Fix})
	if err != nil {
		return nil, err
	}
	return answer(shapes.Task(t, nil))
}

func (h *Store) submitRebuild(ctx context.Context, _ *empty) (*body[api.Task], error) {
	t, err := h.Tasks.Submit(ctx, "", "", work.Rebuild{})
	if err != nil {
		return nil, err
	}
	return answer(shapes.Task(t, nil))
}

func (h *Store) showAudit(ctx context.Context, in *TaskPath) (*body[api.AuditResult], error) {
	t, err := h.Catalog.Task(ctx, in.Task)
	if err != nil {
		return nil, err
	}
	if t.Kind != work.KindAudit || t.Outcome == nil {
		return nil, problem.New(problem.NotFound, "Begin one with: velvet store audit", "there is no such audit",
			"task %s is no audit that has ended well", in.Task)
	}
	var r api.AuditResult
	return answer(r, json.Unmarshal(*t.Outcome, &r))
}

type rekeyIn struct {
	Body api.RekeyRequest
}

// keyFile makes sure that a file lies where the service's keys are, beside the one that it was
// started with or in its home: no other file's content is anybody's to try.
func (h *Store) keyFile(name string) (string, error) {
	file, err := filepath.EvalSymlinks(name)
	if err != nil {
		return "", err
	}
	for _, dir := range []string{h.Home, filepath.Dir(h.Custody.Key)} {
		if dir, err := filepath.EvalSymlinks(dir); err == nil && filepath.Dir(file) == dir {
			return file, nil
		}
	}
	return "", fmt.Errorf("%s does not lie in the directory of the store's key, %s, nor in %s", name,
		filepath.Dir(h.Custody.Key), h.Home)
}

func (h *Store) rekey(ctx context.Context, in *rekeyIn) (*body[api.Rekeyed], error) {
	const title = "the store's key was not changed"
	file, err := h.keyFile(in.Body.File)
	if err != nil {
		return nil, problem.Wrap(err, problem.Invalid, title,
			"Name a file that the service can read, beside the one that it was started with, with an age identity or a passphrase in it.")
	}
	k, err := vault.LoadKey(file)
	if err != nil {
		return nil, problem.Wrap(err, problem.Invalid, title,
			"Name a file that the service can read, with an age identity or a passphrase in it.")
	}
	if name := h.Custody.Store.String(); in.Body.Confirm != name {
		return nil, problem.New(problem.Unconfirmed, "Look at it, then confirm with: --confirm "+name, title,
			"from now on only the key in %s opens the store %s, and the public keys that you name; the key until now opens it no more",
			file, name)
	}
	lease, ok, err := h.Catalog.OwnKeys(ctx)
	if err != nil {
		return nil, err
	}
	if !ok {
		return nil, problem.New(problem.Conflict, "Wait until it has ended.", title, "another instance is changing the store's key")
	}
	defer lease.Release()
	n, err := h.Custody.Store.Rekey(ctx, k, in.Body.Besides)
	if err != nil {
		return nil, problem.Wrap(err, problem.Conflict, title, "The key that opened the store until now still does.")
	}
	if err := h.Custody.NoteKeys(ctx); err != nil {
		h.Log.Warn("the catalogue does not know the store's new key yet; it is told at the next start", "error", err)
	}
	h.Log.Info("the store has a new key", "number", n)
	return answer(api.Rekeyed{KeyNumber: n, Next: fmt.Sprintf("From the next start on, name the new file: --store-key %s. The key "+
		"before opens the store no more; nothing that the store holds was written anew.", in.Body.File)}, nil)
}

func (h *Store) keyRecord(_ context.Context, _ *empty) (*body[api.KeyRecord], error) {
	if h.Custody.Store.Ring() == nil {
		return nil, problem.New(problem.Conflict, "Encryption is chosen when a store is new.", "there is no record of keys",
			"the store %s is not encrypted", h.Custody.Store)
	}
	content, err := h.Custody.Store.KeyRecord()
	if err != nil {
		return nil, err
	}
	return answer(api.KeyRecord{Store: h.Custody.Store.String(), Name: store.NameKey, Content: string(content)}, nil)
}

func (h *Store) depositCatalogue(ctx context.Context, _ *empty) (*body[api.Deposited], error) {
	n, err := h.Custody.Deposit(ctx)
	if err != nil {
		return nil, problem.Wrap(err, problem.Failed, "not everything was put into the store",
			"See that the store can be written, then try again. What was put there before is untouched.")
	}
	return answer(api.Deposited{Clusters: n, At: time.Now().UTC()}, nil)
}

type secondIn struct {
	ClusterPath
	Body api.SecondStoreRequest
}

func (h *Store) setSecond(ctx context.Context, in *secondIn) (*empty, error) {
	k, err := h.Catalog.Cluster(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	return &empty{}, h.Catalog.WantSecondStore(ctx, k.ID, in.Body.Wanted)
}

// measured keeps what a listing of the store gave for a while: a large one takes long.
type measured struct {
	mu sync.Mutex
	at time.Time
	by map[string]*backup.InStore
}

const measureEvery = 30 * time.Second

func (h *Store) measure(ctx context.Context) (map[string]*backup.InStore, time.Time, error) {
	m := &h.measured
	m.mu.Lock()
	defer m.mu.Unlock()
	if time.Since(m.at) > measureEvery {
		by, err := backup.Measure(ctx, h.Custody.Store)
		if err != nil {
			return nil, m.at, err
		}
		m.by, m.at = by, time.Now()
	}
	return m.by, m.at, nil
}

func (h *Store) showStore(ctx context.Context, _ *empty) (*body[api.Store], error) {
	r := h.Custody.Store.Record()
	v := api.Store{Name: h.Custody.Store.String(), ID: r.ID, Created: r.Created, Trouble: h.Custody.Problem(), Locks: h.Custody.Locks(),
		Clusters: []api.StoreCluster{}}
	if ring := h.Custody.Store.Ring(); ring != nil {
		v.Encrypted, v.KeyNumber, v.KeyMade = true, ring.Current, &r.Rekeyed
	}
	if second := h.Custody.Store.Second(); second != nil {
		v.Second = second.String()
	}
	by, at, err := h.measure(ctx)
	if err != nil {
		return nil, err
	}
	v.Measured = at.UTC()
	if v.Clusters, err = h.storeClusters(ctx, by, v.Second != ""); err != nil {
		return nil, err
	}
	v.Audit, err = h.lastAudit(ctx)
	return answer(v, err)
}

func (h *Store) storeClusters(ctx context.Context, by map[string]*backup.InStore, second bool) ([]api.StoreCluster, error) {
	clusters, err := h.Catalog.Clusters(ctx)
	if err != nil {
		return nil, err
	}
	backups, err := h.Catalog.Backups(ctx, "")
	if err != nil {
		return nil, err
	}
	growth, err := h.growth(ctx)
	if err != nil {
		return nil, err
	}
	list := []api.StoreCluster{}
	known := make(map[string]bool)
	for _, k := range clusters {
		known[k.ID] = true
		c := api.StoreCluster{Cluster: k.Name, Known: true, Second: second && k.SecondStore, Growth: growth[k.ID]}
		for _, b := range backups {
			if b.ClusterID == k.ID {
				c.Backups++
				c.Held += b.BytesHeld
			}
		}
		take(&c, by[k.ID])
		list = append(list, c)
	}
	for id, m := range by {
		if !known[id] {
			c := api.StoreCluster{Cluster: id}
			take(&c, m)
			list = append(list, c)
		}
	}
	slices.SortFunc(list, func(a, b api.StoreCluster) int {
		return cmp.Or(cmp.Compare(b.Packs+b.WAL, a.Packs+a.WAL), cmp.Compare(a.Cluster, b.Cluster))
	})
	return list, nil
}

func take(c *api.StoreCluster, m *backup.InStore) {
	if m != nil {
		c.Packs, c.WAL, c.Journal, c.Objects = m.Packs, m.WAL, m.Journal, m.Objects
	}
}

// mostPoints is how fine the growth of the store is told.
const mostPoints = 120

// growth adds up what was stored, by cluster.
func (h *Store) growth(ctx context.Context) (map[string][]api.StorePoint, error) {
	const finest = 5
	list, err := h.Catalog.Growths(ctx, finest)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	span := int64(time.Since(list[0].At).Seconds())
	if step := span / mostPoints; step > finest {
		if list, err = h.Catalog.Growths(ctx, step); err != nil {
			return nil, err
		}
	}
	all := make(map[string][]api.StorePoint)
	for _, g := range list {
		p := api.StorePoint{At: g.At.UTC(), Backups: g.Backups, WAL: g.WAL}
		if n := len(all[g.ClusterID]); n > 0 {
			before := all[g.ClusterID][n-1]
			p.Backups, p.WAL = p.Backups+before.Backups, p.WAL+before.WAL
		}
		all[g.ClusterID] = append(all[g.ClusterID], p)
	}
	return all, nil
}

func (h *Store) lastAudit(ctx context.Context) (*api.StoreAudit, error) {
	t, ok, err := h.Catalog.LastDone(ctx, work.KindAudit)
	if err != nil || !ok || t.Outcome == nil {
		return nil, err
	}
	var r api.AuditResult
	if err := json.Unmarshal(*t.Outcome, &r); err != nil {
		return nil, err
	}
	a := &api.StoreAudit{Task: t.ID, At: t.FinishedAt.Time.UTC(), Full: r.Full, Findings: len(r.Findings), Behind: r.Behind}
	for _, f := range r.Findings {
		if f.Costs {
			a.Costing++
		}
	}
	return a, nil
}
