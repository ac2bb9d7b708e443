package pg

// The major versions of PostgreSQL that can be protected. Before 15 the server sends
// base backups in another form.
const (
	OldestSupported = 15
	NewestSupported = 17
)
