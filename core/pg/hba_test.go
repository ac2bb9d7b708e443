package pg

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAdmitOnly(t *testing.T) {
	const file = `# who comes in
local   all             postgres                                peer  # by its socket
local   all             all                                     scram-sha-256
host    "tide, high",b  clerk, "velvet"  10.0.0.0/8 \
        cert clientcert=verify-full
hostssl replication     velvet,other     samenet  md5
host    all             "all"            127.0.0.1/32            trust
hostnossl all           +fleet           0.0.0.0 0.0.0.0         trust
host    saltmarsh       clerk            ::1/128                 trust`
	got, err := AdmitOnly(file, []string{"velvet"})
	require.NoError(t, err)
	assert.Equal(t, `local   all	"velvet"	scram-sha-256
host    "tide, high",b	"velvet"	10.0.0.0/8          cert clientcert=verify-full
hostssl replication	"velvet"	samenet  md5
`, got, "nobody but velvet, and velvet by no line that was not for it")
	again, err := AdmitOnly(got, []string{"velvet", "copier"})
	require.NoError(t, err)
	assert.Contains(t, again, `replication	"velvet"	samenet`)
	for content, says := range map[string]string{
		"include_dir other\nlocal all all peer\n": "includes other files",
		"local all\n":                "names no role",
		"host all clerk all trust\n": "no line for all roles or for velvet",
		"":                           "no line",
	} {
		_, err := AdmitOnly(content, []string{"velvet"})
		assert.ErrorContains(t, err, says)
	}
}

func FuzzAdmitOnly(f *testing.F) {
	f.Add("host all all 127.0.0.1/32 trust # x\n")
	f.Add("local \"a,b\" c , d peer\\\n\n")
	f.Fuzz(func(t *testing.T, content string) {
		got, err := AdmitOnly(content, []string{"velvet"})
		if err != nil {
			return
		}
		_, err = AdmitOnly(got, []string{"clerk"})
		assert.Error(t, err, "nobody else is admitted")
	})
}
