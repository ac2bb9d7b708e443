package rescue

import (
	"fmt"
	"strings"
	"time"
)

// Comparison is how a table of a copy and the live one differ.
type Comparison struct {
	Table   string       `json:"table"`
	Key     string       `json:"key,omitempty"` // "" for whole rows, where it has none
	Copy    int64        `json:"copy"`          // rows
	Live    int64        `json:"live"`
	Missing int64        `json:"missing"` // in the live cluster
	Changed int64        `json:"changed"`
	Added   int64        `json:"added"`
	Sample  []Difference `json:"sample"` // some of them
	Notes   []string     `json:"notes,omitempty"`
	Since   []Writer     `json:"since,omitempty"` // what has written it since the copy, the newest first
	More    bool         `json:"more,omitempty"`  // there are others, older ones
}

// Writer is a transaction that has written a table, and how many rows.
type Writer struct {
	XID         uint64    `json:"xid"`
	CommittedAt time.Time `json:"committedAt"`
	Inserted    int64     `json:"inserted"`
	Updated     int64     `json:"updated"`
	Deleted     int64     `json:"deleted"`
	Truncated   bool      `json:"truncated,omitempty"` // or dropped
}

// Difference is a row that is not the same on both sides.
type Difference struct {
	How  string `json:"how"` // missing, changed or added
	Key  string `json:"key"`
	Copy string `json:"copy,omitempty"` // the whole row
	Live string `json:"live,omitempty"`
	By   uint64 `json:"by,omitempty"` // id of the transaction that has made it so, where that is known
}

// Differences of rows.
const (
	IsMissing = "missing"
	IsChanged = "changed"
	IsAdded   = "added"
)

// Side writes the queries by which one side of a comparison is read: on the copy by the names that columns had there.
type Side struct {
	*Table
	From   string // the table there, as SQL names it
	Copy   bool
	Shares int64  // into so many the rows are divided by their keys
	Where  string // a condition that rows have to meet, "" for none
}

func (s *Side) column(name string) string {
	for _, c := range s.Columns {
		if c.Name == name && s.Copy {
			return ident(c.Was)
		}
	}
	return ident(name)
}

// row is a row's text, in the order of the columns that both sides have.
func (s *Side) row() string {
	return rowText(s.each(func(_ int, c Column) string { return s.column(c.Name) })) + ` collate pg_catalog."C"`
}

// key is the text of what a row is known by: its key, or the whole row.
func (s *Side) key() string {
	if len(s.Key) == 0 {
		return s.row()
	}
	list := make([]string, len(s.Key))
	for i, c := range s.Key {
		list[i] = s.column(c.Name)
	}
	if len(list) == 1 {
		return valueText(list[0]) + ` collate pg_catalog."C"`
	}
	return rowText(strings.Join(list, ", ")) + ` collate pg_catalog."C"`
}

func (s *Side) share() string {
	return fmt.Sprintf("pg_catalog.mod(pg_catalog.hashtextextended(%s, 0), %d)", s.key(), s.Shares)
}

func (s *Side) condition() string {
	if s.Where == "" {
		return "true"
	}
	return "(" + s.Where + "\n)" // a comment in it ends there
}

// Sums adds up the rows of every share.
func (s *Side) Sums() string {
	return fmt.Sprintf("select %s, %s from %s where %s group by 1", s.share(), sum(s.row()), s.From, s.condition())
}

// Rows lists the rows of the shares in $1, in an order that both sides have: the share, the key, the row's hash, and how many are alike.
func (s *Side) Rows() string {
	return fmt.Sprintf(`select %s, %s, pg_catalog.hashtextextended(%s, 0), pg_catalog.count(*) from %s
	where %s operator(pg_catalog.=) any ($1::pg_catalog.int8[]) and %s group by 1, 2, 3 order by 1, 2, 3`, s.share(), s.key(), s.row(),
		s.From, s.share(), s.condition())
}

// Shown gives the rows of some keys, to be looked at.
func (s *Side) Shown() string {
	return fmt.Sprintf(`select %s, %s, xmin::pg_catalog.text::pg_catalog.int8
		from %s where %s operator(pg_catalog.=) any ($1::pg_catalog.text[]) and %s`, s.key(), s.row(),
		s.From, s.key(), s.condition())
}
