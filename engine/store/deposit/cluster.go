package deposit

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"velvetrewind/core/journal"
	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/store"
	"velvetrewind/engine/store/vault"
)

// clusterRecord is what the store keeps of a cluster.
type clusterRecord struct {
	ID             string         `json:"id"`
	Name           string         `json:"name"`
	ConnString     string         `json:"connString"`
	PasswordSealed []byte         `json:"passwordSealed,omitempty"`
	SystemID       uint64         `json:"systemId,string"`
	ServerVersion  int            `json:"serverVersion"`
	SegmentSize    pg.SegmentSize `json:"segmentSize"`
	DataChecksums  bool           `json:"dataChecksums"`
	Superuser      string         `json:"superuser"`
	Slot           string         `json:"slot"`
	CreatedAt      time.Time      `json:"createdAt"`
	Rule           journal.Rule   `json:"rule"`

	Labels            json.RawMessage  `json:"labels,omitempty"`
	Keep              *json.RawMessage `json:"keep,omitempty"`
	ReplicationUser   string           `json:"replicationUser,omitempty"`
	ReplicationSealed []byte           `json:"replicationSealed,omitempty"`

	Authors *journal.AuthorRule `json:"authors,omitempty"`

	DataDirectory    string          `json:"dataDirectory,omitempty"`
	FormerSuperusers json.RawMessage `json:"formerSuperusers,omitempty"`
}

// PutCluster keeps a cluster's record in the store.
func PutCluster(ctx context.Context, s *vault.Vault, k catalog.Cluster) error {
	rule, err := k.Rule()
	if err != nil {
		return err
	}
	authors, err := k.Authors()
	if err != nil {
		return err
	}
	encoded, err := json.Marshal(clusterRecord{
		k.ID, k.Name, k.ConnString, k.PasswordSealed, k.SystemID, k.ServerVersion, k.SegmentSize, k.DataChecksums, k.Superuser, k.Slot,
		k.CreatedAt.UTC(), rule,
		k.LabelsSet, k.KeepSet, k.ReplicationUser, k.ReplicationSealed, &authors, k.DataDirectory, k.FormerSuperusersSet,
	})
	if err != nil {
		return err
	}
	_, err = s.Put(ctx, store.RecordKey(k.ID), layout.Plain, encoded)
	return err
}

// ReadCluster reads a cluster from its record.
func ReadCluster(ctx context.Context, s *vault.Vault, id string) (catalog.Cluster, error) {
	encoded, err := s.Get(ctx, store.RecordKey(id))
	if err != nil {
		return catalog.Cluster{}, err
	}
	var r clusterRecord
	if err := json.Unmarshal(encoded, &r); err != nil {
		return catalog.Cluster{}, err
	}
	if r.Authors == nil { // an earlier version has written it
		r.Authors = &journal.DefaultAuthorRule
	}
	rule, err := json.Marshal(r.Rule)
	authors, other := json.Marshal(r.Authors)
	return catalog.Cluster{
		ID: r.ID, Name: r.Name, ConnString: r.ConnString, PasswordSealed: r.PasswordSealed, SystemID: r.SystemID,
		ServerVersion: r.ServerVersion,
		SegmentSize:   r.SegmentSize, DataChecksums: r.DataChecksums, Superuser: r.Superuser, Slot: r.Slot, CreatedAt: r.CreatedAt,
		RuleSet: rule, AuthorsSet: authors, LabelsSet: r.Labels, KeepSet: r.Keep,
		ReplicationUser: r.ReplicationUser, ReplicationSealed: r.ReplicationSealed,
		DataDirectory: r.DataDirectory, FormerSuperusersSet: r.FormerSuperusers,
	}, errors.Join(err, other)
}
