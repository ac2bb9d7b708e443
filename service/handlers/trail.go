package handlers

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"reflect"
	"strings"

	"velvetrewind/api"
	"velvetrewind/core/problem"
	"velvetrewind/core/trail"
	"velvetrewind/engine/catalog"
	"velvetrewind/service/auth"
	"velvetrewind/service/shapes"
)

// Trail shows who did what.
type Trail struct{ Catalog *catalog.Catalog }

// Register registers the operations.
func (h *Trail) Register(api *Surface) {
	op(api, http.MethodGet, "/trail", "list-trail", "List who did what, newest first", 0, h.list)
	op(api, http.MethodGet, "/trail/check", "check-trail", "Hold every entry against its hash", 0, h.check)
}

type listTrail struct {
	Cluster string `query:"cluster" doc:"only of this cluster"`
	Before  int64  `query:"before" minimum:"0" doc:"only entries with a lower number"`
	Limit   int    `query:"limit" default:"50" minimum:"1" maximum:"1000"`
}

func (h *Trail) list(ctx context.Context, in *listTrail) (*body[[]api.TrailEntry], error) {
	of, names, err := only(ctx, h.Catalog, in.Cluster)
	if err != nil {
		return nil, err
	}
	list, err := h.Catalog.Trail(ctx, of, in.Before, in.Limit)
	return answer(shapes.Each(list, func(e trail.Entry) api.TrailEntry {
		if name, is := names[e.Cluster]; is {
			e.Cluster = name
		}
		return api.TrailEntry{Number: e.Number, At: e.At.UTC(), Who: e.Who, From: e.From, Did: e.Did, Cluster: e.Cluster,
			Subject: e.Subject, Outcome: e.Outcome, Hash: e.Hash}
	}), err)
}

type checkTrail struct {
	Hash string `query:"hash" maxLength:"64" doc:"of an entry, noted before: is it still there?"`
}

func (h *Trail) check(ctx context.Context, in *checkTrail) (*body[api.TrailCheck], error) {
	chain, noted, broken, err := h.Catalog.CheckTrail(ctx, in.Hash)
	if err != nil {
		return nil, err
	}
	out := api.TrailCheck{Entries: chain.Count, Last: chain.Last, Noted: noted}
	switch {
	case broken != nil:
		out.Broken = broken.Error()
	case in.Hash != "" && noted == 0:
		out.Broken = "no entry has the hash that was noted: it, and what came after it, was removed"
	}
	return answer(out, nil)
}

// record puts a call that was to change something into the trail, with what its path named. What its body held is not repeated:
// there may be secrets in it.
func (s *Surface) record(ctx context.Context, did string, in, out any, err error) {
	if s.trail == nil {
		return
	}
	who, from := auth.Caller(ctx)
	e := trail.Entry{Who: who, From: from, Did: strings.ReplaceAll(did, "-", " "), Outcome: "done"}
	named := make(map[string]string)
	pathOf(reflect.ValueOf(in), named)
	var subject []string
	for _, name := range []string{"policy", "backup", "copy", "entry", "check", "xid", "task", "takeover"} {
		if named[name] != "" {
			subject = append(subject, name+" "+named[name])
		}
	}
	var refused *problem.Problem
	var told *api.Problem
	switch {
	case errors.As(err, &refused):
		e.Outcome = "refused: " + refused.Detail
	case errors.As(err, &told):
		e.Outcome = "refused: " + told.Detail
	case err != nil:
		e.Outcome = "failed"
	default:
		subject = append(subject, cameToBe(reflect.ValueOf(out))...)
	}
	e.Subject = strings.Join(subject, ", ")
	ctx = context.WithoutCancel(ctx)
	e.Cluster = s.clusterOf(ctx, named)
	if name := named["cluster"]; name != "" && e.Cluster == "" { // removed just now, or never there
		e.Subject = strings.TrimPrefix(e.Subject+", cluster "+name, ", ")
	}
	if err := s.trail.AddToTrail(ctx, e); err != nil {
		s.log.Error("an act is not in the trail", "did", did, "error", err)
	}
}

// clusterOf is the id of the cluster that what a path named belongs to, or "".
func (s *Surface) clusterOf(ctx context.Context, named map[string]string) (id string) {
	switch {
	case named["cluster"] != "":
		id, _ = s.trail.ClusterID(ctx, named["cluster"])
	case named["copy"] != "":
		k, _, _ := s.trail.CopyAndCluster(ctx, named["copy"])
		id = k.ClusterID
	case named["backup"] != "":
		b, _, _ := s.trail.BackupAndCluster(ctx, named["backup"])
		id = b.ClusterID
	case named["takeover"] != "":
		t, _ := s.trail.Takeover(ctx, named["takeover"])
		id = t.ClusterID
	case named["task"] != "":
		t, _ := s.trail.Task(ctx, named["task"])
		id = t.ClusterID.String
	}
	return id
}

// pathOf collects what a request's path named.
func pathOf(v reflect.Value, into map[string]string) {
	for v.Kind() == reflect.Pointer {
		v = v.Elem()
	}
	if v.Kind() != reflect.Struct {
		return
	}
	for i := range v.NumField() {
		f := v.Type().Field(i)
		if name := f.Tag.Get("path"); name != "" {
			into[name] = fmt.Sprint(v.Field(i))
		}
		if f.Anonymous {
			pathOf(v.Field(i), into)
		}
	}
}

// cameToBe names what an answer is about: the task that was begun, or what has a name of its own.
func cameToBe(out reflect.Value) []string {
	if out.Kind() != reflect.Pointer || out.IsNil() || out.Elem().Kind() != reflect.Struct {
		return nil
	}
	content := out.Elem().FieldByName("Body")
	if !content.IsValid() || content.Kind() != reflect.Struct {
		return nil
	}
	if t, is := content.Interface().(api.Task); is {
		return []string{"task " + t.ID}
	}
	if name := content.FieldByName("Name"); name.IsValid() && name.Kind() == reflect.String && name.String() != "" {
		return []string{name.String()}
	}
	return nil
}
