package wire

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"net/http/httptest"
	"net/url"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// to asks a server of the test's whatever host it is that is meant.
type to struct{ at *url.URL }

func (t to) Do(r *http.Request) (*http.Response, error) {
	r.URL.Scheme, r.URL.Host = t.at.Scheme, t.at.Host
	return http.DefaultClient.Do(r)
}

// TestQuestions has them answered by a side that knows less and says more, that refuses, and that is gone.
func TestQuestions(t *testing.T) {
	type later struct { // what a later release says
		Name  string
		Size  int64
		Dir   bool
		Newer map[string]int
	}
	mux := http.NewServeMux()
	Op[Place, later]("Look").Serve(mux, func(_ context.Context, p Place) (later, error) {
		switch p.Name {
		case "gone":
			return later{}, fmt.Errorf("look at it: %w", fs.ErrNotExist)
		case "forbidden":
			return later{}, fmt.Errorf("no: %w", ErrRefused)
		}
		return later{Name: p.Name, Size: 5, Newer: map[string]int{"x": 1}}, nil
	})
	Stream[int, string]("Count").Serve(mux, func(_ context.Context, n int, send func(string) error) error {
		for i := range n {
			if err := send(fmt.Sprint(i)); err != nil {
				return err
			}
		}
		return errors.New("and no further")
	})
	s := httptest.NewServer(mux)
	at, err := url.Parse(s.URL)
	require.NoError(t, err)
	c, ctx := Client{Name: "spare", HTTP: to{at}}, context.Background()
	e, err := Look.Ask(ctx, c, Place{Name: "there"})
	require.NoError(t, err)
	assert.EqualValues(t, 5, e.Size)
	_, err = Look.Ask(ctx, c, Place{Name: "gone"})
	assert.ErrorIs(t, err, fs.ErrNotExist)
	assert.EqualError(t, err, "on spare: look at it: file does not exist")
	_, err = Look.Ask(ctx, c, Place{Name: "forbidden"})
	assert.ErrorIs(t, err, ErrRefused)
	var seen []string
	err = Stream[int, string]("Count").Ask(ctx, c, 2, func(s string) { seen = append(seen, s) })
	assert.ErrorContains(t, err, "and no further")
	assert.Equal(t, []string{"0", "1"}, seen)
	_, err = FreePort.Ask(ctx, c, Nothing{})
	assert.ErrorIs(t, err, ErrLacks, "an older release does not know it")
	assert.ErrorContains(t, err, "older release")
	s.Close()
	_, err = Look.Ask(ctx, c, Place{})
	assert.ErrorIs(t, err, ErrOutOfReach)
	for version, fits := range map[int]bool{Version - 2: false, Version - 1: true, Version: true, Version + 1: true, Version + 2: false} {
		assert.Equal(t, fits, Fits(version), version)
	}
}
