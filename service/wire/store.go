package wire

import "time"

// Store is where backups and WAL are kept, and what they take there.
type Store struct {
	Name      string         `json:"name"`
	ID        string         `json:"id"`
	Created   time.Time      `json:"created"`
	Encrypted bool           `json:"encrypted"`
	KeyNumber uint32         `json:"keyNumber,omitempty" doc:"of the data key that seals what is written now"`
	KeyMade   *time.Time     `json:"keyMade,omitempty" doc:"when that key was made"`
	Second    string         `json:"second,omitempty" doc:"name of the second store"`
	Locks     []StoreLock    `json:"locks" doc:"how the buckets lock what they hold; empty where they do not"`
	Trouble   string         `json:"trouble,omitempty" doc:"why the second store cannot be reached"`
	Measured  time.Time      `json:"measured" doc:"when the store was listed"`
	Clusters  []StoreCluster `json:"clusters"`
	Audit     *StoreAudit    `json:"audit,omitempty" doc:"the newest audit that has ended"`
}

// StoreLock is how a bucket with object lock is used.
type StoreLock struct {
	Store string `json:"store" doc:"name"`
	Text  string `json:"text"`
}

// StoreCluster is what a cluster takes in the store.
type StoreCluster struct {
	Cluster string       `json:"cluster" doc:"name; of one that the catalogue does not know, its id"`
	Known   bool         `json:"known"`
	Backups int          `json:"backups" doc:"how many base backups there are"`
	Held    int64        `json:"held" doc:"bytes that these hold, each counted as a whole"`
	Packs   int64        `json:"packs" doc:"bytes that they take, each shared part once"`
	WAL     int64        `json:"wal"`
	Journal int64        `json:"journal"`
	Objects int64        `json:"objects"`
	Second  bool         `json:"second" doc:"it is copied to the second store"`
	Growth  []StorePoint `json:"growth" doc:"how it came to be what it is, oldest first"`
}

// StorePoint is what of a cluster was kept at a time.
type StorePoint struct {
	At      time.Time `json:"at"`
	Backups int64     `json:"backups" doc:"bytes"`
	WAL     int64     `json:"wal" doc:"bytes"`
}

// StoreAudit is what an audit found, in numbers.
type StoreAudit struct {
	Task     string    `json:"task"`
	At       time.Time `json:"at"`
	Full     bool      `json:"full" doc:"every byte was read"`
	Findings int       `json:"findings"`
	Costing  int       `json:"costing" doc:"findings because of which something cannot be restored"`
	Behind   int64     `json:"behind" doc:"objects that the second store did not have yet"`
}

// Deposited tells what of the catalogue was put into the store.
type Deposited struct {
	Clusters int       `json:"clusters"`
	At       time.Time `json:"at"`
}

// KeyRecord is the record of a store's keys, each wrapped for those who may open it.
type KeyRecord struct {
	Store   string `json:"store"`
	Name    string `json:"name" doc:"of the object that it is in the store"`
	Content string `json:"content"`
}

// Rekeyed is the outcome of a rotation of the store's key.
type Rekeyed struct {
	KeyNumber uint32 `json:"keyNumber"`
	Next      string `json:"next" doc:"what to do now"`
}
