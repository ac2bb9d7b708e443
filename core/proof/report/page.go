package report

// Style is how reports look, on a screen and on A4.
const Style = `:root { --ink: #261c2a; --soft: #6a5c6d; --line: #ded5d9; --kept: #187566; --undone: #b5452b; --brass: #8c6110; --velvet:
#6b3fa8; }
* { box-sizing: border-box; }
body { font: 14px/1.45 "Source Sans 3", "Atkinson Hyperlegible", "Noto Sans", "DejaVu Sans", sans-serif; color: var(--ink); background:
#fff;
  max-width: 60rem; margin: 2rem auto; padding: 0 1.5rem; font-variant-numeric: tabular-nums; }
h1 { font-size: 1.7rem; margin: 0 0 .2rem; } h2 { font-size: 1.1rem; margin: 2rem 0 .5rem; border-bottom: 2px solid var(--velvet);
padding-bottom: .2rem; }
h3 { font-size: 1rem; margin: 1.1rem 0 .2rem; }
p { margin: .3rem 0; } .soft { color: var(--soft); } code { font: .92em "IBM Plex Mono", "DejaVu Sans Mono", monospace; }
.verdict { display: inline-block; border: 2px solid currentColor; border-radius: 3px; padding: .1rem .7rem; font-size: 1.25rem;
font-weight: 600; }
.passed { color: var(--kept); } .failed { color: var(--undone); } .unknown { color: var(--brass); }
table { border-collapse: collapse; width: 100%; } th, td { text-align: left; vertical-align: top; padding: .25rem .6rem .25rem 0;
border-bottom: 1px solid var(--line); }
th { color: var(--soft); font-weight: 500; } td.n, th.n { text-align: right; white-space: nowrap; } td.v { white-space: nowrap; }
td.name { white-space: nowrap; } thead { display: table-header-group; } tr { break-inside: avoid; } ul { margin: .2rem 0; padding-left:
1.1rem; }
dl { display: grid; grid-template-columns: 12rem 1fr; margin: 0; } dt { color: var(--soft); } dd { margin: 0; overflow-wrap: anywhere; }
footer { margin-top: 2.5rem; border-top: 1px solid var(--line); padding-top: .5rem; color: var(--soft); font-size: .9em; }
@page { size: A4; margin: 16mm; }
@media print { body { margin: 0; padding: 0; max-width: none; font-size: 10.5pt; } h2 { break-after: avoid; } }
`

// page is the template of the report as one page: its style is in it, and it may fetch nothing.
const page = `<!doctype html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta http-equiv="Content-Security-Policy" content="default-src 'none'; style-src 'unsafe-inline'">
<title>{{.Cluster}}, {{.Boundary.Moment}}: {{.Verdict}}</title>
<style>
` + Style + `</style>
</head>
<body>
<p class="soft">Velvet Rewind: proof of a restored cluster</p>
<h1>{{.Cluster}}, {{.Boundary.Moment}}</h1>
<p><span class="verdict {{class .Verdict}}">{{mark .Verdict}} {{.Verdict}}</span> &ensp; proved {{time .Finished}}</p>

<h2>What was restored</h2>
<dl>
<dt>cluster</dt><dd>{{.Cluster}}, system identifier {{.SystemID}}, PostgreSQL {{.Server}}</dd>
<dt>from</dt><dd>base backup <code>{{.Base.ID}}</code> ({{.Base.Kind}}), ended {{time .Base.Taken}}, {{size .Base.Bytes}}, and
{{size .Replayed}} of WAL in {{.Segments}} segments from <code>{{.From}}</code></dd>
<dt>to</dt><dd>{{.Boundary.Moment}}: replay stops {{if .Boundary.Inclusive}}after{{else}}before{{end}} the record at
<code>{{.Boundary.Stop}}</code>, timeline {{.Boundary.Timeline}}</dd>
{{with .Boundary.LastIn}}<dt>last transaction in</dt><dd>{{.XID}}, committed {{exact .Time}}</dd>{{end}}
{{with .Boundary.FirstOut}}<dt>first transaction out</dt><dd>{{.XID}}, committed {{exact .Time}} on the original</dd>{{end}}
<dt>asked for</dt><dd>{{.AskedBy}}</dd>
{{range .Phases}}<dt>{{.Name}}</dt><dd>{{took .Took}}</dd>
{{end}}</dl>

<h2>What to look at</h2>
{{range .Look}}<h3 class="{{class .Verdict}}">{{mark .Verdict}} {{.Name}}: {{.Verdict}}</h3>
<p>{{.Summary}}</p>
{{if gt (len .Wrong) 1}}<ul>{{range .Wrong}}<li><code>{{.Where}}</code>: {{.What}}</li>{{end}}</ul>{{end}}
{{if .Next}}<p>To do: {{.Next}}</p>{{end}}
{{else}}<p>Nothing: every check has passed.</p>
{{end}}
<h2>Every check</h2>
<table>
<thead><tr><th>verdict</th><th>check</th><th>what was seen</th><th class="n">took</th></tr></thead>
<tbody>
{{range .Areas}}<tr><td colspan="4" class="soft">{{.Name}}</td></tr>
{{range .Checks}}<tr><td class="v {{class .Verdict}}">{{mark .Verdict}} {{.Verdict}}</td><td class="name">{{.Name}}</td>
<td>{{.Summary}}{{if .Shows}}<div class="soft">Shows {{.Shows}}.{{if .Lacks}} It does not show: {{.Lacks}}.{{end}}</div>{{end}}
{{range .Notes}}<div
class="soft">{{.}}</div>{{end}}</td>
<td class="n">{{took .Took}}</td></tr>
{{end}}{{end}}</tbody>
</table>
{{if .Tables}}
<h2>Tables compared with the live cluster</h2>
<table>
<thead><tr><th>table</th><th class="n">rows in the copy</th><th class="n">rows live</th><th>why they differ</th></tr></thead>
<tbody>
{{range .Tables}}<tr><td>{{.Database}}.{{.Name}}</td><td class="n">{{if .Problem}}not read{{else}}{{count .Copy}}{{end}}</td>
<td class="n">{{with .Live}}{{live .}}{{else}}not there{{end}}</td><td{{if eq .Agrees "failed"}}
class="failed"{{end}}>{{.Cause}}{{.Problem}}</td></tr>
{{end}}</tbody>
</table>
{{end}}
<h2>What was not checked</h2>
{{if .LeftOut}}<ul>{{range .LeftOut}}<li>{{.Where}}: {{.What}}</li>{{end}}</ul>{{else}}<p>Nothing was left out of the checks above.
What each of them cannot show stands beside it.</p>{{end}}

<footer>Proof <code>{{.Proof}}</code> of the copy <code>{{.Copy}}</code>; task <code>{{.Task}}</code>; made by Velvet Rewind
{{.Program}}.
The SHA-256 of this file is kept in the service's records: <code>velvet prove show {{.Proof}}</code></footer>
</body>
</html>
`
