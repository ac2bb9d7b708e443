package handlers

import (
	"context"
	"log/slog"
	"net/http"
	"os"
	"path"
	"regexp"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"velvetrewind/api"
	"velvetrewind/core/problem"
	"velvetrewind/engine/restore/files"
	"velvetrewind/service/custody"
	"velvetrewind/service/planner"
)

// Files gives a cluster as it was at a moment as ordinary files.
type Files struct {
	Planner *planner.Planner
	Custody *custody.Custody
	Spool   string // directory, for what is written beside
	Log     *slog.Logger
}

// Register registers the operation.
func (h *Files) Register(api *Surface) {
	op(api, http.MethodPost, "/clusters/{cluster}/files", "restore-files",
		"Give a base backup and the WAL up to a moment as a tar stream, with what a server needs to be started on them", 0, h.write)
}

type restoreFiles struct {
	ClusterPath
	Body api.FilesRequest
}

func (h *Files) write(ctx context.Context, in *restoreFiles) (*huma.StreamResponse, error) {
	want, err := wantedFiles(in.Body)
	if err != nil {
		return nil, err
	}
	_, p, _, err := h.Planner.Plan(ctx, in.Cluster, in.Body.Moment, "")
	if err != nil {
		return nil, err
	}
	o, err := h.Planner.OpenOn(ctx, in.Cluster, p.Boundary.Timeline)
	if err != nil {
		return nil, err
	}
	aside, err := os.CreateTemp(h.Spool, "files-*")
	if err != nil {
		return nil, err
	}
	_ = os.Remove(aside.Name()) // it goes with its last reader
	w := &files.Writer{Store: h.Custody.Store, Archive: o.Archive, Plan: p, Want: want, Aside: aside}
	if err := w.Prepare(ctx); err != nil {
		return nil, joinClose(err, aside)
	}
	return &huma.StreamResponse{Body: func(out huma.Context) {
		defer func() { _ = aside.Close() }()
		out.SetHeader("Content-Type", "application/x-tar")
		if err := w.Write(out.Context(), out.BodyWriter()); err != nil {
			h.Log.Error("files could not be written to their end", "cluster", o.Cluster.Name, "moment", p.Boundary.Moment, "error", err)
			panic(http.ErrAbortHandler) // so that the other end does not take them for all
		}
	}}, nil
}

var debianName = regexp.MustCompile(`^[A-Za-z0-9_][A-Za-z0-9_.]{0,62}$`)

// wantedFiles refuses places that could not be written into a configuration, or a shell's command, as what they are.
func wantedFiles(in api.FilesRequest) (files.Want, error) {
	const title = "nothing was written"
	refuse := func(what, is string) error {
		return problem.New(problem.Invalid, "Name a directory by its whole path, of letters, digits and ordinary signs.", title,
			"%s cannot be %q", what, is)
	}
	if !plainPath(in.Root) {
		return files.Want{}, refuse("the directory of the files", in.Root)
	}
	for from, to := range in.Tablespaces {
		if !plainPath(to) {
			return files.Want{}, refuse("the place of the tablespace in "+from, to)
		}
	}
	if in.Debian != "" && !debianName.MatchString(in.Debian) {
		return files.Want{}, problem.New(problem.Invalid, "Use letters, digits, _ and dots, at most 63.", title,
			"%q cannot be the name of a cluster on Debian", in.Debian)
	}
	if strings.ContainsAny(in.Owner, ":/ \n") {
		return files.Want{}, problem.New(problem.Invalid, "Name one user.", title, "%q is no name of a user", in.Owner)
	}
	return files.Want{Root: in.Root, Debian: in.Debian, Port: in.Port, Owner: in.Owner, Tablespaces: in.Tablespaces}, nil
}

func plainPath(p string) bool {
	return path.IsAbs(p) && path.Clean(p) == p && !strings.ContainsAny(p, "\"$`\\\n\r")
}
