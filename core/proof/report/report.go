// Package report writes a proof down for others: as one HTML page for an auditor, as CSV and as JUnit XML for programs.
//
// Invariant: a report is a function of what it is given, byte by byte; it holds all that it shows and fetches nothing, and no
// name or value from a cluster is taken for markup. Judging is core/proof's.
package report

import (
	"bytes"
	"encoding/csv"
	"encoding/xml"
	"fmt"
	"html/template"
	"time"

	"velvetrewind/core/figures"
	"velvetrewind/core/moment"
	"velvetrewind/core/pg"
	"velvetrewind/core/proof"
)

// Report is what there is to tell of one proof.
type Report struct {
	Proof, Copy, Task string
	Cluster           string
	SystemID          uint64
	Server            string // its version
	Base              Base
	Boundary          moment.Boundary
	From              pg.LSN // replay began there
	Segments          int
	Replayed          int64 // bytes of WAL
	AskedBy           string
	Phases            []Phase
	Started, Finished time.Time
	Verdict           proof.Verdict
	Checks            []proof.Check
	Program           string // the version of Velvet Rewind
}

// Base is the base backup that the copy began with.
type Base struct {
	ID, Kind string
	Taken    time.Time
	Bytes    int64
}

// Phase is a part of the way to the copy and its proof.
type Phase struct {
	Name string
	Took time.Duration
}

var pageTemplate = template.Must(template.New("page").Funcs(template.FuncMap{
	"time": func(t time.Time) string {
		if t.IsZero() {
			return "not known"
		}
		return t.UTC().Format("2006-01-02 15:04:05 UTC")
	},
	"exact": func(t time.Time) string { return t.UTC().Format("2006-01-02 15:04:05.000000 UTC") },
	"took":  took, "count": figures.Count, "size": figures.Size,
	"live": func(n *int64) string { return figures.Count(*n) },
	"class": func(v proof.Verdict) string {
		return map[proof.Verdict]string{proof.Passed: "passed", proof.Failed: "failed", proof.CouldNotRun: "unknown"}[v]
	},
	"mark": func(v proof.Verdict) string {
		return map[proof.Verdict]string{proof.Passed: "✓", proof.Failed: "✕", proof.CouldNotRun: "?"}[v]
	},
}).Parse(page))

// took writes how long something took.
func took(d time.Duration) string {
	switch {
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	case d < 2*time.Minute:
		return fmt.Sprintf("%.1f s", d.Seconds())
	}
	return d.Round(time.Second).String()
}

// area is the checks of one area.
type area struct {
	Name   proof.Area
	Checks []proof.Check
}

// HTML writes the report as one page, for a screen and for A4.
func (r *Report) HTML() ([]byte, error) {
	data := struct {
		*Report
		Look    []proof.Check // what has not passed, the failed first
		Areas   []area
		Tables  []proof.Table
		LeftOut []proof.Finding
	}{Report: r}
	for _, v := range []proof.Verdict{proof.Failed, proof.CouldNotRun} {
		for _, c := range r.Checks {
			if c.Verdict == v {
				data.Look = append(data.Look, c)
			}
		}
	}
	for _, c := range r.Checks {
		if n := len(data.Areas); n == 0 || data.Areas[n-1].Name != c.Area {
			data.Areas = append(data.Areas, area{Name: c.Area})
		}
		a := &data.Areas[len(data.Areas)-1]
		a.Checks = append(a.Checks, c)
		data.Tables = append(data.Tables, c.Tables...)
		for _, f := range c.LeftOut {
			data.LeftOut = append(data.LeftOut, proof.Finding{Where: c.Name + ", " + f.Where, What: f.What})
		}
	}
	var b bytes.Buffer
	err := pageTemplate.Execute(&b, data)
	return b.Bytes(), err
}

// CSV writes a line for each check.
func (r *Report) CSV() ([]byte, error) {
	var b bytes.Buffer
	w := csv.NewWriter(&b)
	_ = w.Write([]string{"proof", "cluster", "moment", "area", "check", "verdict", "seconds", "summary"})
	for _, c := range r.Checks {
		_ = w.Write([]string{r.Proof, r.Cluster, r.Boundary.Moment, string(c.Area), c.Name, string(c.Verdict),
			fmt.Sprintf("%.3f", c.Took.Seconds()), c.Summary})
	}
	w.Flush()
	return b.Bytes(), w.Error()
}

// The elements of JUnit XML.
type (
	suite struct {
		XMLName  xml.Name   `xml:"testsuite"`
		Name     string     `xml:"name,attr"`
		Tests    int        `xml:"tests,attr"`
		Failures int        `xml:"failures,attr"`
		Errors   int        `xml:"errors,attr"`
		Time     string     `xml:"time,attr"`
		Stamp    string     `xml:"timestamp,attr"`
		Cases    []testCase `xml:"testcase"`
	}
	testCase struct {
		Class   string  `xml:"classname,attr"`
		Name    string  `xml:"name,attr"`
		Time    string  `xml:"time,attr"`
		Failure *remark `xml:"failure"`
		Error   *remark `xml:"error"`
		Output  string  `xml:"system-out,omitempty"`
	}
	remark struct {
		Message string `xml:"message,attr"`
		Text    string `xml:",chardata"`
	}
)

// JUnit writes each check as a test case: failed ones as failures, those that could not run as errors.
func (r *Report) JUnit() ([]byte, error) {
	seconds := func(d time.Duration) string { return fmt.Sprintf("%.3f", d.Seconds()) }
	s := suite{Name: r.Cluster + ", " + r.Boundary.Moment, Tests: len(r.Checks), Time: seconds(r.Finished.Sub(r.Started)),
		Stamp: r.Started.UTC().Format("2006-01-02T15:04:05")}
	for _, c := range r.Checks {
		one := testCase{Class: string(c.Area), Name: c.Name, Time: seconds(c.Took)}
		text := ""
		for _, f := range append(c.Wrong[:len(c.Wrong):len(c.Wrong)], c.LeftOut...) {
			text += f.String() + "\n"
		}
		switch c.Verdict {
		case proof.Failed:
			s.Failures++
			one.Failure = &remark{c.Summary, text}
		case proof.CouldNotRun:
			s.Errors++
			one.Error = &remark{c.Summary, text}
		default:
			one.Output = c.Summary
		}
		s.Cases = append(s.Cases, one)
	}
	b, err := xml.MarshalIndent(s, "", "  ")
	return append([]byte(xml.Header), append(b, '\n')...), err
}
