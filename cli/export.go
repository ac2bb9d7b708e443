package cli

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/parquet-go/parquet-go"
	"github.com/spf13/cobra"

	"velvetrewind/api"
	"velvetrewind/core/figures"
)

// exported is one line of an export: what one transaction did to one table. A
// transaction that changed no table has one line without one.
type exported struct {
	Transaction uint64    `json:"transaction" parquet:"transaction"`
	Committed   bool      `json:"committed" parquet:"committed"`
	Time        time.Time `json:"time" parquet:"time,timestamp(microsecond)"`
	LSN         string    `json:"lsn" parquet:"lsn"`
	Database    string    `json:"database" parquet:"database"`
	Table       string    `json:"table" parquet:"table"`
	Inserted    int64     `json:"inserted" parquet:"inserted"`
	Updated     int64     `json:"updated" parquet:"updated"`
	Deleted     int64     `json:"deleted" parquet:"deleted"`
	Operations  string    `json:"operations" parquet:"operations"`
	WALBytes    int64     `json:"walBytes" parquet:"wal_bytes"`
	Incident    string    `json:"incident" parquet:"incident"`
}

func exportLines(x api.Transaction) []exported {
	line := exported{Transaction: uint64(x.XID), Committed: x.Committed, Time: x.Time.UTC(), LSN: x.LSN.String(), Database: x.Database,
		WALBytes: x.Bytes, Incident: strings.Join(x.Incident, "; ")}
	if len(x.Tables) == 0 {
		return []exported{line}
	}
	var list []exported
	for _, t := range x.Tables {
		own := line
		own.Table, own.Inserted, own.Updated, own.Deleted, own.Operations = t.Table, t.Inserted, t.Updated, t.Deleted,
			strings.Join(t.Operations, " ")
		list = append(list, own)
	}
	return list
}

// sink writes exported lines in one form.
type sink interface {
	write([]exported) error
	Close() error
}

type csvSink struct{ w *csv.Writer }

func newCSV(w io.Writer) (sink, error) {
	s := csvSink{csv.NewWriter(w)}
	return s, s.w.Write([]string{"transaction", "committed", "time", "lsn", "database", "table", "inserted", "updated", "deleted",
		"operations", "wal_bytes", "incident"})
}

func (s csvSink) write(list []exported) error {
	for _, x := range list {
		err := s.w.Write([]string{strconv.FormatUint(x.Transaction, 10), strconv.FormatBool(x.Committed), x.Time.Format(time.RFC3339Nano),
			x.LSN, x.Database, x.Table,
			strconv.FormatInt(x.Inserted, 10), strconv.FormatInt(x.Updated, 10), strconv.FormatInt(x.Deleted, 10), x.Operations,
			strconv.FormatInt(x.WALBytes, 10), x.Incident})
		if err != nil {
			return err
		}
	}
	return nil
}

func (s csvSink) Close() error {
	s.w.Flush()
	return s.w.Error()
}

// jsonSink writes one JSON object to a line.
type jsonSink struct{ e *json.Encoder }

func (s jsonSink) write(list []exported) error {
	for _, x := range list {
		if err := s.e.Encode(x); err != nil {
			return err
		}
	}
	return nil
}

func (s jsonSink) Close() error { return nil }

type parquetSink struct {
	w *parquet.GenericWriter[exported]
}

func (s parquetSink) write(list []exported) error {
	_, err := s.w.Write(list)
	return err
}

func (s parquetSink) Close() error { return s.w.Close() }

func newSink(format string, w io.Writer) (sink, error) {
	switch format {
	case "csv":
		return newCSV(w)
	case "json":
		return jsonSink{json.NewEncoder(w)}, nil
	case "parquet":
		return parquetSink{parquet.NewGenericWriter[exported](w, parquet.Compression(&parquet.Zstd))}, nil
	}
	return nil, fmt.Errorf("--format %q: choose csv, json or parquet", format)
}

func (a *app) changesExport() *cobra.Command {
	var f wanted
	var format, to string
	cmd := &cobra.Command{
		Use: "export CLUSTER", Short: "Write transactions to a file, oldest first: a line for each table that one changed",
		Long: "Write transactions to a file, oldest first: a line for each table that one changed.\nThe JSON form has one object to a " +
			"line.",
		Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeClusters,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			if format == "" {
				format = strings.TrimPrefix(filepath.Ext(to), ".")
			}
			if f.tx != 0 {
				return errors.New("--tx names one transaction; see it with: velvet changes show CLUSTER TRANSACTION")
			}
			q, err := f.query(cmd)
			if err != nil {
				return err
			}
			n, err := exportTo(cmd, c, args[0], q, format, to)
			if err == nil && to != "-" {
				_, err = fmt.Fprintf(cmd.OutOrStdout(), "%s lines written to %s\n", figures.Count(n), to)
			}
			return err
		},
	}
	f.flags(cmd)
	cmd.Flags().StringVar(&format, "format", "", "csv, json or parquet (by the file's name unless given)")
	cmd.Flags().StringVar(&to, "to", "", "file to write, which must not exist yet; - for standard output (required)")
	_ = cmd.MarkFlagRequired("to")
	return cmd
}

// exportTo writes beside the file and renames, so that a file with its name is whole.
func exportTo(cmd *cobra.Command, c *client, cluster string, q url.Values, format, to string) (int64, error) {
	if to == "-" {
		s, err := newSink(format, cmd.OutOrStdout())
		if err != nil {
			return 0, err
		}
		n, err := export(cmd.Context(), c, cluster, q, s)
		return n, errors.Join(err, s.Close())
	}
	if _, err := os.Stat(to); err == nil {
		return 0, fmt.Errorf("%s is there already; remove it, or name another file", to)
	}
	file, err := os.CreateTemp(filepath.Dir(to), filepath.Base(to)+".*.unfinished")
	if err != nil {
		return 0, err
	}
	defer func() { _ = os.Remove(file.Name()) }()
	s, err := newSink(format, file)
	if err != nil {
		return 0, errors.Join(err, file.Close())
	}
	n, err := export(cmd.Context(), c, cluster, q, s)
	if err = errors.Join(err, s.Close(), file.Sync(), file.Close()); err != nil {
		return 0, err
	}
	return n, os.Rename(file.Name(), to)
}

// exportPage is how many transactions are asked for at a time.
const exportPage = 2000

func export(ctx context.Context, c *client, cluster string, q url.Values, s sink) (n int64, err error) {
	q.Set("order", "oldest")
	q.Set("limit", strconv.Itoa(exportPage))
	for {
		var page api.Changes
		if err := c.get(ctx, "/clusters/"+seg(cluster)+"/changes?"+q.Encode(), &page); err != nil {
			return n, err
		}
		for _, x := range page.Transactions {
			list := exportLines(x)
			n += int64(len(list))
			if err := s.write(list); err != nil {
				return n, err
			}
		}
		if !page.More {
			return n, nil
		}
		q.Set("after", page.Transactions[len(page.Transactions)-1].LSN.String())
	}
}
