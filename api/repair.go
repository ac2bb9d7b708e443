package api

import "velvetrewind/core/pg"

// RepairRequest asks to have right files laid over damaged or lost ones of a stopped cluster.
type RepairRequest struct {
	Plan        bool     `json:"plan,omitempty" doc:"only compare, and say what would be done"`
	Tablespaces []string `json:"tablespaces,omitempty" doc:"only these, by oid or by where they lie"`
	Relations   []string `json:"relations,omitempty" doc:"only these, by the path of their first file, as base/16384/16385, or as DATABASE.SCHEMA.NAME"`
	NoStart     bool     `json:"noStart,omitempty" doc:"leave the server stopped afterwards"`
	Confirm     string   `json:"confirm,omitempty" doc:"name of the cluster, typed to confirm"`
}

// Repair is what a repair found, and did unless it was only planned: the outcome of its task.
type Repair struct {
	Cluster   string       `json:"cluster"`
	Directory string       `json:"directory"`
	Planned   bool         `json:"planned" doc:"nothing was changed"`
	Base      string       `json:"base" doc:"id of the base backup that it was compared with"`
	From      pg.LSN       `json:"from" doc:"where replay begins"`
	To        pg.LSN       `json:"to" doc:"where the WAL ends that is known"`
	Findings  []RepairFile `json:"findings" doc:"those that are wrong, by path, and then those that replay makes anew"`
	More      int          `json:"more" doc:"findings that are not listed"`
	Files     int64        `json:"files" doc:"that were compared"`
	Bytes     int64        `json:"bytes" doc:"that were read of them"`
	Newer     int64        `json:"newer" doc:"pages that were left, for the WAL since the base changes them and they are whole"`
	Segments  []string     `json:"segments" doc:"WAL files that were lacking, or other than captured"`
	Aside     []string     `json:"aside" doc:"directories in which is kept what stood there"`
	Strict    string       `json:"strict,omitempty" doc:"why no page was left that differs from the base"`
	Started   bool         `json:"started" doc:"the server was started, and has recovered"`
}

// RepairFile is a file that is not as it has to be.
type RepairFile struct {
	Path    string `json:"path" doc:"relative to the data directory"`
	Why     string `json:"why"`
	Renewed bool   `json:"renewed" doc:"nothing says that it is wrong: replay makes it anew from the base's"`
	Missing bool   `json:"missing"`
	Removed bool   `json:"removed" doc:"it is moved aside, and nothing put in its place"`
	Pages   int64  `json:"pages" doc:"that are written; 0 where the file is written whole"`
	Bytes   int64  `json:"bytes" doc:"that are written"`
}
