package prove

import (
	"bufio"
	"context"
	"errors"
	"io"
	"regexp"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"velvetrewind/core/figures"
	"velvetrewind/core/proof"
	"velvetrewind/engine/restore/copies"
)

// log checks what the copy's server said while it recovered, and what there is of configuration and roles.
func (r *run) log(ctx context.Context) error {
	started := time.Now()
	if said, err := r.recovered(); err != nil {
		r.add(proof.Unable(proof.Log, err), started)
	} else {
		r.add(proof.Judge(proof.Log, said), started)
	}
	r.add(proof.Judge(proof.Settings, r.settings()), started)
	roles, err := r.roles(ctx)
	if err != nil {
		return err
	}
	r.add(proof.Judge(proof.Roles, roles), started)
	return nil
}

var saidLine = regexp.MustCompile(`^\S+ \S+ \S+ \[\d+\] (WARNING|ERROR|FATAL|PANIC):\s+(.*)$`)

// arrivedLine ends the recovery: what comes after it is said to those who use the copy.
const arrivedLine = "pausing at the end of recovery"

// expectedLines are said when a server starts again with the limits that it lacked, and to whoever connects too early.
var expectedLines = []string{"insufficient parameter settings", "the database system is "}

// recovered reads what the server said on its way to the moment.
func (r *run) recovered() (*proof.Observed, error) {
	log, err := r.Host.Log(copies.Server(r.copy, r.Cluster.Major()))
	if err != nil {
		return nil, err
	}
	defer func() { _ = log.Close() }()
	o := &proof.Observed{Unit: "lines of the server's log"}
	for lines := bufio.NewReader(log); ; {
		line, err := lines.ReadString('\n')
		if line != "" {
			o.Seen++
		}
		if m := saidLine.FindStringSubmatch(strings.TrimRight(line, "\n")); m != nil && !contains(m[2], expectedLines) {
			o.Wrong.Add(m[1], "%s", m[2])
		}
		if strings.Contains(line, arrivedLine) {
			return o, nil
		}
		if errors.Is(err, io.EOF) {
			o.Halted = "it does not say that the server has come to its moment"
			return o, nil
		}
		if err != nil {
			return nil, err
		}
	}
}

func contains(text string, any []string) bool {
	for _, part := range any {
		if strings.Contains(text, part) {
			return true
		}
	}
	return false
}

// settings looks for the original's configuration beside the copy.
func (r *run) settings() *proof.Observed {
	o := &proof.Observed{Unit: "configuration files"}
	files, err := r.tree.List(copies.OriginalConfiguration)
	if err != nil {
		o.LeftOut.Add(copies.OriginalConfiguration, "%v", err)
		return o
	}
	there := make(map[string]bool)
	for _, f := range files {
		there[f.Name] = true
		o.Seen++
	}
	for _, name := range []string{"postgresql.conf", "pg_hba.conf"} {
		if !there[name] {
			o.LeftOut.Add(name, "the base backup does not hold it")
		}
	}
	return o
}

// roles counts the roles of the copy, and names those that the live cluster has not got any more.
func (r *run) roles(ctx context.Context) (*proof.Observed, error) {
	const query = `select rolname::pg_catalog.text from pg_catalog.pg_roles where oid operator(pg_catalog.>=) 16384 or rolsuper order by 1`
	list, err := ask(ctx, r.conn, pgx.RowTo[string], query)
	if err != nil {
		return nil, err
	}
	o := &proof.Observed{Unit: "roles", Seen: int64(len(list))}
	live, err := r.Access.SQL(ctx, "")
	if err != nil {
		return o, nil // what there was can be said without
	}
	defer func() { _ = live.Close(context.WithoutCancel(ctx)) }()
	now, err := ask(ctx, live, pgx.RowTo[string], query)
	if err != nil {
		return o, nil
	}
	is := make(map[string]bool, len(now))
	for _, name := range now {
		is[name] = true
	}
	var gone []string
	for _, name := range list {
		if !is[name] {
			gone = append(gone, name)
		}
	}
	if len(gone) > 0 {
		o.Notes = append(o.Notes, figures.Of(len(gone), "role")+" that the live cluster has not got any more: "+strings.Join(gone, ", "))
	}
	return o, nil
}
