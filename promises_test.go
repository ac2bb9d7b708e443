package velvetrewind

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// promises says which test refuses what the invariant of a package says never happens: package, promise, the test
// and the directory that it is in.
var promises = [][4]string{
	{"core/attention", "what is merely young is no need", "TestNeeds", "core/attention"},
	{"core/blocks", "every page that a record refers to is in the set", "TestSinceIsEnough", "core/blocks"},
	{"core/calendar", "a time that comes twice is due the first time only", "TestUpcoming", "core/calendar"},
	{"core/handover", "a line of the list is what b2sum reads", "TestSumLine", "core/handover"},
	{"core/inventory", "what nothing is known of is never called expendable", "TestFindingsAgainstAModel", "core/inventory"},
	{"core/journal", "nothing of what was rolled back is handed over", "TestJournalAgainstAModel", "core/journal"},
	{"core/keep", "a cluster never loses its newest base", "TestDecide", "core/keep"},
	{"core/layout", "no byte is handed over that was not written there", "TestDamageIsAlwaysNoticed", "core/layout"},
	{"core/layout", "nor a clean end of what was cut short", "TestAFrameLeftOutIsNoticed", "core/layout"},
	{"core/moment", "a time without a zone is never guessed", "TestParse", "core/moment"},
	{"core/pg", "nothing opens a file or a connection", "TestCoreIsPure", "."},
	{"core/partial", "lacking only where everything that it was ever known as is part of a table that nobody asked for", "TestSpares",
		"core/partial"},
	{"core/plan", "a plan names only what is there", "TestPlanAgainstAModel", "core/plan"},
	{"core/problem", "a Problem's texts hold no secrets", "TestStolenPasswords", "cmd/velvet"},
	{"core/proof", "what could not be observed is never passed", "TestPages", "core/proof"},
	{"core/proof/report", "no name or value from a cluster is taken for markup", "TestReport", "core/proof/report"},
	{"core/reach", "a span is only what can be restored", "TestReachAgainstAModel", "core/reach"},
	{"core/readiness", "what could not be found out is never taken for good", "TestJudge", "core/readiness"},
	{"core/rehearsal", "a cluster that was never proved comes before any that was", "TestNextIsFair", "core/rehearsal"},
	{"core/repair", "a page is relied on where it is the base's", "TestWhatIsLeftIsRight", "core/repair"},
	{"core/rescue", "a row that somebody has changed since is never overwritten unless a rule names it", "TestRescue", "cmd/velvet"},
	{"core/rows", "of every other it is told where it lay", "TestRowsAgainstAModel", "core/rows"},
	{"core/value", "there is no value but the reason why", "TestRead", "core/value"},
	{"core/wal", "what cannot be read is never a guess", "TestDamageIsNeverReadAsRecords", "core/wal"},
	{"engine/agent", "nothing is read, written, removed or started outside of that directory", "TestWhatAHostRefuses", "service/hosts"},
	{"engine/agent/remote", "where it cannot be asked that is an error", "TestCopiesOnAHost", "cmd/velvet"},
	{"engine/archive", "a segment that moves meanwhile is found in either", "TestQueriesAgainstAModel", "engine/changes"},
	{"engine/backup", "what has no manifest is not a backup", "TestLifeOfBaseBackups", "engine/backup"},
	{"engine/capture", "nothing is called safe that is not", "TestWhatIsSafeStaysSafe", "cmd/velvet"},
	{"engine/catalog", "a backup is recorded only after its manifest is in the store", "TestEndToEnd", "cmd/velvet"},
	{"engine/catalog/private", "a directory that was ever in use is never removed", "TestOwnCatalogue", "cmd/velvet"},
	{"engine/catalog/seal", "a key that others may read is refused", "TestKeyFilesThatOthersReadAreRefused", "engine/catalog/seal"},
	{"engine/changes", "a damaged index is made again", "TestJournal", "cmd/velvet"},
	{"engine/changes", "an answer covers all that is captured", "TestQueriesAgainstAModel", "engine/changes"},
	{"engine/host", "PostgreSQL never runs as root", "TestFilesBelongToTheOSUser", "engine/host"},
	{"engine/host/disk", "every call by which something could be lost can fail in tests", "TestEveryCallFailsOnce", "engine/capture"},
	{"engine/host/identity", "what a host has runs out within a month", "TestCertificates", "service/hosts"},
	{"engine/host/wire", "versions that differ by one release work together", "TestQuestions", "engine/host/wire"},
	{"engine/prove", "it reads only", "TestHostileOwner", "cmd/velvet"},
	{"engine/retrieve", "if the session or the service dies, nothing was", "TestRescueIsKilled", "cmd/velvet"},
	{"engine/restore", "every byte was verified", "TestManifestsThatLie", "engine/restore"},
	{"engine/restore/copies", "a copy never disturbs its original", "TestEndToEnd", "cmd/velvet"},
	{"engine/restore/leftovers", "what is recorded as somebody's is never removed here", "TestLeftovers", "cmd/velvet"},
	{"engine/restore/repair", "no server can start on it", "TestARepairIsKilled", "cmd/velvet"},
	{"engine/restore/files", "one without the list of its files is not whole", "TestFilesThatBreakOff", "cmd/velvet"},
	{"engine/restore/feed", "not there is only ever said of what is not needed", "TestDeliveryWithoutTheService", "engine/restore/feed"},
	{"engine/restore/takeover", "going back leaves everything where it was", "TestTakeoversThatEndOnTheirWay", "engine/restore/takeover"},
	{"engine/restore/takeover", "no client reaches the copy before it stands in its place", "TestTakeover", "cmd/velvet"},
	{"engine/schedule", "of those that were missed only the newest is caught up", "TestScheduler", "engine/schedule"},
	{"engine/server/access", "a password in a connection string is refused", "TestConnectionStringsWithSecretsAreRefused",
		"engine/server/access"},
	{"engine/server/names", "a name once learned is never forgotten or changed", "TestNamesAreFollowed", "engine/server/names"},
	{"engine/server/remains", "nothing in the directory is changed", "TestWhatIsLeft", "engine/server/remains"},
	{"engine/server/replication", "the server hears only what was passed to Report", "TestStreamMessages", "engine/server/replication"},
	{"engine/server/survey", "Apply runs only the statements that a person was shown", "TestGettingReady", "cmd/velvet"},
	{"engine/spool", "a segment has its final name only when every byte of it is safe", "TestSpoolAgainstAModel", "engine/spool"},
	{"engine/store", "objects are never changed", "TestConformance", "engine/store/dir"},
	{"engine/store/deposit", "an installation replaces only its own", "TestClonedCatalogue", "cmd/velvet"},
	{"engine/store/deposit", "passwords are in it only sealed", "TestRebuild", "cmd/velvet"},
	{"engine/store/dir", "an object is flushed before Commit returns", "TestEveryCallFailsOnce", "engine/capture"},
	{"engine/store/notice", "nothing is due before its time", "TestNothingIsDueBeforeItsTime", "engine/store/notice"},
	{"engine/store/place", "kept only where the servers' OS user alone reads", "TestTicketsEnd", "cmd/velvet"},
	{"engine/store/s3", "what an upload that never ended left is no object", "TestConformance", "engine/store/s3"},
	{"engine/store/vault", "a map of other extents is an error", "TestManifestsThatLie", "engine/restore"},
	{"engine/store/vault", "nothing but the record is written in the clear", "TestObjectsThatAreNotOurs", "engine/store/vault"},
	{"engine/upkeep/audit", "it changes nothing in a store unless asked to", "TestAudit", "cmd/velvet"},
	{"engine/upkeep/mirror", "a damaged object is not copied", "TestWhatIsCopied", "engine/upkeep/mirror"},
	{"engine/upkeep/rebuild", "a cluster that the catalogue knows is left alone", "TestRebuild", "cmd/velvet"},
	{"engine/upkeep/retention", "restores never use what goes", "TestDropsAtAnyMoment", "cmd/velvet"},
}

// TestEveryPromiseHasItsTest holds that whoever writes into an invariant that something is refused, or happens only
// so or never, also names the test that shows it.
func TestEveryPromiseHasItsTest(t *testing.T) {
	strong := regexp.MustCompile(`\b(refused?|never|only|nothing|no)\b`)
	kept := make(map[string]bool)
	for _, p := range promises {
		kept[p[0]] = true
		tests, err := filepath.Glob(filepath.Join(p[3], "*_test.go"))
		require.NoError(t, err)
		found := false
		for _, file := range tests {
			content, err := os.ReadFile(file)
			require.NoError(t, err)
			found = found || strings.Contains(string(content), "func "+p[2]+"(")
		}
		assert.True(t, found, "%s promises that %s: there is no %s in %s", p[0], p[1], p[2], p[3])
	}
	for _, room := range []string{"core", "engine"} {
		require.NoError(t, filepath.WalkDir(room, func(file string, d fs.DirEntry, err error) error {
			require.NoError(t, err)
			if filepath.Ext(file) != ".go" || strings.HasSuffix(file, "_test.go") {
				return nil
			}
			content, err := os.ReadFile(file)
			require.NoError(t, err)
			if _, invariant, ok := strings.Cut(string(content), "// Invariant:"); ok {
				invariant, _, _ = strings.Cut(invariant, "\npackage ")
				dir := filepath.ToSlash(filepath.Dir(file))
				assert.True(t, kept[dir] || !strong.MatchString(invariant), "the invariant of %s has no test in promises", dir)
			}
			return nil
		}))
	}
}
