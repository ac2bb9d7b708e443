package wire

import (
	"velvetrewind/core/readiness"
	"velvetrewind/engine/server/survey"
)

// Login is how to reach a cluster.
type Login struct {
	ConnString          string `json:"connString" doc:"URL or keyword=value, without a password"`
	Password            string `json:"password,omitempty"`
	ReplicationUser     string `json:"replicationUser,omitempty" doc:"role of replication sessions, where it is not the connection string's"`
	ReplicationPassword string `json:"replicationPassword,omitempty"`
}

// Mended is what was run, and what a cluster lacks now.
type Mended struct {
	Applied survey.Applied   `json:"applied"`
	Report  readiness.Report `json:"report"`
}

// Script is text to be run or read elsewhere.
type Script struct {
	Text string `json:"text"`
}
