// Package access opens connections to a protected cluster: SQL sessions and
// replication sessions, from one connection string whose password is kept apart.
//
// Invariant: a connection string with a password in it is refused, so that what is
// shown or logged of an Access never holds a secret.
package access

import (
	"context"
	"errors"
	"fmt"
	"net/url"
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
	bare, err := pgconn.ParseConfig(a.ConnString)
	if err != nil {
		return fmt.Errorf("the connection string cannot be read: %w", hidePassword(err))
	}
	if strings.Contains(strings.ToLower(a.ConnString), "password=") || urlHasPassword(a.ConnString) {
		return errors.New("the connection string holds a password, which others could see; leave it out and give the password apart")
	}
	if !strings.Contains(a.ConnString, "host=") && !strings.Contains(a.ConnString, "://") {
		return errors.New("the connection string names no host; write host=… port=… user=… dbname=…")
	}
	if bare.User == "" {
		return errors.New("the connection string names no user; add user=…")
	}
	return nil
}

func urlHasPassword(s string) bool {
	_, rest, ok := strings.Cut(s, "://")
	if !ok {
		return false
	}
	login, _, ok := strings.Cut(rest, "@")
	return ok && strings.Contains(login, ":")
}

func hidePassword(err error) error {
	var parse *pgconn.ParseConfigError
	if errors.As(err, &parse) {
		return errors.New(err.Error()) // pgconn has masked the password in its text
	}
	return err
}

// SQL opens a session in the named database, or in the connection string's own when it is "".
// Of several hosts it is the first that is the primary, or that has the target_session_attrs
// asked for.
func (a Access) SQL(ctx context.Context, database string) (*pgx.Conn, error) {
	c, err := pgx.ParseConfig(a.ConnString)
	if err != nil {
		return nil, hidePassword(err)
	}
	a.complete(&c.Config)
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

// As is the same place, with another role's login.
func (a Access) As(user, password string) (Access, error) {
	if _, rest, ok := strings.Cut(a.ConnString, "://"); ok {
		scheme, _, _ := strings.Cut(a.ConnString, "://")
		if _, host, named := strings.Cut(rest, "@"); named {
			rest = host
		}
		return Access{ConnString: scheme + "://" + url.PathEscape(user) + "@" + rest, Password: password}, nil
	}
	if strings.ContainsAny(user, "'\\") {
		return Access{}, fmt.Errorf("the role %q cannot be written into a connection string", user)
	}
	return Access{ConnString: a.ConnString + " user='" + user + "'", Password: password}, nil // the last one counts
}

// Replication opens a session that speaks the streaming replication protocol, with the
// server that SQL reaches, over a connection that dial makes and with messages that frontend reads.
func (a Access) Replication(ctx context.Context, dial pgconn.DialFunc, frontend pgconn.BuildFrontendFunc) (*pgconn.PgConn, error) {
	c, err := pgconn.ParseConfig(a.ConnString)
	if err != nil {
		return nil, hidePassword(err)
	}
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
	if a.Password != "" {
		c.Password = a.Password
	}
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
				return "the server's pg_hba.conf admits no such connection (" + pgErr.Message + "); add a line for this role and address, for replication too, and reload"
			}
			return "the server refused the login (" + pgErr.Message + "); check the user and the password"
		case "3D000":
			return pgErr.Message + "; name an existing database in the connection string"
		case "42501":
			return pgErr.Message + "; grant the role what it lacks"
		case "53300":
			return "the server has no free connection or WAL sender (" + pgErr.Message + "); raise max_connections or max_wal_senders, or end what is not needed"
		case "57P03":
			return "the server is not accepting connections yet (" + pgErr.Message + "); try again when it is up"
		}
		return pgErr.Message
	}
	if text := err.Error(); strings.Contains(text, "ValidateConnect failed") { // pgconn has no type for it
		return "no primary was found among the hosts of the connection string (" + lastLine(text) + "); start one, or name its host too"
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
