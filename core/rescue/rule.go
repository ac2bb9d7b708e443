package rescue

import (
	"fmt"
	"strings"
)

// Choice is what is done about a row that live has changed since.
type Choice string

// The choices. Stop is that of everything about which nothing was said.
const (
	Stop     Choice = "stop"
	KeepLive Choice = "keep live"
	TakeOld  Choice = "take old"
)

// Rule is what is done about rows that stand in the way: in all tables, in one, or about one row.
type Rule struct {
	Table string `json:"table,omitempty"` // schema.table or table; "" for all
	Key   string `json:"key,omitempty"`   // of the row; "" for all
	Do    Choice `json:"do"`
}

// Rules are several, of which the last that fits holds.
type Rules []Rule

// ParseRule reads [TABLE[:KEY]=]CHOICE.
func ParseRule(s string) (r Rule, err error) {
	what := s
	if i := strings.LastIndex(s, "="); i >= 0 {
		r.Table, what = s[:i], s[i+1:]
		r.Table, r.Key, _ = strings.Cut(r.Table, ":")
	}
	switch r.Do = Choice(strings.ReplaceAll(what, "-", " ")); r.Do {
	case Stop, KeepLive, TakeOld:
		return r, nil
	}
	return r, fmt.Errorf("%q is no rule; write keep-live, take-old or stop, alone or after TABLE= or TABLE:KEY=", s)
}

func (r Rule) covers(t *Table) bool {
	return r.Table == "" || r.Table == t.Name || r.Table == t.String()
}

// of is the choice for a row of a table, or with "" for all of which nothing else is said.
func (r Rules) of(t *Table, key string) Choice {
	do := Stop
	for _, one := range r {
		if one.covers(t) && (one.Key == "" || one.Key == key && key != "") {
			do = one.Do
		}
	}
	return do
}

// Of is the choice for the rows of a table of which nothing else is said.
func (r Rules) Of(t *Table) Choice { return r.of(t, "") }

// Done is what was decided about a row that stands in the way, from what it was marked with.
func (r Rules) Done(t *Table, mark string) Choice {
	switch mark {
	case "i", "u":
		return TakeOld
	case "k":
		return KeepLive
	}
	if do := r.Of(t); do != TakeOld {
		return do
	}
	return Stop
}
