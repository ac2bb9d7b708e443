package cli

import (
	"bytes"
	"encoding/xml"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/api"
	"velvetrewind/core/inventory"
	"velvetrewind/core/readiness"
)

func ptr[T any](v T) *T { return &v }

// saying is what a drawing says: each line of it matches one of these, in this order, and
// other lines may stand between them.
func saying(t *testing.T, draw func(io.Writer), lines ...string) {
	t.Helper()
	var out bytes.Buffer
	draw(&out)
	rest := out.String()
	for _, want := range lines {
		at := strings.Index(rest, "\n")
		for ; at >= 0 && !assert.Regexp(new(testing.T), want, rest[:at]); at = strings.Index(rest, "\n") {
			rest = rest[at+1:]
		}
		if !assert.GreaterOrEqual(t, at, 0, "no line is as %q, after those before it, in\n%s", want, out.String()) {
			return
		}
		rest = rest[at+1:]
	}
	for _, line := range strings.Split(out.String(), "\n") {
		assert.Equal(t, strings.TrimRight(line, " "), line, "nothing trails")
	}
}

func TestBackupsAreDrawn(t *testing.T) {
	b := api.Backup{
		ID: "01m8", Cluster: "ferries", Kind: "incremental", Timeline: 2, Start: 0x1000028, Stop: 0x1000138, StartedAt: noon,
		StoppedAt: noon.Add(time.Minute),
		Files:     1295, BytesHeld: 113 << 20, BytesRead: 8 << 20, BytesStored: 700 << 10, BytesShared: 17 << 20,
		Extents: 1400, NewExtents: 12,
		ZeroExtents: 3,
		Pages:       1000, Tablespaces: []api.TablespaceEntry{{OID: 16400, Location: "/ledger"}},
	}
	saying(t, func(w io.Writer) { drawBackup(w, b) },
		`^base +01m8$`, `^kind +incremental$`, `^LSN +0/1000028 to 0/1000138 on timeline 2$`, `^holds +113\.0 MiB in 1,295 files$`,
		`^read +8\.0 MiB from the server$`,
		`^stored +700\.0 KiB; 12 of 1,400 extents were new, 3 are zeroes$`, `^pages +1,000 checked, every one right$`,
		`^tablespace 16400 at /ledger$`)
	b.PageFaults = 2
	saying(t, func(w io.Writer) { drawBackup(w, b) }, `^pages +1,000 checked, 2 damaged$`)

	alone := int64(2 << 20)
	c := api.Content{Packs: 3, Alone: &alone, FirstWAL: "00A", LastWAL: "00B", Other: 9 << 10, Catalogs: 7 << 20, MoreTables: 4,
		Databases: []api.DatabaseContent{{OID: 5, Name: "saltmarsh", Files: 1200, Bytes: 90 << 20}, {OID: 0, Files: 60, Bytes: 1 << 20},
			{OID: 9, Files: 1, Bytes: 1}},
		Tablespaces: []api.TablespaceContent{{Location: "/ledger", Bytes: 5 << 20}},
	}
	for range mostTables + 1 {
		c.Relations = append(c.Relations, api.RelationContent{Database: "saltmarsh", Schema: "crew", Table: "shift", Main: 4 << 20,
			Indexes: 1 << 20})
	}
	saying(t, func(w io.Writer) { drawContent(w, c) },
		`^alone +2\.0 MiB in the store that no other backup needs$`, `^needs +3 packs, and the WAL from 00A to 00B$`,
		`^saltmarsh +1,200 +90\.0 MiB$`, `^\(shared catalogs\) `, `^\(database 9\) `,
		`^\(other files\) +9\.0 KiB$`, `^in the tablespace at /ledger: 5\.0 MiB$`, `^saltmarsh\.crew\.shift +4\.0 MiB +1\.0 MiB +0 B$`,
		`^and 5 smaller tables$`)

	lines := []api.BackupLine{
		{ID: "01m8", Cluster: "ferries & <berths>", Kind: "full", StoppedAt: noon, Seconds: 75, BytesHeld: 90 << 20, BytesRead: 90 << 20,
			BytesStored: 18 << 20, Dropped: true},
		{ID: "01m9", Cluster: "ferries", Kind: "incremental", StoppedAt: noon, Seconds: 1.2, BytesHeld: 90 << 20, BytesRead: 6 << 20,
			BytesStored: 1 << 20},
	}
	saying(t, func(w io.Writer) { drawReport(w, lines) }, `^01m8 .* 1m15s .* deleted$`, `^01m9 .* 1\.2 s `,
		`^2 base backups: 96\.0 MiB read, 19\.0 MiB stored$`)
	var svg bytes.Buffer
	require.NoError(t, drawBars(&svg, lines))
	bars := 0
	for d := xml.NewDecoder(&svg); ; {
		token, err := d.Token()
		if err == io.EOF {
			break
		}
		require.NoError(t, err, "the picture is XML, whatever a cluster is called")
		if e, ok := token.(xml.StartElement); ok && e.Name.Local == "title" {
			bars++
		}
	}
	assert.Equal(t, 4, bars, "two for each backup")
}

func TestTheStoreIsDrawn(t *testing.T) {
	s := api.Store{Name: "/backups", Encrypted: true, KeyNumber: 2, KeyMade: &noon, Second: "/far",
		Audit: &api.StoreAudit{At: noon, Findings: 3, Costing: 1}, Clusters: []api.StoreCluster{
			{Cluster: "ferries", Known: true, Backups: 12, Held: 1000 << 20, Packs: 30 << 20, WAL: 5 << 20, Objects: 1234},
			{Cluster: "01lost"},
		}}
	saying(t, func(w io.Writer) { drawStore(w, s) },
		`^encrypted +with data key 2, made `, `^second +/far$`, `, 3 findings, 1 of them prevent a restore$`,
		`^ferries +12 +1000\.0 MiB +30\.0 MiB +97\.0 % +5\.0 MiB +0 B +1,234$`, `^01lost \(not in the catalogue\) +0 +0 B `)
	s.Encrypted, s.Audit, s.Trouble = false, nil, "no route to it"
	saying(t, func(w io.Writer) { drawStore(w, s) }, `^encrypted +no$`, `^second +cannot be reached: no route to it$`,
		`^audited +never; run: velvet store audit$`)

	r := api.AuditResult{Full: true, Objects: 1234, Bytes: 5 << 20, Second: "/far", Behind: 2, Findings: []api.Discrepancy{
		{Kind: string(inventory.Damaged), Key: "wal/5", Costs: true, Detail: "a frame's hash is wrong"},
		{Kind: string(inventory.Missing), Key: "pack-1", Elsewhere: true}, {Kind: string(inventory.Damaged), Key: "pack-2",
			Elsewhere: true, Fixed: true, Detail: "torn"},
	}, Losses: []api.Loss{{Cluster: "ferries", Backups: []string{"01a", "01b"},
		Reach: []api.LostReach{{Timeline: 1, From: 0x5000000, To: 0x6000000}}}}}
	saying(t, func(w io.Writer) { drawAudit(w, r) },
		`^looked at +1,234 objects, 5\.0 MiB, every byte$`, `^second +/far does not have 2 objects yet$`,
		`^! +damaged +wal/5 +a frame's hash is wrong$`, `^ +missing +pack-1 +the second store has it whole$`,
		`^ +damaged +pack-2 +fixed from the other store; torn$`, `^ferries: these base backups cannot be restored: 01a, 01b$`,
		`^ferries can no longer be rewound to moments from 0/5000000 to 0/6000000 on timeline 1$`,
		`^ +velvet backup take ferries$`, `velvet store audit --full$`)
	r.Losses = nil
	saying(t, func(w io.Writer) { drawAudit(w, r) }, `^Nothing that is needed is lost\.$`)
	r.Findings = nil
	saying(t, func(w io.Writer) { drawAudit(w, r) }, `^Everything that is needed is there, and nothing else\.$`)
}

func TestReachAndPromisesAreDrawn(t *testing.T) {
	k := api.Cluster{Name: "ferries", Promise: api.Promise{Words: "any moment of the last 5 days", Since: noon}}
	saying(t, func(w io.Writer) { drawReach(w, k) }, `^No moment can be reached yet\. Take a base backup with: velvet backup take ferries$`,
		`^promised: any moment of the last 5 days; every moment since `, `^held: no, not before a base backup is taken$`)
	k.Reach = []api.Span{{Timeline: 1, Base: "01a", From: 0x1000028, To: 0x5000000, FromTime: noon, ToTime: noon.Add(time.Hour)}}
	k.Holes = []api.Hole{{Timeline: 1, From: 0x5000000, To: 0x7000000, Cause: "the replication slot was dropped or lost"},
		{Timeline: 1, From: 0x8000000, To: 0x9000000, Cause: "it was deleted by rule", Until: &noon}}
	k.Promise.HeldFrom = &noon
	saying(t, func(w io.Writer) { drawReach(w, k) }, ` 0/1000028 .* 0/5000000 +01a$`,
		`^hole on timeline 1: 32\.0 MiB of WAL from 0/5000000 to 0/7000000 are missing: the replication slot was dropped or lost; `+
			`later moments cannot be reached until a base backup is taken: velvet backup take ferries$`,
		`^hole on timeline 1: .*: it was deleted by rule; moments can be reached again from `, `^held: only since `)
	k.Promise.Held = true
	saying(t, func(w io.Writer) { drawReach(w, k) }, `^held: yes$`)

	rule := api.Keep{Rule: api.KeepRule{SpanHours: 5 * 24}, From: "its own", Promise: api.Promise{Since: noon, HeldFrom: &noon},
		NextRun: &noon, Pins: []api.Pin{{Backup: "01a", Reason: "audit"}}}
	saying(t, func(w io.Writer) { drawKeep(w, rule) }, `^rule +any moment of the last 5 days$`, `^held +no$`,
		`^The promise reaches further back`, `^is held from 2027-03-15 `, `^The calendar applies the rule next at `,
		`^pinned: 01a until it is taken off: audit$`)
}

func TestMomentsAndChangesAreDrawn(t *testing.T) {
	change := api.TableChange{Table: "booking", Deleted: 17000, Operations: []string{"truncate"}}
	x := api.Transaction{XID: 1<<32 + 7, Committed: true, Time: noon, LSN: 0x5000000, First: 0x4000000, Database: "saltmarsh",
		Tables: []api.TableChange{change}, Subtransactions: 1200, Partial: true, Bytes: 2 << 20,
		Incident: []string{"17,000 rows of booking were deleted"}}
	m := api.Moment{Moment: "before tx 4294967303", UTC: &noon, Note: "chosen over another",
		Around: []api.Transaction{{XID: 6, Time: noon}, x}, Kept: 1,
		Boundary: api.Boundary{Moment: "before tx 4294967303", Timeline: 1, Stop: 0x5000000, LastIn: &api.Commit{XID: 6, Time: noon},
			FirstOut: &api.Commit{XID: x.XID, Time: noon}},
		Cost: api.Cost{Transactions: 1, Tables: []api.TableChange{change}},
		Plan: &api.Restore{Base: "01a", Count: 9, Replay: 137 << 20}}
	saying(t, func(w io.Writer) { drawMoment(w, m) }, `^moment +before tx 4294967303 +\(2027-03-10 12:00:00 UTC\)$`,
		`^note +chosen over another$`, `^last in +tx 6, committed `, `^first out +tx 4294967303, `,
		`^replay stops +before the record at 0/5000000, on timeline 1$`,
		`^restore +from base 01a, replaying 137\.0 MiB of WAL from 9 segments$`, `^kept +6 `, `^──────$`,
		`^undone +4294967303 .*17,000`, `^Going back here undoes 1 transaction:$`, `^booking +0 +0 +17,000 +truncate$`)
	m.Plan, m.Why, m.Next, m.Cost, m.Kept = nil, "there is a hole", "Within reach: nothing", api.Cost{}, 2
	saying(t, func(w io.Writer) { drawMoment(w, m) }, `^restore +not possible: there is a hole$`, `^ +Within reach: nothing$`,
		`^Nothing that is known was committed later: going back here undoes nothing\.$`)
	saying(t, func(w io.Writer) { drawCost(w, api.Cost{Transactions: 3}) },
		`^Going back here undoes 3 transactions, none of which changed a table\.$`)

	saying(t, func(w io.Writer) { drawTransaction(w, x) }, `^transaction +4294967303$`, `^committed +2027`,
		`^first record +0/4000000, or earlier: it may have begun before the captured WAL`, `^sub-transactions +1,200$`,
		`^incident +17,000 rows of booking were deleted$`, `^booking +0 +0 +17,000 +truncate$`)
	x.Committed, x.Tables = false, nil
	saying(t, func(w io.Writer) { drawTransaction(w, x) }, `^rolled back +2027`, `^It changed no table\.$`)
	saying(t, func(w io.Writer) { drawChanges(w, api.Changes{}) }, `^No transaction in the captured WAL matches\.$`)
	saying(t, func(w io.Writer) { drawChanges(w, api.Changes{Transactions: []api.Transaction{x}, More: true}) },
		`^ *4294967303 .* saltmarsh .*rolled back`, `^There are more: ask for more with --limit`)
	saying(t, func(w io.Writer) { drawIncidents(w, nil) }, `^No incidents\.$`)
	saying(t, func(w io.Writer) {
		drawIncidents(w, []api.Incident{{XID: 7, Time: noon, Reasons: []string{"a", "b"}}, {XID: 8, Time: noon, Settled: &noon}})
	}, `^ +7 .* a; b +no$`, `^ +8 .* 2027-03-10 `)
}

func TestTasksAndCapturesAreDrawn(t *testing.T) {
	list := []api.Task{
		{ID: "a", Kind: "backup", Cluster: "ferries", State: "running", CreatedAt: noon, Done: 1 << 20, Total: 4 << 20, Unit: "bytes",
			Seconds: 61, Rate: 1 << 20, Left: ptr(3.0)},
		{ID: "b", Kind: "proof", State: "failed", CreatedAt: noon, Problem: &api.Problem{Detail: "low tide"}},
		{ID: "c", Kind: "audit", State: "done", CreatedAt: noon, Subject: "01c"},
	}
	saying(t, func(w io.Writer) { drawTasks(w, list) },
		`^a +backup +ferries +running .* 1m1s +1\.0 MiB of 4\.0 MiB \(25 %\), 1\.0 MiB/s, some 3\.0 s left`, `^b +proof .* low tide$`,
		`^c +audit .* 01c$`)
	saying(t, func(w io.Writer) { drawLog(w, []api.Line{{At: noon, Level: "warning", Text: "low tide"}}) }, ` ! low tide$`)
	k := api.Cluster{Capture: api.Capture{State: "retrying", Since: noon, Timeline: 3, Problem: "it cannot be reached", Flushed: 0x5000000,
		LagBytes: 3 << 20}}
	saying(t, func(w io.Writer) { drawCapture(w, k) }, `^capture +retrying since .*, timeline 3$`, `^problem +it cannot be reached$`,
		`^safe here to +0/5000000$`, `^server is at +.*, 3\.0 MiB ahead$`, `^complete to +not known yet \(server's clock\)$`)
}

func TestMendingIsShownBeforeItIsDone(t *testing.T) {
	r := api.ReadinessReport{Facts: api.ReadinessFacts{VersionText: "15.18"}, Checks: []api.ReadinessCheck{
		{ID: "slots", Title: "Replication slots", State: string(readiness.Needed), Found: "0", Why: "Capture needs one.",
			SQL: []string{"ALTER SYSTEM SET max_replication_slots = '10';"}, After: "restart", Effect: "Some memory."},
		{ID: "role", Title: "Rights", State: string(readiness.OK), Found: "all", SQL: []string{"GRANT nothing;"}},
	}}
	assert.Equal(t, []string{"slots"}, fixable(r, nil), "what is right is left alone")
	assert.Equal(t, []string{"role"}, fixable(r, []string{"role"}), "but for what was named")
	saying(t, func(w io.Writer) { drawFixes(w, r, []string{"slots"}) }, `^This would be run:$`, `^  -- Replication slots: 0$`,
		`^  ALTER SYSTEM SET max_replication_slots = '10';$`, `^  -- takes effect after a restart\. Some memory\.$`)
	saying(t, func(w io.Writer) {
		drawFixed(w, api.Fixed{Applied: api.ReadinessApplied{SQL: []string{"GRANT x;"}, Reloaded: true, Restart: true}, Report: r})
	}, `^run: GRANT x;$`, `^The server read its configuration again\.$`, `^Some of it takes effect only when the server is restarted`)
}

// TestListsOfClustersAreReadStrictly reads files as `cluster register` takes them.
func TestListsOfClustersAreReadStrictly(t *testing.T) {
	read := func(content string) ([]listed, error) {
		path := filepath.Join(t.TempDir(), "clusters.yaml")
		require.NoError(t, os.WriteFile(path, []byte(content), 0o600))
		return readList(path)
	}
	list, err := read("clusters:\n- name: ferries\n  connect: host=db1\n  labels: {fleet: outer}\n  no-base: true\n- {name: berths, " +
		"connect: host=db2}\n")
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.Equal(t, map[string]string{"fleet": "outer"}, list[0].Labels)
	for content, says := range map[string]string{
		"clusters:\n- name: ferries\n":                                  "cluster 1 lacks its name or how to connect",
		"clusters:\n- {name: a, connect: x}\n- {name: a, connect: y}\n": "a is there twice",
		"clusters:\n- {name: a, connect: x, password: in the clear}\n":  "it lists clusters, each with name",
		"clusters: 7": "it lists clusters",
		"clusters:\n- {name: a, connect: x}\n- {connect: y}\n": "cluster 2 lacks its name",
		"- {name: a, connect: x}":                              "it lists clusters",
	} {
		_, err := read(content)
		assert.ErrorContains(t, err, says, content)
	}
	_, err = readList(filepath.Join(t.TempDir(), "nowhere"))
	assert.ErrorIs(t, err, os.ErrNotExist)
}
