package access

import (
	"errors"
	"testing"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/stretchr/testify/assert"
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
		"user=velvet":     "names no host",
		"host=db1 port=x": "cannot be read",
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
		"28P01": "check the user and the password", "3D000": "existing database", "53300": "max_wal_senders", "57P03": "try again", "42501": "grant the role", "XX000": "broken",
	} {
		assert.Contains(t, Remedy(&pgconn.PgError{Code: code, Message: "broken"}), says, code)
	}
	assert.Contains(t, Remedy(&pgconn.PgError{Code: "28000", Message: "no pg_hba.conf entry for replication"}), "add a line for this role")
	assert.Equal(t, "plain", Remedy(errors.New("plain")))
}
