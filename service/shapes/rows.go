package shapes

import (
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"velvetrewind/api"
	"velvetrewind/core/journal"
	"velvetrewind/core/value"
	"velvetrewind/engine/changes"
)

// longestCell bounds what is shown of one value, in bytes.
const longestCell = 64 << 10

// Rows shows the rows that a transaction changed, and where to see what is not known of them.
func Rows(found changes.Rows) api.Rows {
	v := api.Rows{XID: found.Entry.XID, More: found.More, From: found.From, Rows: make([]api.Row, len(found.List))}
	var before, after places
	for i := range found.List {
		r := &found.List[i]
		row := api.Row{Operation: "update", Table: r.Table.Label(), LSN: r.At, OnlyKey: r.OnlyKey, Why: r.Why,
			Before: Each(r.Before, cell), After: Each(r.After, cell)}
		place := r.Old
		switch {
		case r.Moved:
			row.Operation = "move"
		case r.Deleted():
			row.Operation = "delete"
		case r.Inserted():
			row.Operation, place = "insert", r.New
		}
		row.Place = fmt.Sprintf("(%d,%d)", place.Block, place.Offset)
		v.Rows[i] = row
		if !r.Inserted() && unknown(row.Before, row.OnlyKey) {
			before.add(r.Table, row.Place)
		}
		if !r.Deleted() && unknown(row.After, false) {
			after.add(r.Table, fmt.Sprintf("(%d,%d)", r.New.Block, r.New.Offset))
		}
	}
	id := found.Entry.XID
	v.Look = append(before.looks(fmt.Sprintf("before tx %d", id)), after.looks(fmt.Sprintf("tx %d", id))...)
	for _, c := range found.Gone {
		v.Look = append(v.Look, api.Look{Moment: fmt.Sprintf("before tx %d", id), Query: "select * from " + full(c.Name)})
	}
	return v
}

func cell(c value.Cell) api.Cell {
	v := api.Cell{Column: c.Column, Why: c.Why}
	if c.Null || c.Why != "" {
		return v
	}
	text := c.Text
	if len(text) > longestCell {
		text = text[:longestCell]
		for !utf8.ValidString(text) {
			text = text[:len(text)-1]
		}
		v.Why = fmt.Sprintf("cut: it has %d bytes", len(c.Text))
	}
	v.Value = &text
	return v
}

// unknown tells whether something of a row is not shown.
func unknown(cells []api.Cell, onlyKey bool) bool {
	return cells == nil || onlyKey || slices.ContainsFunc(cells, func(c api.Cell) bool { return c.Why != "" })
}

// places are where rows lie, by their tables.
type places struct {
	tables []journal.Name
	rows   [][]string
}

func (p *places) add(t journal.Name, row string) {
	i := slices.IndexFunc(p.tables, func(have journal.Name) bool { return have.OID == t.OID && have.Database == t.Database })
	if i < 0 {
		i = len(p.tables)
		p.tables, p.rows = append(p.tables, t), append(p.rows, nil)
	}
	p.rows[i] = append(p.rows[i], `"`+row+`"`)
}

// looks are the queries that show them.
func (p *places) looks(moment string) (list []api.Look) {
	for i, t := range p.tables {
		list = append(list, api.Look{Moment: moment, Query: fmt.Sprintf("select ctid, * from %s where ctid = any ('{%s}')", full(t),
			strings.Join(p.rows[i], ","))})
	}
	return list
}

// full is a table's name in a query, with its schema.
func full(n journal.Name) string {
	quoted := func(s string) string { return `"` + strings.ReplaceAll(s, `"`, `""`) + `"` }
	return quoted(n.Schema) + "." + quoted(n.Table)
}
