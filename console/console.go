// Package console holds the built web console and serves it.
//
// Invariant: everything a page needs is in the binary; nothing is fetched from outside.
package console

import (
	"embed"
	"io/fs"
	"net/http"
	"path"
	"strings"
)

//go:embed all:dist
var files embed.FS

// Handler serves the console's files, and its first page for every path of its own.
func Handler() http.Handler {
	dist, err := fs.Sub(files, "dist")
	if err != nil {
		panic(err) // the embedded directory has this name
	}
	server := http.FileServerFS(dist)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		name := strings.TrimPrefix(path.Clean(r.URL.Path), "/")
		switch {
		case strings.HasPrefix(name, "api/"):
			http.NotFound(w, r)
			return
		case strings.HasPrefix(name, "assets/"):
			w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
		default:
			w.Header().Set("Cache-Control", "no-cache")
			if _, err := fs.Stat(dist, name); err != nil || name == "" {
				r.URL.Path = "/"
			}
		}
		server.ServeHTTP(w, r)
	})
}
