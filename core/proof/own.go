package proof

import (
	"fmt"
	"math/big"
	"strings"

	"velvetrewind/core/figures"
)

// Expectation is what the query of a check of the DBA's own must give.
type Expectation struct {
	Kind     string // NoRows, SomeRows, ValueIn, SameAsLive or SameAsLast
	Low, Top *big.Rat
}

// The kinds of expectations.
const (
	NoRows     = "no rows"
	SomeRows   = "some rows"
	ValueIn    = "value"
	SameAsLive = "same as live"
	SameAsLast = "same as last time"
)

// howToExpect lists what an expectation can be.
const howToExpect = `write "no rows", "some rows", "value 100..200" (or "value 100.." or "value ..200"),
	"same as live" or "same as last time"`

// ParseExpectation reads what a person writes.
func ParseExpectation(text string) (Expectation, error) {
	words := strings.Join(strings.Fields(strings.ToLower(text)), " ")
	switch words {
	case NoRows, SomeRows, SameAsLive, SameAsLast:
		return Expectation{Kind: words}, nil
	}
	span, isValue := strings.CutPrefix(words, ValueIn)
	if !isValue {
		return Expectation{}, fmt.Errorf("%q is no expectation; %s", text, howToExpect)
	}
	low, top, isSpan := strings.Cut(strings.TrimSpace(span), "..")
	if !isSpan {
		top = low
	}
	e := Expectation{Kind: ValueIn}
	for _, side := range []struct {
		text string
		to   **big.Rat
	}{{low, &e.Low}, {top, &e.Top}} {
		if side.text = strings.TrimSpace(side.text); side.text == "" {
			continue
		}
		n, ok := number(side.text)
		if !ok {
			return e, fmt.Errorf("%q is no number; %s", side.text, howToExpect)
		}
		*side.to = n
	}
	if e.Low == nil && e.Top == nil {
		return e, fmt.Errorf("the expectation %q has no value; %s", text, howToExpect)
	}
	if e.Low != nil && e.Top != nil && e.Low.Cmp(e.Top) > 0 {
		return e, fmt.Errorf("the expectation %q has its larger value first; %s", text, howToExpect)
	}
	return e, nil
}

// longestNumber bounds what is taken for a number: one with a large exponent would fill the memory.
const longestNumber = 60

func number(text string) (*big.Rat, bool) {
	if len(text) > longestNumber || strings.ContainsAny(text, "eE/_xXpP") {
		return nil, false
	}
	return new(big.Rat).SetString(text)
}

// Answer is what the query of a check gave: how many rows, and the value in the first column of the first; nil for NULL, and
// where there is no row.
type Answer struct {
	Rows  int64
	Value *string
}

func (a Answer) String() string {
	switch {
	case a.Rows == 0:
		return "no rows"
	case a.Value == nil:
		return "NULL"
	}
	return *a.Value
}

// Own judges what a check of the DBA's own gave. other is what it is compared with; nil where there is nothing, for the reason
// why.
func Own(name string, e Expectation, got Answer, other *string, why string) Check {
	c := New(name)
	text := got.String()
	c.Value, c.Verdict = &text, Failed
	c.Shows = "what its query asks, as one person wrote it"
	c.Next = "Look at the query: velvet prove checks show CLUSTER " + name
	switch e.Kind {
	case NoRows, SomeRows:
		if (got.Rows == 0) == (e.Kind == NoRows) {
			c.Verdict = Passed
		}
		c.Summary = fmt.Sprintf("%s expected; there are %s", e.Kind, figures.Count(got.Rows))
	case ValueIn:
		n, ok := (*big.Rat)(nil), false
		if got.Value != nil {
			n, ok = number(strings.TrimSpace(*got.Value))
		}
		if ok && (e.Low == nil || n.Cmp(e.Low) >= 0) && (e.Top == nil || n.Cmp(e.Top) <= 0) {
			c.Verdict = Passed
		}
		c.Summary = fmt.Sprintf("%s expected; it is %s", e, text)
	case SameAsLive, SameAsLast:
		whose := map[string]string{SameAsLive: "on the live cluster", SameAsLast: "last time"}[e.Kind]
		switch {
		case other == nil:
			c.Verdict = CouldNotRun
			c.Summary = fmt.Sprintf("it is %s; there is nothing to compare it with: %s", text, why)
		case *other == text:
			c.Verdict = Passed
			c.Summary = fmt.Sprintf("it is %s, as %s", text, whose)
		default:
			c.Summary = fmt.Sprintf("it is %s, but was %s %s", text, *other, whose)
		}
	}
	return c.settled()
}

// String writes the expectation so that ParseExpectation reads it back.
func (e Expectation) String() string {
	if e.Kind != ValueIn {
		return e.Kind
	}
	side := func(n *big.Rat) string {
		if n == nil {
			return ""
		}
		digits, _ := n.FloatPrec()
		return n.FloatString(digits)
	}
	if e.Low != nil && e.Top != nil && e.Low.Cmp(e.Top) == 0 {
		return ValueIn + " " + side(e.Low)
	}
	return ValueIn + " " + side(e.Low) + ".." + side(e.Top)
}
