package bench

import (
	"bytes"
	"io"
	"net/http"
	"os"
	"strings"
	"time"

	"github.com/stretchr/testify/require"

	"velvetrewind/testbed"
)

// askFleet lists five hundred clusters with histories of 31 days, and previews what
// one of them keeps.
func askFleet(b measure) {
	bed := testbed.New(b)
	s := bed.Service()
	bed.Fleet(s.Catalogue, b.fleet)
	token, err := os.ReadFile(bed.Path("home", "token"))
	require.NoError(b, err)
	call := func(method, path, body string) []byte {
		req, err := http.NewRequest(method, s.URL+"/api/v1"+path, strings.NewReader(body))
		require.NoError(b, err)
		req.Header.Set("Authorization", "Bearer "+strings.TrimSpace(string(token)))
		req.Header.Set("Content-Type", "application/json")
		resp, err := http.DefaultClient.Do(req)
		require.NoError(b, err)
		content, err := io.ReadAll(resp.Body)
		require.NoError(b, err)
		require.NoError(b, resp.Body.Close())
		require.Equal(b, http.StatusOK, resp.StatusCode, "%s", content)
		return content
	}
	report := func(what string, do func()) {
		do()
		var took series
		for range b.rounds {
			started := time.Now()
			do()
			took = append(took, time.Since(started))
		}
		b.spread(what+"-ms", b.rounds, func(i int) float64 { return float64(took[i].Microseconds()) / 1000 })
	}
	require.Equal(b, b.fleet, bytes.Count(call(http.MethodGet, "/clusters", ""), []byte(`"systemId"`)), "all of them are listed")
	report("api", func() { call(http.MethodGet, "/clusters", "") })
	report("command-line", func() { s.Must("cluster", "list") })
	report("digest", func() { call(http.MethodGet, "/rehearsals/digest?days=30", "") })
	report("preview", func() { call(http.MethodPost, "/clusters/ferries-008/keep/preview", `{"asOf":"2027-01-31T00:00:00Z"}`) })
	b.report(resident(b, s.PID()), "service-MiB")
}
