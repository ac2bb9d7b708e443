package api

import "time"

// Host is a machine with a host agent.
type Host struct {
	ID         string     `json:"id"`
	Name       string     `json:"name"`
	Connected  bool       `json:"connected" doc:"its agent can be asked now"`
	SeenAt     *time.Time `json:"seenAt,omitempty" doc:"when it last could be"`
	JoinedAt   time.Time  `json:"joinedAt"`
	Address    string     `json:"address,omitempty" doc:"that it last came from"`
	Velvet     string     `json:"velvet,omitempty" doc:"version of its agent"`
	Users      []string   `json:"users" doc:"OS users that copies may run as there, the first unless another is asked for"`
	Directory  string     `json:"directory,omitempty" doc:"in which copies are laid out"`
	Majors     []int      `json:"majors" doc:"versions of PostgreSQL that are installed there"`
	Databases  []string   `json:"databases" doc:"directories below which databases lie that a copy may take the place of"`
	Free       int64      `json:"free" doc:"bytes, where copies are"`
	Memory     int64      `json:"memory" doc:"bytes, of the machine"`
	Cores      int        `json:"cores"`
	MostCopies int        `json:"mostCopies" doc:"copies that may stand there at once; 0 for no limit"`
	MostBytes  int64      `json:"mostBytes" doc:"that they may take together; 0 for no limit"`
	Clusters   []string   `json:"clusters" doc:"names of the clusters whose servers run there, as far as was last seen"`
	Copies     []string   `json:"copies" doc:"names of the copies that stand there"`
}

// AddHostRequest asks for a word with which a host may join.
type AddHostRequest struct {
	Name string `json:"name" doc:"lower-case letters, digits, - and _"`
}

// HostWord is a word with which one host may join, once.
type HostWord struct {
	Name    string    `json:"name"`
	Word    string    `json:"word"`
	Address string    `json:"address" doc:"at which this instance listens for host agents"`
	Until   time.Time `json:"until"`
}
