package main

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/api"
)

// TestProofsAndRehearsals proves a copy with checks of the DBA's own, has the proof written down in every form, and rehearses:
// by hand, by itself after the first base backup, and by the calendar; a base that cannot be read fails, and is said.
func TestProofsAndRehearsals(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.protect()
	s.ferries.Exec("postgres", "create role purser login", "grant select on booking, journal to purser")
	s.take()
	s.commit(1)
	s.captured()
	k, conn := s.restore("latest")
	require.NoError(t, conn.Close(t.Context()))
	s.ownChecks(t, k)
	s.reports(t, k)
	s.discard(k)
	s.rehearse(t)
}

func (s *stage) check(name, sql, expects string, more ...string) []string {
	file := s.Path(name + ".sql")
	require.NoError(s, os.WriteFile(file, []byte(sql), 0o600))
	return append([]string{"prove", "checks", "set", "ferries", name, "--file", file, "--database", "postgres", "--role", "purser",
		"--expects", expects}, more...)
}

func (s *stage) ownChecks(t *testing.T, k api.Copy) {
	assert.Contains(t, s.service.Must("prove", "checks", "list", "ferries"), "no checks")
	s.service.Must(s.check("bookings", "select count(*) from booking", "value 20000")...)
	s.service.Must(s.check("voyage", "select n from journal", "same as last time")...)
	assert.Contains(t, s.service.Velvet("prove", "run", k.ID).Out, "there is nothing to compare it with", "the first time")
	assert.Contains(t, s.service.Must("prove", "run", k.ID), "verdict: passed")
	assert.Contains(t, s.service.Must(s.check("bookings", "select count(*) from booking", "value ..19999")...), "version 2")
	assert.Contains(t, s.service.Must(s.check("bookings", "select count(*) from booking", "value ..19999")...), "version 2",
		"nothing has changed")
	r := s.service.Velvet("prove", "run", k.ID)
	assert.Equal(t, 4, r.Code)
	assert.Contains(t, r.Out, "value ..19999 expected; it is 20000")
	s.service.Must(s.check("bookings", "select count(*) from payment", "some rows")...)
	assert.Contains(t, s.service.Velvet("prove", "run", k.ID).Out, "permission denied for table payment")
	s.service.Must(s.check("bookings", "select 1", "same as live")...)
	assert.Contains(t, s.service.Velvet("prove", "run", k.ID).Out, "it can be run only as velvet")
	assert.Contains(t, s.service.Must("prove", "checks", "show", "ferries", "bookings"), "version 1")
	for says, args := range map[string][]string{
		"has no value":          s.check("tide", "select 1", "value"),
		"is no expectation":     s.check("tide", "select 1", "whatever"),
		"cannot be the name":    s.check("commits!", "select 1", "no rows"),
		"no check named":        {"prove", "checks", "show", "ferries", "nobody"},
		"there is no check nam": {"prove", "checks", "remove", "ferries", "nobody"},
	} {
		s.refused(1, []string{says}, args...)
	}
	s.service.Must("prove", "checks", "remove", "ferries", "bookings")
	s.service.Must("prove", "checks", "remove", "ferries", "voyage")
	assert.Contains(t, s.service.Must("prove", "checks", "list", "ferries"), "no checks")
	assert.Contains(t, s.service.Must("prove", "run", k.ID), "verdict: passed")
}

func (s *stage) reports(t *testing.T, k api.Copy) {
	read := func(format string) []byte {
		file := s.Path("report." + format)
		s.service.Must("prove", "report", k.ID, "--format", format, "--to", file)
		content, err := os.ReadFile(file)
		require.NoError(t, err)
		return content
	}
	page := read("html")
	sum := sha256.Sum256(page)
	assert.Contains(t, s.service.Must("prove", "show", k.ID), hex.EncodeToString(sum[:]), "the hash is kept beside")
	var acts []api.TrailEntry
	s.decode(s.service.Must("trail", "--cluster", "ferries", "--output", "json"), &acts)
	at := slices.IndexFunc(acts, func(e api.TrailEntry) bool { return strings.Contains(e.Outcome, hex.EncodeToString(sum[:])) })
	require.GreaterOrEqual(t, at, 0, "the hash of the report is in the trail")
	assert.Equal(t, "verdict", acts[at].Did)
	assert.True(t, slices.ContainsFunc(acts, func(e api.TrailEntry) bool {
		return e.Did == "make copy" && strings.HasSuffix(e.Who, ", with the owner's token") && e.From == "127.0.0.1" && e.Outcome == "done"
	}), "who asked for the copy is, too")
	assert.Contains(t, s.service.Must("trail", "check", acts[at].Hash), fmt.Sprintf("that of entry %d", acts[at].Number))
	s.refused(1, []string{"no entry has the hash"}, "trail", "check", strings.Repeat("0", 64))
	for _, want := range []string{"✓ passed", "laying out", "replay", "commit log", "public.booking"} {
		assert.Contains(t, string(page), want)
	}
	var proof api.Proof
	require.NoError(t, json.Unmarshal(read("json"), &proof))
	assert.Greater(t, len(proof.Checks), 20)
	assert.Equal(t, len(proof.Checks)+1, strings.Count(string(read("csv")), "\n"))
	require.NoError(t, xml.Unmarshal(read("junit"), new(struct {
		XMLName xml.Name `xml:"testsuite"`
	})))
	s.refused(1, []string{"exists"}, "prove", "report", k.ID, "--to", s.Path("report.html"))
	assert.Contains(t, s.service.Must("store", "audit"), "and nothing else")

	var running api.Task
	s.decode(s.service.Must("prove", "run", k.ID, "--detach", "--output", "json"), &running)
	s.refused(1, []string{"under way already"}, "prove", "run", k.ID)
	s.Eventually("the proof has ended", func() bool { return len(s.active()) == 0 })
}

func (s *stage) rehearse(t *testing.T) {
	var list []api.Rehearsal
	assert.Contains(t, s.service.Must("rehearse", "report"), "Whether any cluster could be brought back today is not known.")
	s.service.Must("rehearse", "objective", "ferries", "--back-within", "2h", "--losing-at-most", "1h")
	last := s.commit(2)
	s.captured()
	for _, pick := range []string{"latest", "random", "oldest", "before tx " + last} {
		s.service.Must("rehearse", "now", "ferries", "--pick", pick)
	}
	s.service.JSON(&list, "rehearse", "history", "ferries")
	require.Len(t, list, 4)
	for _, r := range list {
		assert.Equal(t, "passed", r.Outcome, r.Cause)
		assert.NotEmpty(t, r.Proof)
		assert.Positive(t, r.LaidOut)
		assert.Positive(t, r.Replayed)
		assert.Positive(t, r.Proved)
	}
	assert.NotNil(t, list[3].Lost, "how much latest would have lost")
	assert.Nil(t, list[3].Estimate, "nothing was measured before")
	assert.NotNil(t, list[0].Estimate)
	assert.Contains(t, s.service.Must("copy", "list"), "There is no copy")
	left, err := filepath.Glob(s.Path("home", "copies", "*"))
	require.NoError(t, err)
	assert.Empty(t, left)
	var d api.Digest
	s.service.JSON(&d, "rehearse", "report")
	assert.Equal(t, "The one cluster, ferries, could be brought back today.", d.First)
	assert.True(t, *d.Lines[0].Kept)
	s.service.Must("rehearse", "objective", "ferries", "--back-within", "1s")
	s.service.JSON(&d, "rehearse", "report")
	assert.False(t, *d.Lines[0].Kept)
	s.refused(1, []string{"begins no moment"}, "rehearse", "now", "ferries", "--pick", "whenever")

	packs, err := filepath.Glob(s.Path("home", "store", "clusters", "*", "packs", "*"))
	require.NoError(t, err)
	require.NotEmpty(t, packs)
	for _, p := range packs {
		require.NoError(t, os.Rename(p, p+".aside"))
	}
	s.service.Stop()
	s.service.With("--rehearsals-at-once", "1")
	s.service.Start()
	s.streaming()
	s.refused(4, nil, "rehearse", "now", "ferries")
	s.service.JSON(&list, "rehearse", "history", "ferries")
	assert.Equal(t, "no copy", list[0].Outcome)
	assert.Contains(t, s.service.Must("rehearse", "report"), "1 of 1 cluster could not be brought back today: ferries.")
	assert.Contains(t, s.service.Must("cluster", "list", "--attention"), "The rehearsal of")
	for _, p := range packs {
		require.NoError(t, os.Rename(p+".aside", p))
	}
	// What failed is tried again once, later; the calendar's wish for the same cluster does not double that, and begins it.
	s.service.Must("calendar", "add", "rehearsal", "--cluster", "ferries", "--cron", "* * * * *", "--kind", "random")
	s.Eventually("the calendar has it rehearsed", func() bool {
		s.service.JSON(&list, "rehearse", "history", "ferries")
		return list[0].Outcome == "passed" && list[0].AskedBy != "by hand"
	})
	assert.Contains(t, s.service.Must("rehearse", "report"), "The one cluster, ferries, could be brought back today.")
}
