package bench

import (
	"fmt"
	"io"
	"net/http"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"velvetrewind/testbed"
)

// fleet is how many clusters the first page is measured with.
const fleet = 500

// BenchmarkFleet lists five hundred clusters with histories of 31 days, and previews what
// one of them keeps.
func BenchmarkFleet(b *testing.B) {
	bed := testbed.New(b)
	s := bed.Service()
	bed.Fleet(s.Catalogue, fleet)
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
	report := func(what string, bar time.Duration, do func()) {
		do()
		took := make([]time.Duration, 9)
		for i := range took {
			started := time.Now()
			do()
			took[i] = time.Since(started)
		}
		fmt.Printf("%s: %v, at most %v (bar %v)\n", what, median(took).Round(time.Millisecond), slices.Max(took).Round(time.Millisecond), bar)
	}
	for b.Loop() {
		var page int
		report("500 clusters from the API", 200*time.Millisecond, func() { page = len(call(http.MethodGet, "/clusters", "")) })
		fmt.Printf("  %.1f MB of JSON\n", float64(page)/1e6)
		report("velvet cluster list of 500, the program's start included", 200*time.Millisecond, func() { s.Must("cluster", "list") })
		name := "ferries-008"
		report("keep preview of one cluster", time.Second, func() { call(http.MethodPost, "/clusters/"+name+"/keep/preview", `{"asOf":"2027-01-31T00:00:00Z"}`) })
		fmt.Printf("service at most %.0f MiB resident\n", resident(b, s.PID()))
	}
}
