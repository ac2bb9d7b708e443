package retrieve

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"

	"velvetrewind/core/rescue"
	"velvetrewind/engine/changes"
)

// placesAtOnce is how many rows the copy is asked for by one statement.
const placesAtOnce = 5000

// stage brings a table's rows from the copy into the temporary table, as a stream.
func (s *session) stage(ctx context.Context, t *side) error {
	return s.load(ctx, t.Loading(), func(ctx context.Context, to io.Writer) error { return s.read(ctx, t, to) })
}

// load loads what is written into the live cluster, and the script.
func (s *session) load(ctx context.Context, loading string, from func(context.Context, io.Writer) error) error {
	read, write := io.Pipe()
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	reading := make(chan error, 1)
	go func() {
		err := from(ctx, write)
		_ = write.CloseWithError(err)
		reading <- err
	}()
	var source io.Reader = read
	if s.script != nil {
		s.scriptf("%s;\n", loading)
		source = io.TeeReader(read, s.script)
	}
	_, err := s.tx.Conn().PgConn().CopyFrom(ctx, source, loading)
	_ = read.CloseWithError(errStaged)
	if failed := <-reading; failed != nil && !errors.Is(failed, errStaged) {
		return failed
	}
	s.scriptf("\\.\n")
	return err
}

// errStaged ends the reading where the other side has ended.
var errStaged = errors.New("the live cluster takes no more rows")

// read writes the rows of a table's sources in the form in which they are loaded.
func (s *session) read(ctx context.Context, t *side, to io.Writer) error {
	out := bufio.NewWriterSize(to, 64<<10)
	for _, from := range t.sources {
		if from.whole {
			lead := fmt.Appendf(nil, "%c\t\\N\t\\N\t", rescue.Removed)
			if err := s.lines(ctx, t.Reading(from.schema, from.name, nil, from.first, from.end), func(line []byte) error {
				_, err := out.Write(append(lead[:len(lead):len(lead)], line...))
				return err
			}); err != nil {
				return err
			}
			continue
		}
		for rows := from.rows; len(rows) > 0; {
			n := min(len(rows), placesAtOnce)
			if err := s.readPlaces(ctx, t, &from, rows[:n], out); err != nil {
				return err
			}
			rows = rows[n:]
		}
	}
	return out.Flush()
}

// readPlaces reads the rows at some places. Where none is seen, the transaction had made it itself, or of several, another came in between.
func (s *session) readPlaces(ctx context.Context, t *side, from *source, rows []changes.RowPlace, out io.Writer) error {
	places := make([]string, len(rows))
	leads := make(map[string][]byte, len(rows))
	for i, r := range rows {
		places[i] = fmt.Sprintf("(%d,%d)", r.Block, r.Offset)
		leads[places[i]] = s.lead(from, r)
	}
	unseen := len(rows)
	err := s.lines(ctx, t.Reading(from.schema, from.name, places, 0, 0), func(line []byte) error {
		unseen--
		place, rest, _ := bytes.Cut(line, []byte{'\t'})
		head, ok := leads[string(place)]
		if !ok {
			return fmt.Errorf("the copy gave a row at %s, which was not asked for", place)
		}
		if _, err := out.Write(head); err != nil {
			return err
		}
		_, err := out.Write(rest)
		return err
	})
	t.between += unseen
	return err
}

// lead is what comes before a row's columns.
func (s *session) lead(from *source, r changes.RowPlace) []byte {
	in := cmp.Or(r.NewTable, from.oid)
	switch {
	case !r.Updated:
		return fmt.Appendf(nil, "%c\t\\N\t\\N\t", rescue.Deleted)
	case r.NewOffset == 0 || !s.lives[in]:
		return fmt.Appendf(nil, "%c\t\\N\t\\N\t", rescue.Updated)
	}
	return fmt.Appendf(nil, "%c\t(%d,%d)\t%d\t", rescue.Updated, r.NewBlock, r.NewOffset, in)
}

// lines reads what a COPY on the copy gives, line by line, each with its end.
func (s *session) lines(ctx context.Context, query string, see func([]byte) error) error {
	_, err := s.old.PgConn().CopyTo(ctx, &lineWriter{see: see}, query)
	return err
}

// lineWriter cuts what it is given into lines.
type lineWriter struct {
	see  func([]byte) error
	rest []byte // of a line whose end has not come yet
}

func (w *lineWriter) Write(b []byte) (int, error) {
	n := len(b)
	for {
		end := bytes.IndexByte(b, '\n')
		if end < 0 {
			w.rest = append(w.rest, b...)
			return n, nil
		}
		line := b[:end+1]
		if len(w.rest) > 0 {
			line = append(w.rest, line...)
			w.rest = w.rest[:0]
		}
		if err := w.see(line); err != nil {
			return 0, err
		}
		b = b[end+1:]
	}
}
