package service

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestOnlyTLSLeavesTheMachine(t *testing.T) {
	for listen, ok := range map[string]bool{"127.0.0.1:1": true, "localhost:1": true, "[::1]:1": true, "0.0.0.0:1": false, ":1": false,
		"10.0.0.1:1": false, "nonsense": false} {
		c := Config{Home: t.TempDir(), Catalogue: "x", Listen: listen}
		_, err := c.complete()
		assert.Equal(t, ok, err == nil, "%s: %v", listen, err)
	}
	c := Config{Home: t.TempDir(), Catalogue: "x", Listen: "0.0.0.0:1", TLSCert: "c", TLSKey: "k", Hosts: "db1, velvet.saltmarsh.example"}
	_, err := c.complete()
	require.NoError(t, err)
	assert.Subset(t, c.hostNames(), []string{"db1", "velvet.saltmarsh.example", "127.0.0.1"})
	_, err = (&Config{Catalogue: "x"}).complete()
	assert.ErrorContains(t, err, "--home")
	own := Config{Home: t.TempDir()}
	_, err = own.complete()
	require.NoError(t, err, "without a catalogue a server of its own is run")
	assert.Equal(t, own.Home+"/catalogue", own.ownCatalogue())
}

func TestTheDescriptionIsMadeWithoutAService(t *testing.T) {
	text, err := OpenAPI("v1")
	require.NoError(t, err)
	for _, want := range []string{"openapi: 3.1", "/clusters/{cluster}/plan", "application/problem+json", "make-copy"} {
		assert.Contains(t, string(text), want)
	}
}
