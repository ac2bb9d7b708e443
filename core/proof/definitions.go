package proof

// Area is what a check is about.
type Area string

// The areas, in the order in which they are looked at.
const (
	AreaBoundary  Area = "boundary"
	AreaBytes     Area = "bytes"
	AreaStructure Area = "structure"
	AreaMeaning   Area = "meaning"
	AreaContent   Area = "content"
	AreaLog       Area = "log"
	AreaOwn       Area = "own checks"
)

// Names of checks.
const (
	Place       = "stopping place"
	LastIn      = "last transaction in"
	FirstOut    = "first transaction out"
	Commits     = "commit log"
	PageBytes   = "pages"
	FilesWhole  = "files"
	ControlFile = "control file"
	Maps        = "relation maps"
	Marks       = "version files"
	Heap        = "tables"
	Toast       = "TOAST"
	Indexes     = "indexes"
	Visibility  = "visibility maps"
	ForeignKeys = "foreign keys"
	Unique      = "unique keys"
	Constraints = "constraints"
	Sequences   = "sequences"
	Catalogs    = "catalogs"
	Extensions  = "extensions"
	Collations  = "collations"
	Objects     = "large objects"
	Content     = "content"
	Log         = "recovery log"
	Settings    = "configuration"
	Roles       = "roles"
)

const again = "Make another copy at the same moment and prove that. If it fails in the same way, take a new base backup and audit " +
	"the store: velvet store audit"

// definitions say of each check what it can show.
var definitions = map[string]Check{
	Place: {
		Area:  AreaBoundary,
		Shows: "where replay ended, and on which timeline, as the copy itself has it",
		Next: "Discard the copy, and " +
			"make another.",
	},
	LastIn:   {Area: AreaBoundary, Shows: "that the last transaction before the boundary is committed in the copy", Next: again},
	FirstOut: {Area: AreaBoundary, Shows: "that the first transaction after the boundary is not committed in the copy", Next: again},
	Commits: {
		Area: AreaBoundary,
		Shows: "that the copy's commit log has every transaction of the journal since the base backup as committed, " +
			"and none of those after the boundary",
		Lacks: "transactions older than the base backup",
		Next:  again,
	},
	PageBytes: {Area: AreaBytes, Shows: "that every page of every relation file on disk is what was written",
		Lacks: "pages that the copy's server still holds in memory only; without data checksums, bytes changed within a row", Next: again},
	FilesWhole: {Area: AreaBytes, Shows: "that every relation has its files, at least as long as the base backup and the WAL say",
		Lacks: "files of transactions that are still open", Next: again},
	ControlFile: {Area: AreaBytes, Shows: "that the control file is whole, and of this cluster", Next: again},
	Maps:        {Area: AreaBytes, Shows: "that the maps to the files of the main catalogs are whole", Next: again},
	Marks:       {Area: AreaBytes, Shows: "that every database's directory is of the cluster's version", Next: again},
	Heap: {
		Area:  AreaStructure,
		Shows: "that every row of every table can be read",
		Lacks: "unlogged tables, which are empty after a recovery",
		Next:  again,
	},
	Toast: {Area: AreaStructure, Shows: "that every value that is stored out of line can be put together", Next: again},
	Indexes: {Area: AreaStructure, Shows: "that every index leads to each row of its table, once and, with a B-tree, in the right " +
		"order; of GIN also every element of arrays and of documents, of BRIN the ends of its summaries",
		Lacks: "the keys of jsonb; operator classes of GIN and access methods that are not the server's own, and expressions that " +
			"need a search_path of their own: only their pages are checked, and it is noted",
		Next: "Rebuild the index in " +
			"the copy with REINDEX, once it is open. Then look whether the original has the same fault."},
	Visibility: {Area: AreaStructure, Shows: "that what the visibility map calls visible to all is just that",
		Lacks: "tables without a B-tree index", Next: "Rebuild it in the copy with VACUUM (DISABLE_PAGE_SKIPPING), once it is open."},
	ForeignKeys: {Area: AreaMeaning, Shows: "that every row that refers to another has that other row",
		Lacks: "keys that are declared NOT VALID or not enforced", Next: "Look whether the original has the same rows: somebody may have " +
			"switched its triggers off."},
	Unique: {Area: AreaMeaning, Shows: "that no key that must be unique occurs twice", Lacks: "keys that are not kept by a B-tree",
		Next: "Look whether the original has the same rows."},
	Constraints: {Area: AreaMeaning, Shows: "that not-null and check constraints and the bounds of partitions hold for every row",
		Lacks: "constraints that are declared NOT VALID or not enforced, and those of domains",
		Next:  "Look whether the original has the same rows."},
	Sequences: {Area: AreaMeaning, Shows: "that the next value of a sequence is ahead of the column that takes its values",
		Lacks: "sequences that belong to no column", Next: "Set it with setval() once the copy is open. Then look at the original's."},
	Catalogs: {Area: AreaMeaning, Shows: "that whatever one row of a system catalog names is there", Next: again},
	Extensions: {
		Area:  AreaMeaning,
		Shows: "that the libraries of the extensions can be loaded on this machine",
		Next:  "Install the package of the extension on this machine.",
	},
	Collations: {Area: AreaMeaning, Shows: "that text is sorted on this machine as where its indexes were made",
		Lacks: "on PostgreSQL 14, the default collation of a database",
		Next: "Rebuild the indexes on text in the copy once it is open, or " +
			"restore on a machine with the same version of that library."},
	Objects: {Area: AreaMeaning, Shows: "that every large object can be read, and belongs to somebody", Next: again},
	Content: {
		Area:  AreaContent,
		Shows: "that each table's rows differ from the live cluster's, and from earlier proofs', as the journal explains",
		Lacks: "what is in rows of tables that were changed since: of these only the number; how many rows a table had that was " +
			"truncated or dropped since",
		Next: "Look at the tables named; they do not hold what the journal says. " + again,
	},
	Log: {
		Area:  AreaLog,
		Shows: "that recovery met nothing that the server warns of",
		Next:  "Read the copy's log: it lies beside its data directory.",
	},
	Settings: {
		Area:  AreaLog,
		Shows: "that the original's configuration, as of the base backup, lies beside the copy",
		Next:  "Take the configuration files from the original's machine.",
	},
	Roles: {Area: AreaLog, Shows: "which roles there were, and that whatever has an owner has one that exists", Next: again},
}

// unable are checks of which it is known what to do where they could not run.
var unable = map[string]bool{Extensions: true, Settings: true}

// New begins the check of a name.
func New(name string) Check {
	c, known := definitions[name]
	if !known {
		c.Area = AreaOwn
	}
	c.Name = name
	return c
}

// IsDefined tells whether every proof makes a check of a name.
func IsDefined(name string) bool {
	_, defined := definitions[name]
	return defined
}
