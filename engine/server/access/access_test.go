package access

import (
	"errors"
	"testing"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestConnectionStringsWithSecretsAreRefused(t *testing.T) {
	for conn, says := range map[string]string{
		"host=db1 user=velvet dbname=postgres":                "",
		"postgres://velvet@db1:5433/postgres?sslmode=require": "",
		"host=db1 user=velvet password=x":                     "holds a password",
		"host=db1 user=velvet PassWord=x":                     "holds a password",
		"host=db1 user=velvet sslpassword=x":                  "holds a password",
		"postgres://velvet:x@db1/postgres":                    "holds a password",
		"postgres://velvet@db1/postgres?password=x":           "holds a password",
		"host=db1 user=velvet password = x":                   "holds a password",
		"host=db1 user=velvet\tpassword\n=\n'x y'":            "holds a password",
		"postgres://velvet:@db1/postgres":                     "holds a password",
		"postgres://velvet@db1/postgres?PassWord=x":           "holds a password",
		"host=db1 user=velvet passfile=/tmp/x":                "refers to a file",
		"service=db1 user=velvet host=db1":                    "refers to a file",
		"user=velvet":                                         "names no host",
		"postgres:///postgres":                                "names no host",
		"host=db1":                                            "names no user",
		"host=db1 user=velvet port=x":                         "cannot be read",
		"host=db1 user='velvet":                               "is not closed",
		"host=db1 user=velvet tide":                           "not of the form",
	} {
		err := Access{ConnString: conn}.Validate()
		if says == "" {
			assert.NoError(t, err, conn)
			continue
		}
		assert.ErrorContains(t, err, says, conn)
	}
}

func TestRemedies(t *testing.T) {
	for code, says := range map[string]string{
		"28P01": "check the user and the password", "3D000": "existing database", "53300": "max_wal_senders", "57P03": "try again",
		"42501": "grant the role", "XX000": "broken",
	} {
		assert.Contains(t, Remedy(&pgconn.PgError{Code: code, Message: "broken"}), says, code)
	}
	assert.Contains(t, Remedy(&pgconn.PgError{Code: "28000", Message: "no pg_hba.conf entry for replication"}), "add a line for this role")
	assert.Equal(t, "plain", Remedy(errors.New("plain")))
	assert.Contains(t, Remedy(errors.New("tls: failed to verify certificate: x509: certificate signed by unknown authority")),
		"sslrootcert=FILE")
}

// TestHowAServerMustProveItself: over a network with a verified certificate, unless the string says
// otherwise, and nowhere by being told the password.
func TestHowAServerMustProveItself(t *testing.T) {
	for conn, want := range map[string]struct {
		tls, plain, unverified bool
	}{
		"host=db1 user=velvet":                               {tls: true},
		"host=db1,/run/postgresql user=velvet":               {tls: true, plain: true}, // a socket needs none
		"postgres://velvet@10.1.2.3:5433/postgres":           {tls: true},
		"host=127.0.0.1 user=velvet":                         {tls: true, plain: true},
		"host=::1 user=velvet":                               {tls: true, plain: true},
		"host=localhost user=velvet":                         {tls: true, plain: true},
		"host=/run/postgresql user=velvet":                   {plain: true},
		"host=db1 hostaddr=127.0.0.1 user=velvet":            {tls: true, plain: true},
		"host=db1 user=velvet sslmode=disable":               {plain: true, unverified: true},
		"host=db1 user=velvet sslmode=require":               {tls: true, unverified: true},
		"postgres://velvet@db1/postgres?sslmode=verify-full": {tls: true},
	} {
		a := Access{ConnString: conn, Password: "tide"}
		c, err := a.config()
		require.NoError(t, err, conn)
		var tls, plain bool
		for _, f := range append([]*pgconn.FallbackConfig{{Host: c.Host, TLSConfig: c.TLSConfig}}, c.Fallbacks...) {
			tls, plain = tls || f.TLSConfig != nil, plain || f.TLSConfig == nil
			if f.TLSConfig != nil && !want.plain && !want.unverified {
				assert.False(t, f.TLSConfig.InsecureSkipVerify, conn)
			}
		}
		assert.Equal(t, want.tls, tls, conn)
		assert.Equal(t, want.plain, plain, conn)
		assert.Equal(t, want.unverified, a.Unverified(), conn)
		assert.Equal(t, "scram-sha-256,none", c.RequireAuth)
		assert.Equal(t, "tide", c.Password)
	}
}

// TestTheEnvironmentIsForSomebodyElse: what is set for other programs reaches no protected server.
func TestTheEnvironmentIsForSomebodyElse(t *testing.T) {
	for name, value := range map[string]string{"PGPASSWORD": "secret", "PGHOST": "elsewhere", "PGUSER": "root", "PGPORT": "1",
		"PGSSLMODE": "disable", "PGDATABASE": "other"} {
		t.Setenv(name, value)
	}
	c, err := Access{ConnString: "host=db1 user=velvet"}.config()
	require.NoError(t, err)
	assert.Equal(t, []any{"db1", uint16(5432), "velvet", "velvet", ""}, []any{c.Host, c.Port, c.User, c.Database, c.Password})
	assert.NotNil(t, c.TLSConfig)
	assert.Error(t, Access{ConnString: "user=velvet"}.Validate())
}

// TestStringsComeBack takes any parameters apart again as they were written.
func TestStringsComeBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := settings{"host": "db1", "user": rapid.StringN(1, 20, -1).Draw(t, "user")}
		for _, key := range []string{"dbname", "application_name"} {
			s[key] = rapid.String().Draw(t, key)
		}
		again, err := parse(s.String())
		require.NoError(t, err)
		require.Equal(t, s, again)
	})
}
