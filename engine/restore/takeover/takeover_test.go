package takeover_test

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/core/task"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/restore/copies"
	"velvetrewind/engine/restore/takeover"
	"velvetrewind/testbed"
	"velvetrewind/testbed/clusterbed"
)

var ctx = context.Background()

func TestMain(m *testing.M) { clusterbed.Main(m) }

// errKilled is what a takeover dies of in these tests.
var errKilled = errors.New("killed")

// ending is where a takeover is ended on its way: at the beginning of a step or after it, by a death or a cancellation.
type ending struct {
	step          string
	after, cancel bool
}

func (e ending) String() string {
	return fmt.Sprintf("%s, after %v, cancelled %v", e.step, e.after, e.cancel)
}

// ender is a report that ends the work of which it is told.
type ender struct {
	task.Report
	ending
	stop context.CancelFunc
}

func (e *ender) Progress(_, _ int64, _ task.Unit, note string) { e.at(note, false) }

func (e *ender) Log(format string, args ...any) {
	if step, is := strings.CutSuffix(format, ": done in %.1f s"); is {
		e.at(fmt.Sprintf(step, args[0]), true)
	}
}

func (e *ender) at(step string, after bool) {
	switch {
	case step != e.step || after != e.after:
	case e.cancel:
		e.stop()
	default:
		panic(errKilled)
	}
}

// endings are all: two deaths and a cancellation for each step.
func endings() (list []ending) {
	for _, step := range []string{catalog.TakeoverRefusing, catalog.TakeoverOpening, catalog.TakeoverBringing, catalog.TakeoverStopping,
		catalog.TakeoverAside, catalog.TakeoverPlacing, catalog.TakeoverStarting} {
		list = append(list, ending{step, false, false}, ending{step, true, false}, ending{step, false, true})
	}
	return list
}

type scene struct {
	*clusterbed.Cluster
	taker *takeover.Taker
}

// TestTakeoversThatEndOnTheirWay ends takeovers at every step: the cluster serves as before, or at the moment, whole; never
// anything else. Each version has its share; VELVET_TAKEOVERS says how many random ones there are besides.
func TestTakeoversThatEndOnTheirWay(t *testing.T) {
	more, _ := strconv.Atoi(os.Getenv("VELVET_TAKEOVERS"))
	testbed.EachVersion(t, func(t *testing.T, b *testbed.Bed) {
		s := setScene(b)
		all := endings()
		for i, e := range all {
			if i%len(pg.Versions()) == s.Record.Major()%len(pg.Versions()) {
				s.endAt(e)
			}
		}
		for range more {
			s.endAt(all[rand.IntN(len(all))])
		}
		s.endAt(ending{}) // which is not reached
	})
}

func setScene(b *testbed.Bed) *scene {
	s := &scene{Cluster: clusterbed.New(b)}
	ledger := b.OnAnotherDisk("ledger")
	s.Server.Exec("postgres", "create tablespace ledger location '"+ledger+"'", "create table tide (n int)",
		"create table berth (n int) tablespace ledger", "insert into berth select generate_series(1, 1000)")
	s.Capture()
	s.Eventually("capture streams", func() bool { return s.State().Receives() })
	s.taker = &takeover.Taker{Catalog: s.Catalog, Copies: s.Maker(), Look: s.Supervisor.Look}
	s.Take(layout.Full)
	return s
}

// endAt makes an accident, begins to take over from before it, ends that, goes on as a service does that is started
// again, and looks at what serves then.
func (s *scene) endAt(e ending) {
	s.Server.Exec("postgres", "insert into tide values (1)")
	was := testbed.One[int](s.Bed, s.SQL, "select count(*) from tide")
	timeline := testbed.One[int](s.Bed, s.SQL, "select timeline_id from pg_control_checkpoint()")
	accident := testbed.One[string](s.Bed, s.SQL, "with d as (delete from tide) select pg_current_xact_id()::text")
	s.Server.Exec("postgres", "insert into tide select generate_series(1, 2)")
	s.Captured()
	k := s.Copy(s.taker.Copies, "before tx "+accident)
	_ = s.SQL.Close(ctx)
	done, err := s.takeOver(k, e)
	s.Connect()
	rows, now := testbed.One[int](s.Bed, s.SQL, "select count(*) from tide"), testbed.One[int](s.Bed, s.SQL,
		"select timeline_id from pg_control_checkpoint()")
	assert.Equal(s, 1000, testbed.One[int](s.Bed, s.SQL, "select count(*) from berth"), e)
	list, e2 := s.Catalog.Takeovers(ctx, s.Record.ID)
	require.NoError(s, e2)
	require.True(s, list[0].EndedAt.Valid, "%s", e)
	if done {
		assert.Equal(s, []int{was, timeline + 1}, []int{rows, now}, "at the moment: %s", e)
		assert.Equal(s, catalog.TakeoverDone, list[0].Step)
	} else {
		assert.Equal(s, []int{2, timeline}, []int{rows, now}, "as before: %s (%v)", e, err)
		assert.Equal(s, catalog.TakeoverBack, list[0].Step)
		assert.NotEmpty(s, list[0].Problem)
	}
	onward := []string{"", catalog.TakeoverAside, catalog.TakeoverPlacing, catalog.TakeoverStarting} // once it was being set aside
	assert.Equal(s, !e.cancel && slices.Contains(onward, e.step), done, "%s", e)
	s.Eventually("capture goes on", func() bool { k := s.State(); return k.Receives() && int(k.Timeline) == now })
	s.Captured()
}

// takeOver takes over until the ending, and then resumes; it tells whether the takeover is done.
func (s *scene) takeOver(k catalog.Copy, e ending) (done bool, err error) {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	id := catalog.NewID()
	killed := func() (killed bool) {
		defer func() {
			if p := recover(); p != nil {
				require.Equal(s, errKilled, p)
				killed = true
			}
		}()
		err = s.taker.Begin(ctx, s.Record, k, id, takeover.Wish{Now: time.Now()}, &ender{task.Silent, e, stop})
		return false
	}()
	if !killed {
		return err == nil, err
	}
	record, ok, err := s.Catalog.TakeoverOfTask(ctx, id)
	require.NoError(s, err)
	require.True(s, ok)
	done, err = s.taker.Resume(ctx, record, task.Silent)
	require.NoError(s, err, "%s", e)
	return done, nil
}

// TestGivingUpEndsOnItsWay ends the handing over of the original's files to a copy at every step: it serves as before.
func TestGivingUpEndsOnItsWay(t *testing.T) {
	s := setScene(testbed.New(t))
	disk := s.Path("ledger") // on the disk of copies, as it must be
	require.NoError(t, s.Host.MakeDir(disk, 0o700))
	why := s.taker.PrepareOver(ctx, s.Record, s.Copy(s.taker.Copies, "latest"), time.Now()).Obstacles
	require.NotEmpty(t, why)
	assert.Contains(t, why[0].Error(), "another file system")
	s.Server.Exec("postgres", "create tablespace near location '"+disk+"'", "alter table berth set tablespace near",
		"drop tablespace ledger")
	for _, step := range []string{catalog.TakeoverStopping, catalog.TakeoverHanding} {
		for _, e := range []ending{{step, false, false}, {step, true, false}, {step, false, true}} {
			s.Captured()
			p, err := s.Plan("latest")
			require.NoError(t, err)
			k, err := s.taker.Copies.Prepare(ctx, s.Record, p, copies.Wish{Over: true})
			require.NoError(t, err)
			require.NoError(t, s.Catalog.AddCopy(ctx, k, nil))
			_ = s.SQL.Close(ctx)
			s.giveUp(k, e)
			s.Connect()
			assert.Equal(t, 1000, testbed.One[int](s.Bed, s.SQL, "select count(*) from berth"), e)
			assert.Equal(t, catalog.CopyDiscarded, s.Seen(k).State, e)
			assert.NoDirExists(t, k.Directory)
			s.Eventually("capture goes on", func() bool { return s.State().Receives() })
		}
	}
}

// giveUp hands the original's files over until the ending, and then resumes.
func (s *scene) giveUp(k catalog.Copy, e ending) {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	id := catalog.NewID()
	defer func() {
		if p := recover(); p != nil {
			require.Equal(s, errKilled, p)
			record, ok, err := s.Catalog.TakeoverOfTask(ctx, id)
			require.NoError(s, err)
			require.True(s, ok)
			done, err := s.taker.Resume(ctx, record, task.Silent)
			require.NoError(s, err, "%s", e)
			assert.False(s, done)
		}
	}()
	require.Error(s, s.taker.GiveUp(ctx, s.Record, k, id, time.Now(), &ender{task.Silent, e, stop}))
}

// TestPointOfFailure loses the original's server and its directory, and takes over from what was captured; a try that is cancelled
// when the copy was placed leaves nothing there.
func TestPointOfFailure(t *testing.T) {
	s := setScene(testbed.New(t))
	require.NoError(t, s.taker.Remember(ctx, s.Record))
	s.Server.Exec("postgres", "insert into tide select generate_series(1, 500)", "alter system set work_mem = '9MB'")
	s.Captured()
	_ = s.SQL.Close(ctx)
	s.Server.Kill()
	require.NoError(t, os.RemoveAll(s.Server.DataDir))
	k := s.Copy(s.taker.Copies, "latest")
	p := s.taker.Prepare(ctx, s.Record, k, takeover.Wish{Now: time.Now()})
	require.Empty(t, p.Obstacles)
	assert.True(t, p.Original.Gone)

	done, err := s.takeOver(k, ending{catalog.TakeoverStarting, false, true})
	require.Error(t, err)
	require.False(t, done)
	assert.NoDirExists(t, s.Server.DataDir)
	k = s.Copy(s.taker.Copies, "latest")
	done, err = s.takeOver(k, ending{})
	require.NoError(t, err)
	require.True(t, done)
	s.Connect()
	assert.Equal(t, 500, testbed.One[int](s.Bed, s.SQL, "select count(*) from tide"))
	assert.Equal(t, 1000, testbed.One[int](s.Bed, s.SQL, "select count(*) from berth"))
	s.Eventually("capture goes on", func() bool { k := s.State(); return k.Receives() && k.Timeline == 2 })
}

// TestWhatStandsInTheWay has the original be where, or what, it must not be.
func TestWhatStandsInTheWay(t *testing.T) {
	s := setScene(testbed.New(t))
	k := s.Copy(s.taker.Copies, "latest")
	why := func(cluster catalog.Cluster, copy catalog.Copy) string {
		p := s.taker.Prepare(ctx, cluster, copy, takeover.Wish{Now: time.Now()})
		require.NotEmpty(t, p.Obstacles)
		return p.Obstacles[0].Error()
	}
	require.Empty(t, s.taker.Prepare(ctx, s.Record, k, takeover.Wish{Now: time.Now()}).Obstacles)
	other := s.Record
	other.SystemID++
	assert.Contains(t, why(other, k), "system identifier")
	other = s.Record
	other.DataDirectory = ""
	assert.Contains(t, why(other, k), "is not known")
	link := s.Path("link")
	require.NoError(t, os.Symlink(s.Server.DataDir, link))
	other.DataDirectory = link
	assert.Contains(t, why(other, k), "over a link")
	other.DataDirectory = s.Path("nowhere")
	assert.Contains(t, why(other, k), "there is no cluster in it")
	signal := filepath.Join(s.Server.DataDir, "standby.signal")
	require.NoError(t, s.Host.WriteFile(signal, nil, 0o600))
	assert.Contains(t, why(s.Record, k), "of a standby")
	require.NoError(t, os.Remove(signal))
	opened := k
	opened.State = catalog.CopyOpen
	assert.Contains(t, why(s.Record, opened), "only a paused one")
	assert.Len(t, s.taker.Prepare(ctx, s.Record, k, takeover.Wish{Now: time.Now()}).Brought, 1, "the tablespace is on another file system")

	// The name under which the original would be set aside is taken: everything is put back.
	at := time.Now()
	require.NoError(t, os.Mkdir(s.Server.DataDir+s.taker.Prepare(ctx, s.Record, k, takeover.Wish{Now: at}).Aside, 0o700))
	require.ErrorContains(t, s.taker.Begin(ctx, s.Record, k, catalog.NewID(), takeover.Wish{Now: at}, task.Silent), "file exists")
	s.Connect()
	assert.Equal(t, 1000, testbed.One[int](s.Bed, s.SQL, "select count(*) from berth"))
}
