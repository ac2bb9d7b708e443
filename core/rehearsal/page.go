package rehearsal

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"html/template"
	"time"

	"velvetrewind/core/proof/report"
)

// page is the template of the digest as one page: its style is in it, and it may fetch nothing.
const page = `<!doctype html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta http-equiv="Content-Security-Policy" content="default-src 'none'; style-src 'unsafe-inline'">
<title>Rehearsals from {{day .From}} to {{day .To}}</title>
<style>
` + report.Style + `
.days { white-space: nowrap; font-size: 11px; letter-spacing: 1px; line-height: 1; }
table.lines { font-size: 12px; } body { max-width: 76rem; }
@page { size: A4 landscape; }
</style>
</head>
<body>
<p class="soft">Velvet Rewind: rehearsals of all clusters, {{day .From}} to {{day .To}}</p>
<h1>{{.First}}</h1>
<table class="lines">
<thead><tr><th>cluster</th><th>standing</th><th>last rehearsal</th><th>reach since</th><th class="n">passed</th><th class="n">back in</th>
<th class="n">worst</th><th class="n">lost</th><th>objective</th><th class="n">trend</th><th>days, oldest first</th></tr></thead>
<tbody>
{{range .Lines}}<tr><td class="name">{{.Cluster}}</td><td class="{{class .Standing}}">{{mark .Standing}} {{.Standing}}</td>
<td>{{with .Last}}{{minute .At}}{{else}}never{{end}}</td><td{{if not .PromiseKept}} class="failed"{{end}}>{{minute .Reach}}</td>
<td class="n">{{.Good}} of {{.Runs}}</td><td class="n">{{took .Back}}</td><td class="n">{{took .Worst}}</td><td class="n">{{lost
.Lost}}</td>
<td{{if broken .Kept}} class="failed"{{end}}>{{objective .Objective}}{{if broken .Kept}} (not kept){{end}}</td><td class="n">{{trend
.Trend}}</td>
<td class="days">{{strip . $.From $.To}}</td></tr>
{{end}}</tbody>
</table>
<p class="soft">✓ passed · ✕ failed, or no copy · ? proved in part · · not rehearsed. <i>Back in</i> is the median time until a copy was
made and
proved, <i>worst</i> the longest; <i>lost</i> is how old the newest moment was that could be reached, at most; <i>trend</i> compares
the newer half of the rehearsals with the older.</p>
<h2>What failed, and what was done</h2>
{{if failures .Lines}}<table>
<thead><tr><th>cluster</th><th>when</th><th>cause</th><th>then</th></tr></thead>
<tbody>
{{range .Lines}}{{$cluster := .Cluster}}{{range .Failures}}<tr><td class="name">{{$cluster}}</td><td class="name">{{minute .At}}</td>
<td>{{.Cause}}</td><td>{{.Then}}</td></tr>
{{end}}{{end}}</tbody>
</table>{{else}}<p>Nothing failed.</p>{{end}}
</body>
</html>
`

var pageTemplate = template.Must(template.New("page").Funcs(template.FuncMap{
	"day":    func(t time.Time) string { return t.UTC().Format(time.DateOnly) },
	"minute": minute, "took": took, "trend": trend, "strip": strip, "objective": Objective.String,
	"broken": func(kept *bool) bool { return kept != nil && !*kept },
	"lost": func(d time.Duration) string {
		if d < 0 {
			return ""
		}
		return d.Round(100 * time.Millisecond).String()
	},
	"class": func(s Standing) string {
		return map[Standing]string{Proved: "passed", Broken: "failed", NoReach: "failed"}[s]
	},
	"mark": func(s Standing) string {
		return map[Standing]string{Proved: "✓", Broken: "✕", NoReach: "✕", Partly: "?", Unproved: "·"}[s]
	},
	"failures": func(lines []Line) (n int) {
		for i := range lines {
			n += len(lines[i].Failures)
		}
		return n
	},
}).Parse(page))

func minute(t time.Time) string {
	if t.IsZero() {
		return "none"
	}
	return t.UTC().Format("2006-01-02 15:04")
}

// took writes a length of time, and nothing for none.
func took(d time.Duration) string {
	switch {
	case d <= 0:
		return ""
	case d < 2*time.Minute:
		return fmt.Sprintf("%.1f s", d.Seconds())
	}
	return d.Round(time.Second).String()
}

func trend(t float64) string {
	if t == 0 {
		return ""
	}
	return fmt.Sprintf("%+.0f %%", 100*t)
}

// String writes the objective: back within 2h0m0s, losing at most 1m0s.
func (o Objective) String() string {
	switch {
	case o.Back > 0 && o.Lose > 0:
		return fmt.Sprintf("back within %s, losing at most %s", o.Back, o.Lose)
	case o.Back > 0:
		return fmt.Sprintf("back within %s", o.Back)
	case o.Lose > 0:
		return fmt.Sprintf("losing at most %s", o.Lose)
	}
	return "none"
}

// mostDays bounds how many days a strip shows.
const mostDays = 62

// strip has a sign for each day of the span, the newest last.
func strip(l Line, from, to time.Time) string {
	signs := ""
	for day, n := to.UTC(), 0; !day.Before(from.UTC()) && n < mostDays; day, n = day.AddDate(0, 0, -1), n+1 {
		sign := map[Outcome]string{Passed: "✓", Failed: "✕", NoCopy: "✕", CouldNotRun: "?"}[l.Days[day.Format(time.DateOnly)]]
		if sign == "" {
			sign = "·"
		}
		signs = sign + signs
	}
	return signs
}

// HTML writes the digest as one page, for a screen and for A4.
func (d *Digest) HTML() ([]byte, error) {
	var b bytes.Buffer
	err := pageTemplate.Execute(&b, d)
	return b.Bytes(), err
}

// CSV writes a line for each cluster.
func (d *Digest) CSV() ([]byte, error) {
	var b bytes.Buffer
	w := csv.NewWriter(&b)
	_ = w.Write([]string{"cluster", "standing", "why", "last rehearsal", "last outcome", "reach since", "promised since",
		"promise kept", "runs", "passed", "back seconds", "worst seconds", "lost seconds", "objective", "objective kept", "trend"})
	for i := range d.Lines {
		l := &d.Lines[i]
		last, outcome, kept, lost := "", "", "", ""
		if l.Last != nil {
			last, outcome = l.Last.At.UTC().Format(time.RFC3339), string(l.Last.Outcome)
		}
		if l.Kept != nil {
			kept = fmt.Sprint(*l.Kept)
		}
		if l.Lost >= 0 {
			lost = fmt.Sprintf("%.3f", l.Lost.Seconds())
		}
		_ = w.Write([]string{l.Cluster, string(l.Standing), l.Why, last, outcome, minute(l.Reach), minute(l.Promised),
			fmt.Sprint(l.PromiseKept), fmt.Sprint(l.Runs), fmt.Sprint(l.Good), fmt.Sprintf("%.3f", l.Back.Seconds()),
			fmt.Sprintf("%.3f", l.Worst.Seconds()), lost, l.Objective.String(), kept, fmt.Sprintf("%.3f", l.Trend)})
	}
	w.Flush()
	return b.Bytes(), w.Error()
}
