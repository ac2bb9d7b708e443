package api

import "time"

// Leftovers are what copies, takeovers and repairs hold on hosts.
type Leftovers struct {
	List   []Leftover `json:"list"`
	Unseen []string   `json:"unseen" doc:"what could not be looked at, and why"`
}

// Leftover is something that takes room on a host.
type Leftover struct {
	Host      string     `json:"host,omitempty" doc:"name; none for the service's own"`
	Cluster   string     `json:"cluster,omitempty" doc:"name, where it is known"`
	What      string     `json:"what" enum:"copy,set aside,kept by repair,not ours"`
	Path      string     `json:"path"`
	Bytes     int64      `json:"bytes" doc:"on disk"`
	Since     *time.Time `json:"since,omitempty"`
	Removable bool       `json:"removable" doc:"it can be removed with remove-leftover"`
	How       string     `json:"how" doc:"command that removes it"`
}
