package vault

import (
	"crypto/rand"
	"encoding/hex"
	"fmt"

	"velvetrewind/core/layout"
)

// Ring is the data keys of a store. New objects are sealed with the newest; the older
// ones open what was sealed before.
type Ring struct {
	Current uint32              `json:"current"`
	Keys    map[uint32][32]byte `json:"keys"`
	// Only says that Keys are not the store's, but those made of them for one cluster.
	Only string `json:"only,omitempty"`
}

// add makes a new data key, the current one from now on.
func (r *Ring) add() {
	if r.Keys == nil {
		r.Keys = make(map[uint32][32]byte)
	}
	var key [32]byte
	_, _ = rand.Read(key[:]) // never fails
	r.Current++
	r.Keys[r.Current] = key
}

// Fingerprint tells the store's first data key, which stays, from others, without giving it away;
// "" of a store that is not encrypted.
func (r *Ring) Fingerprint() string {
	if r == nil {
		return ""
	}
	sum := layout.DeriveKey(r.Keys[1], "fingerprint of a store's keys", "")
	return hex.EncodeToString(sum[:16])
}

// tag authenticates a store's record with the first data key.
func (r *Ring) tag(content []byte) string {
	if r == nil {
		return ""
	}
	sum := layout.DeriveKey(r.Keys[1], "store record", string(content))
	return hex.EncodeToString(sum[:])
}

// clone makes a ring that can be changed.
func (r *Ring) clone() *Ring {
	c := &Ring{Current: r.Current, Keys: make(map[uint32][32]byte, len(r.Keys))}
	for n, k := range r.Keys {
		c.Keys[n] = k
	}
	return c
}

// ForCluster gives a ring that opens the objects of one cluster, and no others. Of nil it is nil.
func (r *Ring) ForCluster(id string) *Ring {
	if r == nil {
		return nil
	}
	only := &Ring{Current: r.Current, Keys: make(map[uint32][32]byte), Only: id}
	for n := range r.Keys {
		only.Keys[n], _ = r.cluster(n, id)
	}
	return only
}

// cluster makes the key of a cluster from the data key with a number.
func (r *Ring) cluster(number uint32, id string) (key [32]byte, ok bool) {
	if r == nil {
		return key, false
	}
	data, ok := r.Keys[number]
	if !ok || r.Only != "" && r.Only != id {
		return key, false
	}
	if r.Only != "" {
		return data, true
	}
	return layout.DeriveKey(data, "cluster key", id), true
}

// hashKey keys the hashes of a cluster's extents. It is made of the first key, so that
// a rotation leaves unchanged extents recognisable.
func (r *Ring) hashKey(cluster string) layout.HashKey {
	first, ok := r.cluster(1, cluster)
	if !ok {
		return nil
	}
	key := layout.DeriveKey(first, "extent hashes", cluster)
	return &key
}

// seal makes the seal of an object by its header.
func (r *Ring) seal(h layout.Header, cluster, name string) (*layout.Seal, error) {
	if h.Key == 0 {
		if r != nil {
			return nil, fmt.Errorf("%w: %s is not encrypted, but its store is", layout.ErrCorrupt, name)
		}
		return nil, nil
	}
	key, ok := r.cluster(h.Key, cluster)
	if !ok {
		return nil, fmt.Errorf("%s: %w number %d", name, errNoKey, h.Key)
	}
	return layout.NewSeal(key, h.Salt, name), nil
}

// newHeader makes the header and the seal of a new object.
func (r *Ring) newHeader(cluster, name string) (h layout.Header, s *layout.Seal, err error) {
	if r != nil {
		h.Key = r.Current
		_, _ = rand.Read(h.Salt[:])
	}
	s, err = r.seal(h, cluster, name)
	return h, s, err
}
