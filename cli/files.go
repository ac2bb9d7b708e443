package cli

import (
	"archive/tar"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"net/http"
	"os"
	"os/user"
	"path"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/sys/unix"

	"velvetrewind/api"
	"velvetrewind/core/figures"
	"velvetrewind/core/handover"
)

func (a *app) restoreFiles() *cobra.Command {
	var in api.FilesRequest
	var moved []string
	cmd := &cobra.Command{
		Use: "files CLUSTER MOMENT DIRECTORY | -", Short: "Write a base backup and the WAL up to a moment as ordinary files",
		Long: "Write a base backup and the WAL up to a moment as ordinary files into a new directory, or with - as a tar stream to\n" +
			"the standard output, for a server that is started elsewhere without Velvet Rewind. With them come the settings that\n" +
			"lead it to the moment, a HOW-TO.txt to read first, and B2SUMS to check them with." + momentHelp,
		Args: cobra.ExactArgs(3), ValidArgsFunction: a.completeClusters,
		Example: "  velvet restore files ferries \"before tx 1715\" /srv/ferries\n" +
			"  velvet restore files ferries latest - --at / --debian ferries --owner postgres | ssh quay tar -C / -x",
		RunE: func(cmd *cobra.Command, args []string) error {
			var err error
			if in.Tablespaces, err = movedTablespaces(moved); err != nil {
				return err
			}
			to := args[2]
			if to != "-" {
				if to, err = filepath.Abs(to); err != nil {
					return err
				}
			}
			switch {
			case in.Root != "":
			case in.Debian != "":
				in.Root = "/"
			case to == "-":
				return errors.New("say with --at in which directory the stream will be unpacked")
			default:
				in.Root = to
			}
			if in.Moment, err = readMoment(cmd, args[1]); err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			body, err := json.Marshal(in)
			if err != nil {
				return err
			}
			resp, err := c.do(cmd.Context(), http.MethodPost, "/clusters/"+seg(args[0])+"/files", bytes.NewReader(body))
			if err != nil {
				return err
			}
			defer func() { _ = resp.Body.Close() }()
			if to == "-" {
				_, err = io.Copy(cmd.OutOrStdout(), resp.Body)
				return err
			}
			u, err := unpack(cmd.Context(), resp.Body, to)
			if err != nil {
				return err
			}
			_, err = fmt.Fprintf(cmd.OutOrStdout(), "%s, %s, written to %s and checked. Read %s first.\n", figures.Of(u.files, "file"),
				figures.Size(u.bytes), to, filepath.Join(to, u.howTo))
			return err
		},
	}
	cmd.Flags().StringVar(&in.Root, "at", "", "directory that they will lie in where the server runs (default: DIRECTORY; / with --debian)")
	cmd.Flags().StringVar(&in.Debian, "debian", "", "lay them out as Debian does, as the cluster of this name: its configuration outside")
	cmd.Flags().IntVar(&in.Port, "port", 0, "port of the server (default: the original's)")
	cmd.Flags().StringVar(&in.Owner, "owner", "", "user and group of the files; of a directory only where you are root")
	cmd.Flags().StringArrayVar(&moved, "tablespace", nil, "OLD=NEW: where a tablespace will lie that lay in OLD; may be repeated")
	return cmd
}

func movedTablespaces(moved []string) (map[string]string, error) {
	found := make(map[string]string)
	for _, m := range moved {
		from, to, ok := strings.Cut(m, "=")
		if !ok || from == "" || to == "" {
			return nil, fmt.Errorf("--tablespace %q: say OLD=NEW, each the path of a directory", m)
		}
		found[from] = to
	}
	return found, nil
}

// unpacked is what came of a stream.
type unpacked struct {
	files int
	bytes int64
	howTo string
	list  hash.Hash // of the list of sums as it has to be
}

// unpack writes a stream into a new directory: aside first, and under its name once all of it is there, right, and safe.
func unpack(ctx context.Context, stream io.Reader, to string) (u unpacked, err error) {
	if _, err := os.Lstat(to); !errors.Is(err, fs.ErrNotExist) {
		return u, errors.Join(fmt.Errorf("%s is there already; nothing was written; name a new directory", to), err)
	}
	aside := to + ".velvet-unfinished"
	if err := os.Mkdir(aside, 0o755); err != nil {
		return u, fmt.Errorf("%w; nothing was written", err)
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, os.RemoveAll(aside))
		}
	}()
	root, err := os.OpenRoot(aside)
	if err != nil {
		return u, err
	}
	u.list = handover.NewSum()
	err = u.all(ctx, root, tar.NewReader(stream))
	if err = errors.Join(err, root.Close()); err != nil {
		return u, err
	}
	if err := errors.Join(flush(aside, unix.Syncfs), os.Rename(aside, to)); err != nil {
		return u, err
	}
	return u, flush(filepath.Dir(to), unix.Fsync)
}

func flush(dir string, how func(int) error) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	return errors.Join(how(int(d.Fd())), d.Close())
}

// all writes every file of a stream, which is whole if it ends in the sums of all others.
func (u *unpacked) all(ctx context.Context, root *os.Root, from *tar.Reader) error {
	whole := false
	for ctx.Err() == nil {
		h, err := from.Next()
		if errors.Is(err, io.EOF) {
			if !whole {
				return errors.New("the stream ended before all had come: see the service's log")
			}
			return nil
		}
		if err != nil {
			return fmt.Errorf("the stream broke off: %w", err)
		}
		name, mode := path.Clean(h.Name), fs.FileMode(h.Mode).Perm()
		if h.Typeflag == tar.TypeDir {
			if err := root.Mkdir(name, mode); err != nil {
				return err
			}
		} else if err := u.file(root, name, mode, from); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		if err := own(root, name, h.Uname); err != nil {
			return err
		}
		switch path.Base(name) {
		case handover.HowTo:
			u.howTo = name
		case handover.Sums:
			whole = true
		}
	}
	return ctx.Err()
}

func (u *unpacked) file(root *os.Root, name string, mode fs.FileMode, content io.Reader) error {
	f, err := root.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, mode)
	if err != nil {
		return err
	}
	sum := handover.NewSum()
	n, err := io.Copy(io.MultiWriter(f, sum), content)
	if errors.Is(err, io.ErrUnexpectedEOF) {
		err = fmt.Errorf("the stream broke off: see the service's log: %w", err)
	}
	u.files++
	u.bytes += n
	if path.Base(name) != handover.Sums { // it does not name itself
		u.list.Write([]byte(handover.SumLine(sum.Sum(nil), name)))
	} else if err == nil && !bytes.Equal(sum.Sum(nil), u.list.Sum(nil)) {
		err = errors.New("what was written is not what was sent")
	}
	return errors.Join(err, f.Close())
}

// own gives a file to the user that the stream names, where there is such a one and we may.
func own(root *os.Root, name, owner string) error {
	if owner == "" || os.Geteuid() != 0 {
		return nil
	}
	u, err := user.Lookup(owner)
	if err != nil {
		return err
	}
	uid, err := strconv.Atoi(u.Uid)
	if err != nil {
		return err
	}
	gid, err := strconv.Atoi(u.Gid)
	if err != nil {
		return err
	}
	return root.Lchown(name, uid, gid)
}
