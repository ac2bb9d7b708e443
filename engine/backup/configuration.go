package backup

import (
	"context"
	"fmt"
	"path"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"velvetrewind/core/layout"
)

// saveConfiguration keeps the configuration files that lie outside the data
// directory, as they do on Debian. Where the role may not read them, the settings
// that they made are kept instead.
func (t *Taker) saveConfiguration(ctx context.Context, w *writer) error {
	conn, err := t.Access.SQL(ctx, "")
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	files, err := outsideFiles(ctx, conn)
	if err != nil {
		return fmt.Errorf("find the configuration files: %w", err)
	}
	unread := 0
	if len(files) == 0 {
		if hidden, err := filesHidden(ctx, conn); err != nil {
			return err
		} else if hidden {
			w.report.Warn("the configuration files were not saved: this role may not see where they are; " +
				"GRANT pg_read_all_settings, pg_read_server_files to it")
			unread++
		}
	}
	for _, f := range files {
		var content string
		if err := conn.QueryRow(ctx, `select pg_catalog.pg_read_file($1)`, f).Scan(&content); err != nil {
			w.report.Warn("%s lies outside the data directory and may not be read by this role: %v", f, err)
			unread++
			continue
		}
		if err := w.configFile(path.Join("files", strings.TrimPrefix(f, "/")), content); err != nil {
			return err
		}
		w.report.Log("saved %s, which lies outside the data directory", f)
	}
	if unread == 0 {
		return nil
	}
	return t.saveSettings(ctx, conn, w)
}

func (w *writer) configFile(name, content string) error {
	entry := layout.File{Place: layout.InConfig, Path: name, Mode: 0o600, Size: int64(len(content)), Modified: time.Now().UTC()}
	return w.file(entry, strings.NewReader(content))
}

// outsideFiles lists the configuration files, includes among them, that the base backup does not hold.
func outsideFiles(ctx context.Context, conn *pgx.Conn) ([]string, error) {
	rows, err := conn.Query(ctx, `with named as (
			select setting as file from pg_catalog.pg_settings where name operator(pg_catalog.=) any ('{config_file, hba_file, ident_file}')
			union select sourcefile from pg_catalog.pg_settings where sourcefile is not null)
		select distinct file from named where file is not null
		and not pg_catalog.starts_with(file, (select setting from pg_catalog.pg_settings
		where name operator(pg_catalog.=) 'data_directory') operator(pg_catalog.||) '/') order by file`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

// filesHidden tells whether the role is not even shown the names of the files.
func filesHidden(ctx context.Context, conn *pgx.Conn) (hidden bool, err error) {
	err = conn.QueryRow(ctx, `select not exists (select from pg_catalog.pg_settings
		where name operator(pg_catalog.=) 'config_file')`).Scan(&hidden)
	return hidden, err
}

func (t *Taker) saveSettings(ctx context.Context, conn *pgx.Conn, w *writer) error {
	rows, err := conn.Query(ctx, `select name operator(pg_catalog.||) ' = ' operator(pg_catalog.||) pg_catalog.quote_literal(setting)
		from pg_catalog.pg_settings
		where source operator(pg_catalog.=) any ('{configuration file, command line}')
		and name operator(pg_catalog.<>) all ('{primary_conninfo, ssl_passphrase_command}') order by name`)
	if err != nil {
		return err
	}
	lines, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return err
	}
	w.report.Log("saved the %d settings that the configuration files make", len(lines))
	return w.configFile("settings.conf", strings.Join(lines, "\n")+"\n")
}
