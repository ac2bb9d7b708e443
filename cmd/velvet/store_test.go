package main

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"math/rand/v2"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/jackc/pgx/v5"
	"github.com/johannesboyne/gofakes3"
	"github.com/johannesboyne/gofakes3/backend/s3mem"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/api"
	"velvetrewind/core/inventory"
	"velvetrewind/core/layout"
	"velvetrewind/engine/backup"
	"velvetrewind/engine/store"
	"velvetrewind/testbed"
	"velvetrewind/testbed/storebed"
)

// objects lists the files of a store with their content, but its own record.
func (s *stage) objects(root string) map[string][]byte {
	all := make(map[string][]byte)
	require.NoError(s, filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) {
			return nil // a writer's file that has its name by now
		}
		if err != nil || d.IsDir() || strings.HasPrefix(d.Name(), "velvet-store") || strings.HasSuffix(path, ".unfinished") {
			return err
		}
		content, err := os.ReadFile(path)
		if err == nil {
			all[path] = content
		}
		return err
	}))
	return all
}

// refusesToStart runs the service with other settings, and reads why it does not start.
func (s *stage) refusesToStart(says string, args ...string) {
	s.Helper()
	key, err := os.ReadFile(s.Path("home", "key")) // every home that shares a catalogue has it
	require.NoError(s, err)
	require.NoError(s, os.MkdirAll(s.Path("other-home"), 0o711))
	require.NoError(s, os.WriteFile(s.Path("other-home", "key"), key, 0o600))
	cmd := exec.Command("timeout", append([]string{"20", s.service.Program(), "serve", "--listen", "127.0.0.1:0"}, args...)...)
	cmd.Env = append(os.Environ(), "VELVET_HOME="+s.Path("other-home"), "VELVET_CATALOGUE="+s.service.Catalogue)
	out, err := cmd.CombinedOutput()
	assert.Error(s, err, says)
	assert.Contains(s, string(out), says)
}

// secretWord is in the database, and must never be in a store in the clear.
const secretWord = "smugglers land at the old quay"

// TestEncryptedStore looks for secrets in a store, opens it with wrong keys, and rotates its key.
func TestEncryptedStore(t *testing.T) {
	s := newStage(t)
	s.protect()
	s.exec("insert into booking select n, '" + secretWord + " ' || n from generate_series(50001, 52000) n")
	s.service.Must("backup", "take", "ferries", "--checkpoint", "fast")
	s.exec("update booking set note = note || '" + secretWord + "' where id > 51900")
	s.exec("select pg_switch_wal()")
	s.captured()
	root := s.Path("home", "store")
	s.Eventually("WAL is in the store", func() bool { k := s.cluster().Capture; return k.Stored+16<<20 > k.Flushed })
	all := s.objects(root)
	require.Greater(t, len(all), 8)
	for path, content := range all {
		for _, secret := range []string{secretWord, "booking", "smugglers", rolePassword, "ferries"} {
			assert.False(t, bytes.Contains(content, []byte(secret)), "%s holds %q in the clear", path, secret)
		}
	}
	oldKey := s.service.StoreKey
	newKey, passphrase, wrong := s.Path("new-key"), s.Path("passphrase"), s.Path("wrong-key")
	escrow, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	other, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(newKey, []byte(escrow.String()), 0o600))
	require.NoError(t, os.WriteFile(wrong, []byte(other.String()), 0o600))
	require.NoError(t, os.WriteFile(passphrase, []byte("ebb and flow at Saltmarsh\n"), 0o600))
	s.refused(1, []string{"the store's key was not changed", "no such file"}, "store", "rekey", "--to", s.Path("nowhere"))
	s.refused(1, []string{"age1"}, "store", "rekey", "--to", passphrase, "--also", "gibberish", "--confirm", s.Path("home", "store"))
	r := s.service.Velvet("store", "rekey", "--to", "/etc/hostname")
	testbed.Attack(t, "who has the token, any file of the host as the store's key",
		!strings.Contains(r.Err, "does not lie in the directory of the store's key"))
	s.refused(3, []string{"opens it no more"}, "store", "rekey", "--to", passphrase)
	assert.Contains(t, s.service.Must("store", "rekey", "--to", passphrase, "--also", escrow.Recipient().String(), "--confirm",
		s.Path("home", "store")), "data key 2")
	assert.Equal(t, s.objectNames(all), s.objectNames(s.objects(root)), "nothing was written anew")
	s.commit(1)
	s.service.Must("backup", "take", "ferries", "--checkpoint", "fast")
	s.service.Stop()

	for says, args := range map[string][]string{
		"is encrypted; name the file":     {},
		"does not open the store":         {"--store-key", wrong},
		"the key in " + oldKey:            {"--store-key", oldKey},
		"at least 12 characters":          {"--store-key", s.short()},
		"choose an empty or a new place":  {"--store", s.Path("catalogue")},
		"is the data directory of a":      {"--store", s.ferries.DataDir},
		"lies within the data directory":  {"--store", filepath.Join(s.ferries.DataDir, "base", "store")},
		"choose auto or sql":              {"--read-data", "telepathy"},
		"the second store is the first":   {"--store", root, "--store-key", passphrase, "--second-store", root},
		"there is no bucket":              {"--store", noBucket(t)},
		"belongs to another installation": {"--store", root, "--store-key", passphrase, "--catalogue-of", "another"},
	} {
		if len(args) == 0 || args[0] == "--store-key" {
			args = append([]string{"--store", root}, args...)
		}
		if i := len(args) - 2; args[i] == "--catalogue-of" {
			mine := s.service.Catalogue
			s.service.Catalogue = s.Postgres("another-catalogue", false).DSN(testbed.Superuser, "postgres") + " password='" +
				testbed.Password + "'"
			s.refusesToStart(says, args[:i]...)
			s.service.Catalogue = mine
			continue
		}
		s.refusesToStart(says, args...)
	}
	for _, key := range []string{newKey, passphrase} {
		s.service.StoreKey = key
		s.service.With()
		s.service.Start()
		s.streaming()
		assert.Contains(t, s.service.Must("store", "show"), "with data key 2")
		assert.Contains(t, s.service.Must("store", "audit", "--full"), "and nothing else")
		s.service.Stop()
	}
	s.service.Start()
	s.streaming()
	s.commit(2)
	s.captured()
	k, conn := s.restore("latest")
	assert.Equal(t, "1,2", testbed.One[string](s.Bed, conn, numbersOf), "what was sealed with either key is read")
	s.discard(k)
}

func (s *stage) objectNames(all map[string][]byte) (names []string) {
	for path := range all {
		if strings.Contains(path, "/authors/") || strings.Contains(path, "/catalogue/") || strings.HasSuffix(path, "/deposit") {
			continue // which are written now and then
		}
		names = append(names, fmt.Sprint(path, len(all[path])))
	}
	slices.Sort(names)
	return names
}

// noBucket is a location whose bucket is not there.
func noBucket(t *testing.T) string {
	server := httptest.NewServer(gofakes3.New(s3mem.New()).Server())
	t.Cleanup(server.Close)
	t.Setenv("AWS_ACCESS_KEY_ID", "harbourmaster")
	t.Setenv("AWS_SECRET_ACCESS_KEY", secretOfBucket)
	return "s3://nothing/velvet?endpoint=" + server.URL
}

func (s *stage) short() string {
	path := s.Path("short")
	require.NoError(s, os.WriteFile(path, []byte("tide"), 0o600))
	return path
}

// TestSecondStore loses and damages what the first store holds.
func TestSecondStore(t *testing.T) {
	t.Parallel()
	bed := testbed.New(t)
	second := bed.Path("second")
	s := newStage(t, "--second-store", second)
	s.protect()
	s.service.Must("backup", "take", "ferries", "--checkpoint", "fast")
	for n := range 4 {
		s.commit(n)
		s.exec("select pg_switch_wal()")
	}
	s.service.Must("backup", "take", "ferries", "--checkpoint", "fast")
	s.commit(10)
	s.exec("select pg_switch_wal()")
	s.commit(11)
	s.captured()
	root := s.Path("home", "store")
	s.Eventually("everything is in both", func() bool {
		_, complete := s.indexes()
		return complete && strings.Contains(s.service.Must("store", "audit"), "and nothing else") &&
			len(s.objects(root)) == len(s.objects(second))
	})
	assert.NotContains(t, s.service.Must("store", "audit", "--full"), "does not have")
	whole := s.objects(root)

	random := rand.New(rand.NewPCG(1, 9))
	s.breakStore(random, whole, 12)
	r := s.service.Velvet("store", "audit", "--full")
	assert.Zero(t, r.Code, "nothing is lost while the second store has it: %s%s", r.Out, r.Err)
	assert.Contains(t, r.Out, "the second store has it whole")
	k, conn := s.restore("latest")
	assert.Equal(t, "0,1,2,3,10,11", testbed.One[string](s.Bed, conn, numbersOf))
	assert.Contains(t, s.service.Must("prove", "run", k.ID), "verdict: passed")
	s.discard(k)
	assert.Contains(t, s.service.Must("store", "audit", "--full", "--fix"), "fixed")
	after := s.objects(root)
	maps.DeleteFunc(after, func(path string, _ []byte) bool { return strings.Contains(path, "/proofs/") })
	assert.Equal(t, whole, after, "every byte is as it was, but for the report of the proof")
	assert.Contains(t, s.service.Must("store", "audit", "--full"), "and nothing else")

	// The other way round, and a backup that is dropped goes from both.
	for path, content := range s.objects(second) {
		if strings.Contains(path, "/packs/") {
			flip(t, path, content, random)
		}
	}
	assert.Contains(t, s.service.Must("store", "audit", "--full", "--fix"), "fixed")
	assert.Contains(t, s.service.Must("store", "audit", "--full"), "and nothing else")
	var list []api.Backup
	s.service.JSON(&list, "backup", "list", "ferries")
	for _, b := range list {
		s.service.Must("backup", "drop", b.ID, "--confirm", "ferries")
	}
	for _, place := range []string{root, second} {
		for path := range s.objects(place) {
			assert.NotContains(t, path, "/packs/")
			assert.NotContains(t, path, "/bases/")
		}
	}
}

func flip(t *testing.T, path string, content []byte, random *rand.Rand) {
	flipAmong(t, path, content, len(content), random)
}

func flipAmong(t *testing.T, path string, content []byte, n int, random *rand.Rand) {
	bad := bytes.Clone(content)
	bad[random.IntN(n)] ^= byte(1 << random.IntN(8))
	require.NoError(t, os.WriteFile(path, bad, 0o640))
}

// breakStore flips a bit of some objects and removes others.
func (s *stage) breakStore(random *rand.Rand, whole map[string][]byte, n int) (broken []string) {
	var paths []string
	for p := range whole {
		paths = append(paths, p)
	}
	slices.Sort(paths)
	random.Shuffle(len(paths), func(i, j int) { paths[i], paths[j] = paths[j], paths[i] })
	for i, p := range paths[:min(n, len(paths))] {
		if i%3 == 0 {
			require.NoError(s, os.Remove(p))
		} else {
			bad := bytes.Clone(whole[p])
			bad[random.IntN(len(bad))] ^= byte(1 << random.IntN(8))
			require.NoError(s, os.WriteFile(p, bad, 0o640))
		}
		broken = append(broken, p)
	}
	return broken
}

// TestAFlippedBitIsFound flips one bit at a time anywhere in a store without a second
// one: the audit names that very object, and a restore that reads it fails.
func TestAFlippedBitIsFound(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.protect()
	s.service.Must("backup", "take", "ferries", "--checkpoint", "fast")
	s.commit(1)
	s.exec("select pg_switch_wal()")
	s.service.Must("backup", "take", "ferries", "--checkpoint", "fast")
	s.captured()
	s.Eventually("WAL and its journal are in the store", func() bool { _, complete := s.indexes(); return complete })
	whole := s.objects(s.Path("home", "store"))
	var paths []string
	for p := range whole {
		paths = append(paths, p)
	}
	slices.Sort(paths)
	random := rand.New(rand.NewPCG(8, 8))
	// In the store's own record and its other copy.
	for _, name := range []string{"velvet-store", "velvet-store.spare"} {
		p := s.Path("home", "store", name)
		content, err := os.ReadFile(p)
		if os.IsNotExist(err) {
			continue // of an earlier program, which kept no spare
		}
		require.NoError(t, err)
		unnoticed := 0
		for range 40 {
			flip(t, p, content, random)
			r := s.service.Velvet("store", "audit")
			if !assert.Contains(t, r.Out+r.Err, "was written again from its other copy: "+name) {
				unnoticed++
			}
			again, err := os.ReadFile(p)
			require.NoError(t, err)
			if !assert.Equal(t, string(content), string(again)) {
				require.NoError(t, os.WriteFile(p, content, 0o640))
			}
		}
		testbed.Attack(t, "disk, a bit flips in the record of keys ("+name+")", unnoticed > 0)
	}
	// In one object at a time.
	for range 4 {
		p := paths[random.IntN(len(paths))]
		flip(t, p, whole[p], random)
		if strings.Contains(p, "-000001") || strings.HasSuffix(p, "manifest") && strings.Contains(p, s.newest()) {
			assert.NotZero(t, s.service.Velvet("restore", "start", "ferries", "latest").Code, "%s was restored silently", p)
			assert.Contains(t, s.service.Must("copy", "list"), "There is no copy")
		}
		var found api.AuditResult
		r := s.service.Velvet("store", "audit", "--full", "--output", "json")
		s.decode(r.Out, &found)
		require.NotEmpty(t, found.Findings, p)
		f := found.Findings[0]
		assert.Equal(t, string(inventory.Damaged), f.Kind, p)
		assert.True(t, strings.HasSuffix(p, f.Key), "%s was flipped, %s found", p, f.Key)
		remade := strings.Contains(p, "/journal/") || strings.HasSuffix(p, "/record") || strings.HasSuffix(p, "/deposit") ||
			strings.Contains(p, "/catalogue/")
		assert.Equal(t, !remade, f.Costs, p)
		require.NoError(t, os.WriteFile(p, whole[p], 0o640))
		assert.Contains(t, s.service.Must("store", "audit", "--full"), "and nothing else")
	}
	// In every object one: in the manifests apart, for what they name is not known without them.
	for pass := range 6 {
		for _, manifests := range []bool{false, true} {
			var flipped []string
			for _, p := range paths {
				if strings.HasSuffix(p, "manifest") != manifests {
					continue
				}
				among := len(whole[p])
				if pass%2 == 1 {
					among = min(among, 64) // its header and first frame
				}
				flipAmong(t, p, whole[p], among, random)
				flipped = append(flipped, p)
			}
			var found api.AuditResult
			r := s.service.Velvet("store", "audit", "--full", "--output", "json")
			require.NotEmpty(t, r.Out, r.Err)
			s.decode(r.Out, &found)
			unnoticed := 0
			for _, p := range flipped {
				noticed := slices.ContainsFunc(found.Findings, func(f api.Discrepancy) bool {
					return strings.HasSuffix(p, f.Key) && f.Kind == string(inventory.Damaged)
				})
				if !assert.True(t, noticed, "pass %d: a bit of %s was flipped, and nothing noticed it", pass, p) {
					unnoticed++
				}
				require.NoError(t, os.WriteFile(p, whole[p], 0o640))
			}
			flippedIn := "each object of the store"
			if manifests {
				flippedIn = "each manifest of the store"
			}
			testbed.Attack(t, fmt.Sprintf("disk, a bit flips in %s (%d)", flippedIn, pass+1), unnoticed > 0)
		}
	}
	assert.Contains(t, s.service.Must("store", "audit", "--full"), "and nothing else")
}

func (s *stage) newest() string {
	var list []api.Backup
	s.service.JSON(&list, "backup", "list", "ferries")
	return list[0].ID
}

// TestTheSecondStoreAlone kills the service while it copies to the second store, which
// never lists a backup that is not whole there, and then loses the first store.
func TestTheSecondStoreAlone(t *testing.T) {
	t.Parallel()
	bed := testbed.New(t)
	second := bed.Path("second")
	s := newStage(t, "--second-store", second)
	s.protect()
	id := s.cluster().ID
	random := rand.New(rand.NewPCG(4, 4))
	for n := range 4 {
		// Much that does not shrink: the copy takes a while.
		s.exec(fmt.Sprintf("create table foam%d with (autovacuum_enabled = off) as select n, (select string_agg(sha256((n::text || m || "+
			"random())::bytea)::text, '') from generate_series(1, 12) m) from generate_series(1, 20000) n", n))
		s.service.Must("backup", "take", "ferries", "--checkpoint", "fast")
		s.service.Kill()
		for range 2 {
			s.service.Start()                                              // what is new is copied at once
			time.Sleep(time.Duration(random.IntN(400)) * time.Millisecond) // not to wait for anything: to be killed anywhere
			s.service.Kill()
			s.wholeAlone(second, id)
		}
		s.service.Start()
	}
	s.streaming()
	s.service.Must("cluster", "edit", "ferries", "--alert-rows", "77")
	root := s.Path("home", "store")
	s.Eventually("both are the same", func() bool {
		return maps.EqualFunc(below(s.objects(root), root), below(s.objects(second), second), bytes.Equal)
	})
	s.service.Must("cluster", "edit", "ferries", "--alert-rows", "78") // a record as long as before
	committed := s.commit(1)
	want := fingerprint(t, s.ferries.Connect) // which writes WAL: who reads first sets hint bits
	s.exec("select pg_switch_wal()")
	testbed.One[string](s.Bed, s.db, "select pg_create_restore_point('quay')::text")
	s.captured()
	s.Eventually("both are the same again, and nothing unfinished is left", func() bool {
		_, complete := s.indexes()
		left, err := filepath.Glob(filepath.Join(second, "clusters", id, "*", "*.unfinished"))
		require.NoError(t, err)
		return complete && len(left) == 0 && maps.EqualFunc(below(s.objects(root), root), below(s.objects(second), second), bytes.Equal)
	})
	assert.Len(t, s.wholeAlone(second, id), 4)

	var l api.Located
	locate := func() string {
		l = api.Located{}
		s.service.JSON(&l, "segment", "locate", "tx "+committed, "--cluster", "ferries")
		return s.service.Must("segment", "locate", "tx "+committed, "--cluster", "ferries")
	}
	assert.Contains(t, locate(), "in the store, and in the second store")
	segment := filepath.Join("clusters", id, "wal", "00000001", l.Segment)
	require.NoError(t, os.Rename(filepath.Join(root, segment), bed.Path("aside")))
	assert.Contains(t, locate(), "in the second store alone")
	require.NotNil(t, l.Record, "from where it is read")
	require.NoError(t, os.Rename(filepath.Join(second, segment), filepath.Join(root, segment)))
	assert.Contains(t, locate(), "in the store, and not in the second store yet")
	require.NoError(t, os.Rename(filepath.Join(root, segment), filepath.Join(second, segment)))
	require.NoError(t, os.Remove(bed.Path("aside")))
	require.NoError(t, os.Rename(filepath.Join(second, segment), bed.Path("aside")))
	assert.Contains(t, locate(), "in no store that can be asked")
	assert.Nil(t, l.Record)
	require.NoError(t, os.Rename(bed.Path("aside"), filepath.Join(second, segment)))
	s.service.Stop()
	require.NoError(t, os.RemoveAll(root))
	s.service.UseCatalogue(s.Postgres("another-catalogue", false))
	s.service.With("--store", second, "--adopt-store")
	s.service.Start()
	assert.Contains(t, s.service.Must("store", "rebuild"), "4 base backups")
	assert.Contains(t, s.service.Must("cluster", "edit", "ferries"), "78 or more")
	s.streaming()
	s.captured()
	k, conn := s.restore("latest")
	require.NoError(t, conn.Close(t.Context()))
	assert.Equal(t, want, fingerprint(t, func(database string) *pgx.Conn { return s.connect(k.Port, database) }))
	assert.Contains(t, s.service.Must("prove", "run", k.ID), "verdict: passed")
}

// below makes paths relative.
func below(objects map[string][]byte, root string) map[string][]byte {
	all := make(map[string][]byte, len(objects))
	for path, content := range objects {
		all[strings.TrimPrefix(path, root)] = content
	}
	return all
}

// wholeAlone lists the backups of a store, and looks that it has every pack that they name.
func (s *stage) wholeAlone(root, cluster string) (backups []string) {
	v := storebed.OpenAt(s.Bed, s.service, root)
	manifests, err := filepath.Glob(filepath.Join(root, "clusters", cluster, "bases", "*", "manifest"))
	require.NoError(s, err)
	for _, m := range manifests {
		id := filepath.Base(filepath.Dir(m))
		backups = append(backups, id)
		_, err := backup.ReadManifest(s.Context(), v, cluster, id, layout.Visit{Pack: func(u layout.Use) error {
			_, err := v.Stat(s.Context(), store.PackKey(cluster, u.Pack, 0))
			return err
		}})
		require.NoError(s, err, "base %s", id)
	}
	return backups
}
