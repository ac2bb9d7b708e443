// Package logins opens and seals the passwords with which clusters are reached.
//
// Invariant: a password is sealed for one purpose of one cluster; sealed for another it does not open.
package logins

import (
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/catalog/seal"
	"velvetrewind/engine/server/access"
)

// Logins holds the key of the service's home.
type Logins struct{ Key seal.Key }

// Access is how to reach a cluster.
func (l Logins) Access(k catalog.Cluster) (access.Access, error) {
	a := access.Access{ConnString: k.ConnString, ReplicationUser: k.ReplicationUser}
	var err error
	if a.Password, err = l.Key.Open(k.PasswordSealed, passwordPurpose(k.ID)); err != nil {
		return a, err
	}
	a.ReplicationPassword, err = l.Key.Open(k.ReplicationSealed, replicationPurpose(k.ID))
	return a, err
}

// Seal puts the passwords of an access into a cluster's record; one that is not given is none.
func (l Logins) Seal(k *catalog.Cluster, password, replicationPassword string) (err error) {
	if k.PasswordSealed, err = l.seal(password, passwordPurpose(k.ID)); err != nil {
		return err
	}
	k.ReplicationSealed, err = l.seal(replicationPassword, replicationPurpose(k.ID))
	return err
}

func (l Logins) seal(password, purpose string) ([]byte, error) {
	if password == "" {
		return nil, nil
	}
	return l.Key.Seal(password, purpose)
}

func replicationPurpose(cluster string) string { return "replication password of cluster " + cluster }

func passwordPurpose(cluster string) string { return "password of cluster " + cluster }
