package rescue

import "strings"

// Exported is a table of a copy whose rows are written elsewhere, and the SQL for that.
type Exported struct {
	Schema, Name string
	Columns      []ExportedColumn
	Where        string // a condition, "" for none
	// What it is called elsewhere; "" for its own name, and for the schema that is looked in first.
	IntoSchema, IntoName string
}

// ExportedColumn is a column with its type as the server writes it.
type ExportedColumn struct{ Name, Type string }

func (t *Exported) names() string {
	list := make([]string, len(t.Columns))
	for i, c := range t.Columns {
		list[i] = ident(c.Name)
	}
	return strings.Join(list, ", ")
}

// All selects from a table, with its partitions, and what is called name in SQL.
func (t *Exported) All(name string) string { return t.filtered("from "+name, "true") }

// At selects the rows of one table at places, each like (0,1) and between them ",".
func (t *Exported) At(name, places string) string {
	return t.filtered("from only "+name, `ctid operator(pg_catalog.=) any ('{"`+places+`"}'::pg_catalog.tid[])`)
}

func (t *Exported) filtered(from, condition string) string {
	if t.Where != "" {
		condition += " and (" + t.Where + "\n)" // a comment in it ends there
	}
	return from + " where " + condition
}

// Looking asks for no row, but has the server look at everything.
func (t *Exported) Looking(name string) string {
	return "select " + t.names() + " " + t.All(name) + " limit 0"
}

// Copying has the server write what is selected, as SQL's COPY reads it or as CSV.
func (t *Exported) Copying(from string, sql bool) string {
	if sql {
		return "copy (select " + t.names() + " " + from + ") to stdout"
	}
	return "copy (select " + t.names() + " " + from + ") to stdout (format csv)"
}

// Selecting selects values, as texts but for those of types that are native.
func (t *Exported) Selecting(from string, native func(string) bool) string {
	list := make([]string, len(t.Columns))
	for i, c := range t.Columns {
		if list[i] = ident(c.Name); !native(c.Type) {
			list[i] += "::pg_catalog.text"
		}
	}
	return "select " + strings.Join(list, ", ") + " " + from
}

// Before is what comes before the rows: the names of the columns, or SQL that makes the table if it is missing.
func (t *Exported) Before(sql bool) string {
	if !sql {
		list := make([]string, len(t.Columns))
		for i, c := range t.Columns {
			list[i] = `"` + strings.ReplaceAll(c.Name, `"`, `""`) + `"`
		}
		return strings.Join(list, ",") + "\n"
	}
	into := ident(t.Schema) + "." + ident(t.Name)
	if t.IntoName != "" {
		into = ident(t.IntoName)
		if t.IntoSchema != "" {
			into = ident(t.IntoSchema) + "." + into
		}
	}
	types := make([]string, len(t.Columns))
	for i, c := range t.Columns {
		types[i] = "\t" + ident(c.Name) + " " + c.Type
	}
	return "set client_encoding = 'UTF8';\nset standard_conforming_strings = on;\nbegin;\ncreate table if not exists " + into + " (\n" +
		strings.Join(types, ",\n") + "\n);\ncopy " + into + " (" + t.names() + ") from stdin;\n"
}

// After is what comes after the rows.
func (t *Exported) After(sql bool) string {
	if sql {
		return "\\.\ncommit;\n"
	}
	return ""
}
