package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"velvetrewind/api"
	"velvetrewind/core/figures"
)

// partialName is what PostgreSQL calls the beginning of a segment.
const partialName = ".partial"

func (a *app) segmentExtract() *cobra.Command {
	var cluster string
	var holes bool
	cmd := &cobra.Command{
		Use: "extract FROM TO DIRECTORY", Short: "Write the WAL of a span as ordinary segment files",
		Long: "Write the WAL of a span as ordinary segment files: for a standby that lacks some, to look at the past, for other\n" +
			"readers. What is there already with the same bytes is left, other bytes under a name are an error, and so is a\n" +
			"hole in the span. Of a segment that is not finished what is here is written as NAME.partial. FROM and TO are moments." +
			momentHelp,
		Args:    cobra.ExactArgs(3),
		Example: "  velvet segment extract --cluster ferries \"lsn 0/5A000000\" latest /var/tmp/wal",
		RunE: func(cmd *cobra.Command, args []string) error {
			dir, err := filepath.Abs(args[2])
			if err != nil {
				return err
			}
			to, err := readMoment(cmd, args[1])
			if err != nil {
				return err
			}
			var list api.Segments
			c, err := a.askMoment(cmd, "/clusters/"+seg(cluster)+"/segments", args[0], func(from string) any {
				return api.SpanRequest{From: from, To: to}
			}, &list)
			if err != nil {
				return err
			}
			if err := unbroken(list, holes); err != nil {
				return err
			}
			x := extraction{client: c, path: "/clusters/" + seg(cluster) + "/segments/", dir: dir, size: list.Size}
			if err := x.all(cmd.Context(), list); err != nil {
				return err
			}
			_, err = fmt.Fprintf(cmd.OutOrStdout(), "%s written to %s, %d were there already. A standby takes them with:\n"+
				"  restore_command = 'cp %s \"%%p\"'\n", figures.Of(x.written, "file"), dir, x.there,
				strings.ReplaceAll(fmt.Sprintf("%q", filepath.Join(strings.ReplaceAll(dir, "%", "%%"), "%f")), "'", "''"))
			return err
		},
	}
	a.clusterFlag(cmd, &cluster)
	cmd.Flags().BoolVar(&holes, "leave-holes", false, "write what is here, also if some of the span is not")
	return cmd
}

// unbroken refuses a span of which some is not here.
func unbroken(list api.Segments, holes bool) error {
	var absent []string
	for _, s := range list.Segments {
		if s.Where == "absent" {
			absent = append(absent, s.Name)
		}
	}
	if len(absent) == 0 || holes {
		return nil
	}
	return fmt.Errorf("nothing was written: %d of %s are not here, from %s to %s; see velvet reach, or write the others with --leave-holes",
		len(absent), figures.Of(len(list.Segments), "segment"), absent[0], absent[len(absent)-1])
}

// extraction writes files into a directory.
type extraction struct {
	client         *client
	path, dir      string
	size           int64
	written, there int
}

func (x *extraction) all(ctx context.Context, list api.Segments) error {
	if err := os.MkdirAll(x.dir, 0o755); err != nil {
		return err
	}
	for _, name := range list.Histories {
		if err := x.one(ctx, name, name, false); err != nil {
			return err
		}
	}
	for _, s := range list.Segments {
		if s.Where == "absent" {
			continue
		}
		to := s.Name
		if !s.Whole {
			to += partialName
		}
		if err := x.one(ctx, s.Name, to, s.Whole); err != nil {
			return err
		}
	}
	d, err := os.Open(x.dir)
	if err != nil {
		return err
	}
	return errors.Join(d.Sync(), d.Close())
}

// one writes one file aside and puts it in place, unless it is there already.
func (x *extraction) one(ctx context.Context, name, as string, whole bool) (err error) {
	resp, err := x.client.do(ctx, http.MethodGet, x.path+seg(name), nil)
	if err != nil {
		return err
	}
	defer func() { _ = resp.Body.Close() }()
	aside, err := os.CreateTemp(x.dir, ".extract-*")
	if err != nil {
		return err
	}
	defer func() { _ = os.Remove(aside.Name()) }()
	n, err := io.Copy(aside, resp.Body)
	if err == nil && whole && n != x.size {
		err = fmt.Errorf("%s came with %d bytes of %d", name, n, x.size)
	}
	if err = errors.Join(err, aside.Chmod(0o644), aside.Sync(), aside.Close()); err != nil {
		return err
	}
	to := filepath.Join(x.dir, as)
	same, err := alike(aside.Name(), to)
	switch {
	case err == nil && same:
		x.there++
		return nil
	case err == nil && strings.HasSuffix(as, partialName): // it has grown
	case err == nil:
		return fmt.Errorf("%s is there with other bytes, and was left as it is; choose an empty directory", to)
	case !errors.Is(err, os.ErrNotExist):
		return err
	}
	x.written++
	return os.Rename(aside.Name(), to)
}

// alike tells whether two files have the same bytes.
func alike(a, b string) (bool, error) {
	there, err := os.Open(b)
	if err != nil {
		return false, err
	}
	defer func() { _ = there.Close() }()
	here, err := os.Open(a)
	if err != nil {
		return false, err
	}
	defer func() { _ = here.Close() }()
	const at = 1 << 20
	x, y := make([]byte, at), make([]byte, at)
	for {
		n, first := io.ReadFull(here, x)
		m, second := io.ReadFull(there, y)
		if !bytes.Equal(x[:n], y[:m]) {
			return false, nil
		}
		if first != nil || second != nil {
			ended := func(err error) bool { return errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) }
			if ended(first) && ended(second) {
				return true, nil
			}
			return false, errors.Join(first, second)
		}
	}
}
