package main

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/api"
	"velvetrewind/testbed"
)

// browser is a page of headless Chromium.
type browser struct {
	*testing.T
	ctx  context.Context
	base string
	axe  string // the accessibility checker's program
}

func newBrowser(t *testing.T, base string) *browser {
	axe, err := os.ReadFile(filepath.Join("..", "..", "console", "node_modules", "axe-core", "axe.min.js"))
	require.NoError(t, err)
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.NoSandbox, chromedp.DisableGPU, chromedp.WindowSize(1280, 800),
		chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update", true),
		chromedp.Flag("disable-sync", true),
		chromedp.Flag("disable-quic", true), chromedp.UserDataDir(t.TempDir()))
	allocator, cancel := chromedp.NewExecAllocator(context.Background(), options...)
	t.Cleanup(cancel)
	ctx, cancel := chromedp.NewContext(allocator)
	t.Cleanup(cancel)
	require.NoError(t, chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800)))
	return &browser{T: t, ctx: ctx, base: base, axe: string(axe)}
}

func (b *browser) do(steps ...chromedp.Action[chromedp.Void]) {
	b.Helper()
	ctx, cancel := context.WithTimeout(b.ctx, time.Minute)
	defer cancel()
	if err := chromedp.Do(ctx, steps...); err != nil {
		require.NoError(b, err, "the page shows:\n%s", b.text())
	}
}

func eval[T any](b *browser, script string) T {
	b.Helper()
	v, err := chromedp.Run(b.ctx, chromedp.Evaluate[T](script))
	require.NoError(b, err, script)
	return v
}

func (b *browser) text() string {
	v, _ := chromedp.Run(b.ctx, chromedp.Evaluate[string]("document.body.innerText"))
	return v
}

// sees waits until the page shows all of the texts.
func (b *browser) sees(texts ...string) {
	b.Helper()
	for _, want := range texts {
		ok := assert.Eventually(b, func() bool { return strings.Contains(b.text(), want) }, time.Minute, 100*time.Millisecond,
			"seeing %q", want)
		require.True(b, ok, "%q was not seen; the page shows:\n%s", want, b.text())
	}
}

func (b *browser) open(path string) { b.Helper(); b.do(chromedp.Navigate(b.base + path)) }

// press clicks the button or link with the given text.
func (b *browser) press(label string) {
	b.Helper()
	script := fmt.Sprintf(`(() => {
		const e = [...document.querySelectorAll("button, a")].find(e => e.innerText.trim() === %q && !e.disabled);
		e?.click(); return !!e })()`, label)
	require.Eventually(b, func() bool { return eval[bool](b, script) }, time.Minute, 100*time.Millisecond,
		"pressing %q; the page shows:\n%s", label, b.text())
}

const momentField = `input[aria-describedby="meaning"]`

// write replaces what stands in the moment field.
func (b *browser) write(moment string) {
	b.Helper()
	b.do(chromedp.WaitVisible(chromedp.CSS(momentField)))
	eval[bool](b, fmt.Sprintf(`(() => { const f = document.querySelector(%q); f.focus(); f.select(); return true })()`, momentField))
	b.do(chromedp.SendKeys(chromedp.CSS(momentField), moment))
}

// accessible runs the accessibility checker on the page in both sets of colours.
func (b *browser) accessible(page string) {
	b.Helper()
	eval[bool](b, b.axe+"; true")
	for _, theme := range []string{"light", "dark"} {
		eval[bool](b, fmt.Sprintf(`document.documentElement.dataset.theme = %q; true`, theme))
		eval[bool](b, `window.axeResult = undefined; axe.run(document,
			{resultTypes: ["violations"]}).then(r => { window.axeResult = JSON.stringify(r.violations.map(
		v => v.id + ": " + v.nodes.map(n => n.html + " " + n.failureSummary).join(" | "))) }); true`)
		require.Eventually(b, func() bool { return eval[bool](b, "window.axeResult !== undefined") }, time.Minute, 50*time.Millisecond)
		var found []string
		require.NoError(b, json.Unmarshal([]byte(eval[string](b, "window.axeResult")), &found))
		assert.Empty(b, found, "%s, %s", page, theme)
		assert.False(b, eval[bool](b, "document.documentElement.scrollWidth > innerWidth"), "%s scrolls sideways at 1280", page)
	}
	eval[bool](b, "delete document.documentElement.dataset.theme; true")
}

// playhead waits until the playhead stands at a moment.
func (b *browser) playhead(moment string) {
	b.Helper()
	require.Eventually(b, func() bool {
		return eval[string](b, `document.querySelector("#meaning code")?.innerText ?? ""`) == moment
	}, time.Minute, 50*time.Millisecond, "the playhead at %q; the page shows:\n%s", moment, b.text())
}

// deckByKeys moves the playhead and the window without the mouse, from before a
// transaction whose neighbours changed rows too, and back there.
func (b *browser) deckByKeys(xid string) {
	b.Helper()
	b.do(chromedp.KeyEvent("\x1b")) // out of the moment field
	key := func(name string, shift bool) {
		eval[bool](b, fmt.Sprintf(`window.dispatchEvent(
		new KeyboardEvent("keydown", {key: %q, shiftKey: %t, bubbles: true, cancelable: true}))`, name, shift))
	}
	key("ArrowRight", false)
	b.playhead("tx " + xid)
	key("ArrowLeft", false)
	b.playhead("before tx " + xid)
	key("+", false)
	require.Eventually(b, func() bool { return strings.Contains(eval[string](b, "location.href"), "from=") }, time.Minute,
		50*time.Millisecond, "the window is in the address")
	b.accessible("the deck, closer")
	key("End", false)
	b.playhead("latest")
	b.sees("Nothing known was committed later")
	key("?", false)
	b.sees("to the incident before or after")
	b.accessible("the keys")
	b.press("Close")
	key("l", false)
	require.Eventually(b, func() bool { return !strings.Contains(eval[string](b, "location.href"), "from=") }, time.Minute,
		50*time.Millisecond, "all of the reach again")
	b.write("before tx " + xid)
	b.playhead("before tx " + xid)
}

// TestIncidentAtTheConsole deletes everything and finds the way to just before it.
func TestIncidentAtTheConsole(t *testing.T) {
	s := newStage(t)
	s.protect()
	s.service.Must("backup", "take", "ferries", "--checkpoint", "fast")
	xid := s.in("delete from booking")
	s.captured()
	b := newBrowser(t, s.service.URL)
	b.do(chromedp.Navigate(s.service.Link))
	b.sees("One cluster needs attention", "20,000 rows of booking were deleted", "by tx "+xid)
	b.accessible("an incident")
	b.press("Go to just before it")
	b.playhead("before tx " + xid)
	b.sees("−20,000", "▲ incident", "Going back here undoes 1 transaction")
	b.write("latest")
	b.playhead("latest")
	eval[bool](b, `document.activeElement.blur();
		window.dispatchEvent(new KeyboardEvent("keydown", {key: "ArrowLeft", shiftKey: true, bubbles: true, cancelable: true}))`)
	b.playhead("before tx " + xid)
	b.accessible("before an incident")
	b.press("Intended")
	require.Eventually(t, func() bool { return !strings.Contains(b.text(), "Intended") }, time.Minute, 100*time.Millisecond)
	b.open("/")
	b.sees("Every cluster is captured and can be rewound.")
}

// TestConsole does the whole job as a person at the console would.
func TestConsole(t *testing.T) {
	s := newStage(t)
	b := newBrowser(t, s.service.URL)
	b.open("/")
	b.sees("You are not signed in", "velvet login")
	b.do(chromedp.Navigate(s.service.Link))
	b.sees("No cluster is protected yet.", "velvet cluster add NAME")
	assert.NotContains(t, eval[string](b, "location.href"), "enter", "the code stays in no history")
	b.accessible("empty")

	s.protect()
	b.open("/")
	b.sees("One cluster needs attention", "There is no base backup")
	b.press("Take a base backup")
	b.sees("Every cluster is captured and can be rewound.", "streaming")
	b.accessible("clusters")

	s.commit(1)
	xid := s.commit(2)
	s.commit(3)
	s.captured()
	b.press("ferries")
	b.sees("can be rewound to any moment since", "Base backups", "None. Write a moment above", "Transactions around the playhead",
		"Nothing known was committed later")
	b.write("before tx twelve")
	b.sees(`"twelve" is not a transaction id`)
	for range 30 { // it stays while it is asked again
		require.Equal(t, strings.Repeat(" ", len("before tx "))+"▲",
			eval[string](b, `document.querySelector("[role=alert] pre")?.textContent ?? ""`), "the error points at its place")
		time.Sleep(20 * time.Millisecond) // not to wait for anything: to look while events come
	}
	b.accessible("a wrong moment")
	b.write("before tx 1999999999")
	b.sees("the moment is out of reach", "Within reach: ")
	b.write("before tx " + xid)
	b.sees("first out: tx "+xid, "replay stops before the record at", "kept", "Going back here undoes 2 transactions", "journal")
	assert.Contains(t, eval[string](b, "location.href"), "moment=before", "the moment is in the address")
	assert.Contains(t, eval[string](b, `document.querySelector("svg[role=img]").getAttribute("aria-label")`), "playhead at before tx "+xid)
	b.accessible("a moment")
	b.deckByKeys(xid)

	b.press("Make a side copy here")
	b.sees("The copy stands at its moment, read-only.", "before tx "+xid)
	b.press("Prove it")
	b.sees("The proof passed", "public.journal", "tx "+xid)
	b.accessible("a proved copy")
	var list []api.Copy
	s.service.JSON(&list, "copy", "list")
	require.Len(t, list, 1)
	assert.Equal(t, "paused", list[0].State)
	assert.NotEmpty(t, list[0].Task, "the copy knows the task that makes it, whose progress the page shows")

	b.write("tx " + xid) // not the right place: the same copy after the transaction
	b.sees("replay stops after the record at", "last in: tx "+xid)
	b.press("Move the copy there")
	b.sees("ferries · copy ferries-1 at tx "+xid, "The copy stands at its moment, read-only.", "Prove it")
	assert.NotContains(t, b.text(), "The proof passed", "that was of the other moment")
	s.service.JSON(&list, "copy", "list")
	assert.Equal(t, []string{"paused", "tx " + xid}, []string{list[0].State, list[0].Moment})
	b.accessible("a moved copy")

	b.press("Discard")
	b.sees("what was changed in the copy is lost")
	assert.True(t, eval[bool](b, `[...document.querySelectorAll("[role=dialog] button")].find(e => e.innerText === "Discard").disabled`),
		"nothing is lost before the name is typed")
	b.accessible("the question before a loss")
	b.do(chromedp.SendKeys(chromedp.CSS("[role=dialog] input"), "ferries"))
	eval[bool](b, `[...document.querySelectorAll("[role=dialog] button")].find(e => e.innerText === "Discard").click(); true`)
	b.sees("The copy has been discarded.")
	assert.NoDirExists(t, list[0].Directory)

	b.open("/tasks")
	b.sees("backup", "side copy", "proof", "discard copy", "done")
	b.accessible("tasks")
	var tasks []api.Task
	s.service.JSON(&tasks, "task", "list")
	b.open("/tasks/" + tasks[len(tasks)-1].ID)
	b.sees("capture holds the WAL")
	b.accessible("a task")

	// Pages that were left keep no connection, of which there are six: the eighth still gets one,
	// and does not wait for a minute until the browser forgets the first.
	for range 4 {
		for path, shows := range map[string]string{"/store": "By cluster", "/calendar": "Nothing is scheduled yet"} {
			ctx, cancel := context.WithTimeout(b.ctx, 20*time.Second)
			require.NoError(t, chromedp.Do(ctx, chromedp.Navigate(b.base+path)), path)
			cancel()
			b.sees(shows)
		}
	}

	// Whole ways by keyboard: the moment field is reached by its key, and what has the focus shows it.
	b.open("/clusters/ferries")
	b.sees("can be rewound")
	b.do(chromedp.KeyEvent("/"))
	assert.Equal(t, "meaning", eval[string](b, `document.activeElement.getAttribute("aria-describedby")`))
	b.do(chromedp.KeyEvent("\t"))
	assert.NotEqual(t, "none", eval[string](b, `getComputedStyle(document.activeElement).outlineStyle`))
	assert.Zero(t, eval[int](b, `performance.getEntriesByType("resource").filter(e => !e.name.startsWith(location.origin)).length`),
		"nothing is fetched from outside")

	// What happens elsewhere is seen without a reload.
	s.service.Must("capture", "stop", "ferries")
	b.sees("Start the capture")
}

// TestStoreAtTheConsole looks at the store and its base backups, finds damage, and drops
// a backup.
func TestStoreAtTheConsole(t *testing.T) {
	s := newStage(t)
	b := newBrowser(t, s.service.URL)
	b.do(chromedp.Navigate(s.service.Link))
	b.press("Store")
	b.sees("Nothing is kept yet", "with data key 1", "none: a lost disk loses every backup")
	b.accessible("an empty store")
	s.protect()
	s.service.Must("backup", "take", "ferries", "--checkpoint", "fast")
	s.commit(1)
	s.exec("select pg_switch_wal()")
	s.service.Must("backup", "take", "ferries", "--checkpoint", "fast")
	var list []api.Backup
	s.service.JSON(&list, "backup", "list", "ferries")

	name := list[0].ID[len(list[0].ID)-8:] // as ids are shown
	b.open("/clusters/ferries")
	b.press(name)
	b.sees("incremental: only what had changed was read", "compared with", "every one right", "public.booking", "template0",
		"Largest tables", "How it was taken", "is complete")
	b.accessible("a base backup")
	b.press("Drop it")
	b.sees("frees", "every moment can still be reached with the others")
	b.accessible("the question before a drop")
	b.do(chromedp.SendKeys(chromedp.CSS("[role=dialog] input"), "ferries"))
	eval[bool](b, `[...document.querySelectorAll("[role=dialog] button")].find(e => e.innerText === "Drop it").click(); true`)
	b.sees("can be rewound to any moment since")
	require.Eventually(t, func() bool { return !strings.Contains(b.text(), name) }, time.Minute, 100*time.Millisecond)

	b.open("/store")
	b.sees("ferries", "Use over time", "never")
	b.press("Check presence")
	b.sees("by presence: everything that is needed is there")
	b.accessible("a store")
	require.NoError(t, os.Remove(s.Path("home", "store", "clusters", s.cluster().ID, "packs", list[1].ID+"-000001")))
	b.press("Read every byte")
	b.sees("Findings of the newest audit", "1 base backup cannot be restored", "missing")
	b.accessible("a damaged store")
}

// TestDailyLifeAtTheConsole gets a cluster ready, gives it a calendar and a keep rule, and
// deletes what the rule does not need, without the command line.
func TestDailyLifeAtTheConsole(t *testing.T) {
	s := newStage(t)
	s.protect()
	s.exec("revoke pg_read_all_data from velvet")
	for range 2 {
		s.service.Must("backup", "take", "ferries", "--checkpoint", "fast")
		s.exec("insert into journal select coalesce(max(n), 0) + 1 from journal")
		s.exec("select pg_switch_wal()")
	}
	s.captured()
	b := newBrowser(t, s.service.URL)
	b.do(chromedp.Navigate(s.service.Link))
	b.sees("Every cluster is captured and can be rewound.", "ferries", "1 of 1")
	b.accessible("the first page")
	b.open("/?q=fleet%3Douter")
	b.sees("No cluster fits")

	b.open("/clusters/ferries/readiness")
	b.sees("1 advised", "Reading every table: the role velvet may not read every table", `GRANT pg_read_all_data TO "velvet";`)
	b.accessible("readiness")
	fields := `[...document.querySelectorAll("main form input")]`
	for i, text := range []string{testbed.Superuser, testbed.Password, "ferries"} {
		eval[bool](b, fmt.Sprintf("%s[%d].focus(); %s[%d].select(); true", fields, i, fields, i))
		b.do(chromedp.SendKeys(chromedp.CSS(fmt.Sprintf("main form label:nth-of-type(%d) input", i+1)), text))
	}
	b.press("Run it and check again")
	b.sees("ferries lacks nothing")

	b.open("/clusters/ferries/calendar")
	b.sees("Nothing is scheduled yet", "Next runs, every day at 02:30")
	b.accessible("an empty calendar")
	b.press("Save")
	b.sees("Recurring work", "backup auto", "every day at 02:30")
	b.accessible("a calendar")
	b.press("Pause")
	b.sees("paused")

	s.service.Must("keep", "set", "ferries", "--newest", "1")
	b.open("/clusters/ferries/keep")
	b.sees("The promise is held", "1 base backup and", "needed", "releasable", "older than what is promised", "reach after")
	b.accessible("what is kept")
	b.press("Delete them")
	b.do(chromedp.SendKeys(chromedp.CSS("[role=dialog] input"), "ferries"))
	eval[bool](b, `[...document.querySelectorAll("[role=dialog] button")].find(e => e.innerText === "Delete them").click(); true`)
	s.Eventually("one is left", func() bool {
		var list []api.Backup
		s.service.JSON(&list, "backup", "list", "ferries")
		return len(list) == 1
	})
	b.open("/clusters/ferries/keep?asOf=2031-01-31")
	b.sees("Everything is still needed: nothing would be deleted.")

	b.open("/reports")
	b.sees("2 base backups read", "(deleted)", "As CSV")
	b.accessible("the report")
	b.open("/tasks?kind=keep+run")
	b.sees("keep run", "done")
	b.accessible("tasks")
}
