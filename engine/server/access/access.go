// Package access opens connections to a protected cluster: SQL sessions and
// replication sessions, from one connection string whose password is kept apart.
//
// Invariant: a connection string with a password in it is refused, so that what is shown or logged of an Access never
// holds a secret. What is asked in a session is its user's.
package access

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

// Access is how to reach a cluster.
type Access struct {
	ConnString string // URL or keyword=value, without password
	Password   string

	// ReplicationUser is the role of replication sessions, where it is not the same.
	ReplicationUser     string
	ReplicationPassword string
}

// connectTimeout bounds the opening of one connection.
const connectTimeout = 10 * time.Second

// AppName is what the cluster shows of our sessions, and what a DBA puts into
// synchronous_standby_names to have commits wait for capture.
const AppName = "velvet"

// Validate checks the connection string without connecting.
func (a Access) Validate() error {
	_, err := a.config()
	return err
}

// config reads the connection string, with what was left out filled in safely.
func (a Access) config() (*pgx.ConnConfig, error) {
	s, err := parse(a.ConnString)
	if err != nil {
		return nil, err
	}
	s.secure()
	c, err := pgx.ParseConfig(s.String())
	if err != nil {
		return nil, fmt.Errorf("the connection string cannot be read: %w", hidePassword(err))
	}
	c.Password = a.Password // and nobody else's, whatever files there are
	return c, nil
}

func hidePassword(err error) error {
	var parse *pgconn.ParseConfigError
	if errors.As(err, &parse) {
		return errors.New(err.Error()) // pgconn has masked the password in its text
	}
	return err
}

const readOnly = "default_transaction_read_only"

// Guard pins what a session in a database that others own means by a name, and that it reads only.
func Guard(parameters map[string]string) { maps.Copy(parameters, guarded) }

// Of the sessions that SQL opens in databases that others own. Names mean the system's, rows are
// read whole or not at all, nothing is written, and nothing waits for ever.
var guarded = map[string]string{
	"client_encoding":                     "UTF8", // whatever a database's is: names go to the catalogue
	"search_path":                         "pg_catalog",
	"row_security":                        "off",
	"role":                                "none", // whatever ALTER DATABASE or ALTER ROLE sets
	readOnly:                              "on",
	"constraint_exclusion":                "off", // which would have a table's constraints calculated
	"lock_timeout":                        "10s",
	"statement_timeout":                   "10min",
	"idle_in_transaction_session_timeout": "10min",
}

// SQL opens a session in the named database, or in the connection string's own when it is "".
// Of several hosts it is the first that is the primary, or that has the target_session_attrs
// asked for. The session reads, and runs nothing that belongs to the database's owner.
func (a Access) SQL(ctx context.Context, database string) (*pgx.Conn, error) {
	return a.sql(ctx, database, guarded)
}

// Admin opens a session that may write, and may take its time.
func (a Access) Admin(ctx context.Context, database string) (*pgx.Conn, error) {
	own := maps.Clone(guarded)
	own[readOnly], own["statement_timeout"] = "off", "0"
	return a.sql(ctx, database, own)
}

func (a Access) sql(ctx context.Context, database string, parameters map[string]string) (*pgx.Conn, error) {
	c, err := a.config()
	if err != nil {
		return nil, err
	}
	a.complete(&c.Config)
	maps.Copy(c.RuntimeParams, parameters)
	if c.ValidateConnect != nil { // it may ask whether the session can write, before it must not
		delete(c.RuntimeParams, readOnly)
		c.AfterConnect = func(ctx context.Context, conn *pgconn.PgConn) error {
			return conn.Exec(ctx, "set "+readOnly+" = "+parameters[readOnly]).Close()
		}
	}
	if database != "" {
		c.Database = database
	}
	return pgx.ConnectConfig(ctx, c)
}

// servers lists the addresses that a connection string names, in order, each with the ways to
// log in there (with TLS and without).
func servers(c *pgconn.Config) []*pgconn.Config {
	var list []*pgconn.Config
	for _, f := range append([]*pgconn.FallbackConfig{{Host: c.Host, Port: c.Port, TLSConfig: c.TLSConfig}}, c.Fallbacks...) {
		if n := len(list); n > 0 && list[n-1].Host == f.Host && list[n-1].Port == f.Port {
			list[n-1].Fallbacks = append(list[n-1].Fallbacks, f)
			continue
		}
		one := c.Copy()
		one.Host, one.Port, one.TLSConfig, one.Fallbacks = f.Host, f.Port, f.TLSConfig, nil
		list = append(list, one)
	}
	return list
}

// locate finds the server on which SQL sessions end up. A replication session cannot answer
// the question that tells a primary, so a session of the other kind asks it first.
func (a Access) locate(ctx context.Context, c *pgconn.Config) (*pgconn.Config, error) {
	if c.ValidateConnect == nil {
		return c, nil
	}
	var failed error
	for _, one := range servers(c) {
		conn, err := pgconn.ConnectConfig(ctx, one)
		if err == nil {
			return one, conn.Close(ctx)
		}
		failed = errors.Join(failed, err)
	}
	return nil, failed
}

// Role is the role that sessions are of.
func (a Access) Role() (string, error) {
	cfg, err := a.config()
	if err != nil {
		return "", err
	}
	return cfg.User, nil
}

// As is the same place, with another role's login.
func (a Access) As(user, password string) (Access, error) {
	s, err := parse(a.ConnString)
	if err != nil {
		return Access{}, err
	}
	s["user"] = user
	return Access{ConnString: s.String(), Password: password}, nil
}

// Replication opens a session that speaks the streaming replication protocol, with the
// server that SQL reaches, over a connection that dial makes and with messages that frontend reads.
func (a Access) Replication(ctx context.Context, dial pgconn.DialFunc, frontend pgconn.BuildFrontendFunc) (*pgconn.PgConn, error) {
	whole, err := a.config()
	if err != nil {
		return nil, err
	}
	c := &whole.Config
	a.complete(c)
	if c, err = a.locate(ctx, c); err != nil {
		return nil, err
	}
	c.ValidateConnect = nil
	if a.ReplicationUser != "" {
		c.User, c.Password = a.ReplicationUser, a.ReplicationPassword
	}
	c.RuntimeParams["replication"] = "true"
	c.DialFunc, c.BuildFrontend = dial, frontend
	return pgconn.ConnectConfig(ctx, c)
}

func (a Access) complete(c *pgconn.Config) {
	if c.ConnectTimeout == 0 {
		c.ConnectTimeout = connectTimeout
	}
	c.RuntimeParams["application_name"] = AppName
	if c.ValidateConnect == nil && len(servers(c)) > 1 {
		c.ValidateConnect = pgconn.ValidateConnectTargetSessionAttrsPrimary
	}
}

// Remedy puts a failed connection into words that say what to do about it.
func Remedy(err error) string {
	var pgErr *pgconn.PgError
	if errors.As(err, &pgErr) {
		switch pgErr.Code {
		case "28P01", "28000":
			if strings.Contains(pgErr.Message, "pg_hba.conf") {
				return "the server's pg_hba.conf admits no such connection (" + pgErr.Message +
					"); add a line for this role and address, for replication too, and reload"
			}
			return "the server refused the login (" + pgErr.Message + "); check the user and the password"
		case "3D000":
			return pgErr.Message + "; name an existing database in the connection string"
		case "42501":
			return pgErr.Message + "; grant the role what it lacks"
		case "53300":
			return "the server has no free connection or WAL sender (" + pgErr.Message +
				"); raise max_connections or max_wal_senders, or end what is not needed"
		case "57P03":
			return "the server is not accepting connections yet (" + pgErr.Message + "); try again when it is up"
		}
		return pgErr.Message
	}
	if text := err.Error(); strings.Contains(text, "ValidateConnect failed") { // pgconn has no type for it
		return "no primary was found among the hosts of the connection string (" + lastLine(text) + "); start one, or name its host too"
	}
	if text := err.Error(); strings.Contains(text, "x509:") || strings.Contains(text, "server refused TLS") {
		return "the server does not prove who it is (" + lastLine(text) + "); over a network its certificate is verified: " +
			"give it one, with sslrootcert=FILE in the connection string where its authority is your own, or write the sslmode that you " +
			"accept instead"
	}
	var connErr *pgconn.ConnectError
	if errors.As(err, &connErr) {
		return "the server cannot be reached (" + lastLine(err.Error()) + "); check host, port and that it is running"
	}
	return err.Error()
}

func lastLine(s string) string {
	lines := strings.Split(strings.TrimSpace(s), "\n")
	return strings.TrimSpace(lines[len(lines)-1])
}
