// Package trail chains the record of who did what.
//
// Invariant: the hash of an entry covers what it says and the hash of the one before it, so that one which was changed,
// removed or put in between shows. That the newest ones were removed shows to whoever has noted a hash. Where entries
// are kept is left to others.
package trail

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"time"
)

// Entry is one act.
type Entry struct {
	Number  int64     // from 1 on, without gaps
	At      time.Time // to the microsecond
	Who     string    // who did it, as far as is known
	From    string    // the address that they called from; "" for the service itself
	Did     string    // what
	Cluster string    // id, or ""
	Subject string    // what it was done to: names and ids
	Outcome string    // how it ended, and what else is to be kept of it
	Hash    string    // SHA-256 in hex, of all this and of the hash of the entry before
}

// Seal gives the entry its hash; before is that of the entry before it, or "" for the first.
func (e Entry) Seal(before string) Entry {
	content, _ := json.Marshal([]string{before, fmt.Sprint(e.Number), e.At.UTC().Format("2006-01-02T15:04:05.000000Z"), e.Who, e.From,
		e.Did, e.Cluster, e.Subject, e.Outcome}) // texts alone cannot fail
	sum := sha256.Sum256(content)
	e.Hash = hex.EncodeToString(sum[:])
	return e
}

// Chain is a trail that is read from its beginning.
type Chain struct {
	Count int64
	Last  string // hash of the entry read last
}

// Add reads the next entry. The error says what is wrong with the trail there.
func (c *Chain) Add(e Entry) error {
	switch {
	case e.Number != c.Count+1:
		return fmt.Errorf("entry %d follows on entry %d: what was between them is missing", e.Number, c.Count)
	case e.Seal(c.Last).Hash != e.Hash:
		return fmt.Errorf("entry %d is not what was written: it, or one before it, was changed", e.Number)
	}
	c.Count, c.Last = e.Number, e.Hash
	return nil
}
