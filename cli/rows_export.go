package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"slices"

	"github.com/spf13/cobra"

	"velvetrewind/api"
)

func (a *app) rescueExport() *cobra.Command {
	var f rescueFlags
	var in api.ExportRequest
	var file string
	cmd := &cobra.Command{
		Use: "export COPY | CLUSTER MOMENT", Short: "Write rows of a table as they were, as CSV, Parquet or SQL for elsewhere",
		Long: "Write rows of a table as they were, as CSV, Parquet or SQL for another cluster, schema or table. By default\n" +
			"they are those that the transaction took; the live cluster is not asked and may be down." + copyHelp,
		Args: cobra.RangeArgs(1, 2), ValidArgsFunction: a.completeCopies,
		Example: "  velvet rescue export ferries \"before delete of booking\" --table booking --file lost.csv\n" +
			"  velvet rescue export ferries-1 --table fare --every-row --database saltmarsh --form sql --into archive.fare | psql ...",
		RunE: func(cmd *cobra.Command, args []string) error {
			if !slices.Contains([]string{"csv", "parquet", "sql"}, in.Form) {
				return fmt.Errorf("--form %s: choose csv, parquet or sql", in.Form)
			}
			c, path, err := a.prepareCopy(cmd, args, &f)
			if err != nil {
				return err
			}
			in.Transaction, in.Also = f.in.Transaction, f.in.Also
			return intoFile(cmd, file, func(out io.Writer) error { return c.stream(cmd.Context(), path+"/export", in, out) })
		},
	}
	cmd.Flags().StringVar(&in.Table, "table", "", "the table, [schema.]table (required)")
	_ = cmd.MarkFlagRequired("table")
	cmd.Flags().StringVar(&in.Database, "database", "", "its database (default: the one in which the transaction changed tables)")
	cmd.Flags().BoolVar(&in.EveryRow, "every-row", false, "not only the rows that the transaction took; needs --database")
	cmd.Flags().StringVar(&in.Where, "where", "", "condition in SQL that the rows have to meet")
	cmd.Flags().StringVar(&in.Form, "form", "csv", "csv, parquet or sql")
	cmd.Flags().StringVar(&in.Into, "into", "",
		"what SQL calls the table, [schema.]table, which is made if it is missing (default: its name)")
	cmd.Flags().StringVar(&file, "file", "", "new file to write to (default: the standard output)")
	f.which(cmd)
	return cmd
}

// intoFile has a new file be written, or the standard output; what was not written to its end is removed.
func intoFile(cmd *cobra.Command, file string, write func(io.Writer) error) error {
	if file == "" {
		return write(cmd.OutOrStdout())
	}
	out, err := os.OpenFile(file, os.O_CREATE|os.O_WRONLY|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	err = write(out)
	if err == nil {
		err = out.Sync()
	}
	if err = errors.Join(err, out.Close()); err != nil {
		return errors.Join(err, os.Remove(file))
	}
	return nil
}
