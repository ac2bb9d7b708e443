package main

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"velvetrewind/api"
)

// apiDoc is what the test reads of the API's description.
type apiDoc struct {
	Paths map[string]map[string]struct {
		OperationID string `yaml:"operationId"`
		Parameters  []struct {
			Name, In string
			Schema   apiSchema
		}
		RequestBody *struct {
			Content map[string]struct{ Schema apiSchema }
		} `yaml:"requestBody"`
		Responses map[string]any
	}
	Components struct{ Schemas map[string]apiSchema }
}

type apiSchema struct {
	Ref        string `yaml:"$ref"`
	Type       any
	Format     string
	Required   []string
	Properties map[string]apiSchema
}

func (d *apiDoc) resolve(s apiSchema) apiSchema {
	return d.Components.Schemas[strings.TrimPrefix(s.Ref, "#/components/schemas/")]
}

// internals are what must not come out of an API, however it is called.
var internals = regexp.MustCompile(`SQLSTATE|sql:|runtime error|panic|goroutine|\.go:\d|nil pointer|velvet\.[a-z_]+\b`)

// secretMember stands for what a person may have typed into a body.
const secretMember = "the seal of the harbour"

// wrongBodies are bodies that no operation with a schema takes: with a member of another
// type, one that nobody knows, none of those that are required, and no JSON at all.
func wrongBodies(s apiSchema) map[string]string {
	wrong := map[string]string{
		"no JSON": `{"password":"` + secretMember, "a list": `["` + secretMember + `"]`, "a number": "7",
		"an unknown member": `{"lowTide":"` + secretMember + `","password":"` + secretMember + `"}`,
	}
	if len(s.Required) > 0 {
		wrong["nothing required"] = "{}"
	}
	for name := range s.Properties {
		member := map[string]any{}
		for _, r := range s.Required {
			member[r] = secretMember
		}
		member[name] = []any{map[string]any{"tide": secretMember}}
		encoded, _ := json.Marshal(member)
		wrong["a wrong "+name] = string(encoded)
	}
	return wrong
}

// TestEveryOperationRefusesWell calls every operation that the API's description knows:
// without a token, about things that are not there, and with bodies and parameters that
// make no sense. Each answer is a problem document with the right status that gives
// nothing of the inside away, and the description names that answer.
func TestEveryOperationRefusesWell(t *testing.T) {
	t.Parallel()
	content, err := os.ReadFile("../../docs/openapi.yaml")
	require.NoError(t, err)
	var doc apiDoc
	require.NoError(t, yaml.Unmarshal(content, &doc))
	require.Greater(t, len(doc.Paths), 40)
	s := newStage(t)
	s.protect()
	problem := func(what string, status int, text string, want ...int) {
		t.Helper()
		assert.Contains(t, want, status, "%s: %s", what, text)
		var p api.Problem
		if assert.NoError(t, json.Unmarshal([]byte(text), &p), "%s: %s", what, text) {
			assert.NotEmpty(t, p.Title, what)
			assert.NotEmpty(t, p.Next, "%s says what to do: %s", what, text)
			assert.NotContains(t, text, secretMember, "%s: what was sent is not repeated", what)
			assert.Equal(t, status, p.Status, what)
			assert.True(t, strings.HasPrefix(p.Type, api.ProblemType), "%s: %s", what, text)
		}
		assert.NotRegexp(t, internals, text, what)
	}
	parameter := regexp.MustCompile(`\{(\w+)\}`)
	for path, methods := range doc.Paths {
		for method, o := range methods {
			method := strings.ToUpper(method)
			nowhere := parameter.ReplaceAllStringFunc(path, func(p string) string {
				if p == "{xid}" {
					return "7"
				}
				return "nowhere"
			})
			what := method + " " + nowhere
			require.Contains(t, o.Responses, "default", "%s describes its problems", what)

			r, err := http.NewRequest(method, s.service.URL+"/api/v1"+nowhere, nil)
			require.NoError(t, err)
			answer, err := http.DefaultClient.Do(r)
			require.NoError(t, err)
			_ = answer.Body.Close()
			assert.Equal(t, http.StatusUnauthorized, answer.StatusCode, what)
			assert.Equal(t, "application/problem+json", answer.Header.Get("Content-Type"), what)

			if o.RequestBody != nil {
				schema := doc.resolve(o.RequestBody.Content["application/json"].Schema)
				for how, body := range wrongBodies(schema) {
					status, text := s.call(method, nowhere, []byte(body))
					problem(fmt.Sprintf("%s with %s: %s", what, how, body), status, text, 400, 404, 422)
				}
			}
			for _, p := range o.Parameters {
				if p.In == "query" && (p.Schema.Type == "integer" || p.Schema.Format == "date-time" || p.Schema.Type == "boolean") {
					status, text := s.call(method, nowhere+"?"+p.Name+"=low+tide", nil)
					problem(what+"?"+p.Name, status, text, 400, 422)
				}
			}
			if parameter.MatchString(path) && o.RequestBody == nil {
				status, text := s.call(method, nowhere, nil)
				problem(what, status, text, 404, 422)
			}
		}
	}
	status, text := s.call("GET", "/low/tide", nil)
	problem("a path that is not there", status, text, 404)
	status, text = s.call("PATCH", "/clusters", nil)
	problem("a method that is not there", status, text, 405)
	status, text = s.call("POST", "/clusters", []byte(`{"name":"`+strings.Repeat("x", 5<<20)+`"}`))
	problem("a body without end", status, text, 413)
}
