package retrieve

import (
	"context"
	"fmt"
	"io"
	"slices"

	"github.com/parquet-go/parquet-go"
)

// rowsAtOnce is how many rows a group of a Parquet file has: they are held in memory.
const rowsAtOnce = 20_000

// parquet writes the rows as a Parquet file: whole numbers, floating-point numbers, booleans and bytes as such, all else as the texts
// that the server writes. A column that is null is so there, too. Columns are in the order of their names.
func (e *Export) parquet(ctx context.Context, to io.Writer) error {
	group, names := make(parquet.Group), make([]string, 0, len(e.columns))
	for _, c := range e.columns {
		group[c.Name] = parquet.Optional(leaf(c.Type))
		names = append(names, c.Name)
	}
	slices.Sort(names)
	out := parquet.NewWriter(to, parquet.NewSchema(e.table.Name, group), parquet.Compression(&parquet.Zstd))
	held := 0
	err := e.each(ctx, func(from string) error {
		rows, err := e.conn.Query(ctx, e.table.Selecting(from, native))
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() {
			values, err := rows.Values()
			if err != nil {
				return err
			}
			row := make(parquet.Row, len(values))
			for i, v := range values {
				at := slices.Index(names, e.columns[i].Name)
				if row[at], err = cell(v); err != nil {
					return err
				}
				defined := 1
				if v == nil {
					defined = 0
				}
				row[at] = row[at].Level(0, defined, at)
			}
			if _, err := out.WriteRows([]parquet.Row{row}); err != nil {
				return err
			}
			if held++; held%rowsAtOnce == 0 {
				if err := out.Flush(); err != nil {
					return err
				}
			}
		}
		return rows.Err()
	})
	if err != nil {
		return err
	}
	return out.Close()
}

// native tells whether a type is written as it is.
func native(name string) bool {
	return leaf(name).Type().Kind() != parquet.ByteArray || name == "bytea"
}

func leaf(name string) parquet.Node {
	switch name {
	case "smallint", "integer":
		return parquet.Int(32)
	case "bigint":
		return parquet.Int(64)
	case "real":
		return parquet.Leaf(parquet.FloatType)
	case "double precision":
		return parquet.Leaf(parquet.DoubleType)
	case "boolean":
		return parquet.Leaf(parquet.BooleanType)
	case "bytea":
		return parquet.Leaf(parquet.ByteArrayType)
	}
	return parquet.String()
}

func cell(v any) (parquet.Value, error) {
	switch v := v.(type) {
	case nil:
		return parquet.NullValue(), nil
	case int16:
		return parquet.Int32Value(int32(v)), nil
	case int32:
		return parquet.Int32Value(v), nil
	case int64:
		return parquet.Int64Value(v), nil
	case float32:
		return parquet.FloatValue(v), nil
	case float64:
		return parquet.DoubleValue(v), nil
	case bool:
		return parquet.BooleanValue(v), nil
	case []byte:
		return parquet.ByteArrayValue(v), nil
	case string:
		return parquet.ByteArrayValue([]byte(v)), nil
	}
	return parquet.Value{}, fmt.Errorf("a value of %T cannot be written", v)
}
