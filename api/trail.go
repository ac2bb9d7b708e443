package api

import "time"

// UserHeader is the header in which the command line gives the name of its OS user.
const UserHeader = "Velvet-User"

// TrailEntry is one act in the record of who did what.
type TrailEntry struct {
	Number  int64     `json:"number"`
	At      time.Time `json:"at"`
	Who     string    `json:"who" doc:"who did it, as far as is known; the name of the OS user is what the command line says it is"`
	From    string    `json:"from,omitempty" doc:"the address that they called from"`
	Did     string    `json:"did"`
	Cluster string    `json:"cluster,omitempty" doc:"its name, or its id once it was removed"`
	Subject string    `json:"subject,omitempty" doc:"what it was done to"`
	Outcome string    `json:"outcome"`
	Hash    string    `json:"hash" doc:"SHA-256 of the entry and of the hash of the one before it"`
}

// TrailCheck says whether the trail is what was written.
type TrailCheck struct {
	Entries int64  `json:"entries" doc:"how many are as they were written"`
	Last    string `json:"last,omitempty" doc:"the hash of the last of those"`
	Broken  string `json:"broken,omitempty" doc:"what is wrong with the next one; empty if nothing is"`
	Noted   int64  `json:"noted,omitempty" doc:"the number of the entry with the hash that was asked about"`
}
