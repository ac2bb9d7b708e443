package bench

import (
	"flag"
	"fmt"
	"os"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"
)

// measure is what a benchmark measures with. In `make bench` it reports figures; in the tests
// each benchmark runs once in a small form, so that it cannot rot, and the figures are only
// logged.
type measure struct {
	testing.TB
	sizes
	report func(value float64, unit string)
	run    func(name string, do func(measure))
}

// sizes are how much is measured.
type sizes struct {
	scale   int // pgbench's; 100 makes about 1.5 GB
	large   int // for what is quick
	rounds  int // how often both sides of a ratio are measured, in turns
	load    time.Duration
	month   int // segments
	fleet   int // clusters
	reader  int // pgbench's scale for the WAL that is read
	stress  int // its transactions of each client
	codecs  []string
	warm    int // rounds that only warm the cache
	idle    int // clusters in which nothing happens
	quiet   time.Duration
	commits int // transaction ids in the commit log
	tables  int // small ones
	rescued int // rows
}

var (
	full = sizes{scale: 60, large: 300, rounds: 6, load: 10 * time.Second, month: 65_000, fleet: 500, reader: 40, stress: 20_000,
		codecs: []string{"s2", "zstd"}, warm: 1, idle: 20, quiet: 2 * time.Minute, commits: 10_000_000,
		tables: 10_000, rescued: 1_000_000}
	small = sizes{scale: 2, large: 3, rounds: 1, load: time.Second, month: 300, fleet: 8, reader: 1, stress: 500, codecs: []string{"zstd"},
		idle: 2, quiet: 3 * time.Second, commits: 20_000, tables: 300, rescued: 5_000}
)

func reporting(b *testing.B) measure {
	return measure{TB: b, sizes: full, report: func(value float64, unit string) {
		b.ReportMetric(value, unit)
		b.ReportMetric(0, "ns/op")
	}, run: func(name string, do func(measure)) {
		b.Run(name, func(b *testing.B) { do(reporting(b)) })
	}}
}

func checking(t *testing.T) measure {
	return measure{TB: t, sizes: small, report: func(value float64, unit string) { t.Logf("%g %s", value, unit) },
		run: func(name string, do func(measure)) {
			t.Run(name, func(t *testing.T) { do(checking(t)) })
		}}
}

// benchmarks are measured by `make bench`, and tried in the tests.
var benchmarks = map[string]func(measure){
	"Backup": backup, "Capture": captureLoad, "Incremental": incremental, "Restore": restoring, "Reader": reader, "Month": askMonth,
	"Fleet": askFleet, "Idle": idle, "Authors": watching, "Proof": proving,
	"ManyTables": manyTables, "Takeover": takingOver, "Rescue": rescuing, "Feed": feeding, "Partial": partly,
}

// TestBenchmarks tries each benchmark in its small form.
func TestBenchmarks(t *testing.T) {
	for name, do := range benchmarks {
		t.Run(name, func(t *testing.T) { do(checking(t)) })
	}
}

func BenchmarkBackup(b *testing.B)      { backup(reporting(b)) }
func BenchmarkCapture(b *testing.B)     { captureLoad(reporting(b)) }
func BenchmarkIncremental(b *testing.B) { incremental(reporting(b)) }
func BenchmarkRestore(b *testing.B)     { restoring(reporting(b)) }
func BenchmarkReader(b *testing.B)      { reader(reporting(b)) }
func BenchmarkMonth(b *testing.B)       { askMonth(reporting(b)) }
func BenchmarkFleet(b *testing.B)       { askFleet(reporting(b)) }
func BenchmarkAuthors(b *testing.B)     { watching(reporting(b)) }
func BenchmarkProof(b *testing.B)       { proving(reporting(b)) }
func BenchmarkIdle(b *testing.B)        { idle(reporting(b)) }
func BenchmarkManyTables(b *testing.B)  { manyTables(reporting(b)) }
func BenchmarkTakeover(b *testing.B)    { takingOver(reporting(b)) }
func BenchmarkRescue(b *testing.B)      { rescuing(reporting(b)) }
func BenchmarkFeed(b *testing.B)        { feeding(reporting(b)) }
func BenchmarkPartial(b *testing.B)     { partly(reporting(b)) }

// series are the times that one side of a comparison took, round by round.
type series []time.Duration

func (s series) median() time.Duration {
	sorted := slices.Sorted(slices.Values(s))
	return sorted[len(sorted)/2]
}

// ratio reports how many times as long one side took as the other: the median over the rounds,
// and the smallest and the largest.
func (m measure) ratio(unit string, one, other series) {
	m.spread(unit, len(one), func(i int) float64 { return one[i].Seconds() / other[i].Seconds() })
}

// spread reports the median of what the rounds gave, the smallest and the largest.
func (m measure) spread(unit string, rounds int, of func(round int) float64) {
	values := make([]float64, rounds)
	for i := range values {
		values[i] = of(i)
	}
	slices.Sort(values)
	m.report(values[len(values)/2], unit)
	m.report(values[0], unit+"-min")
	m.report(values[len(values)-1], unit+"-max")
}

// TestMain says what is measured on, where something is measured.
func TestMain(m *testing.M) {
	flag.Parse()
	if f := flag.Lookup("test.bench"); f != nil && f.Value.String() != "" {
		fmt.Println(machine())
	}
	os.Exit(m.Run())
}

func machine() string {
	processor, memory := "unknown processor", ""
	if content, err := os.ReadFile("/proc/cpuinfo"); err == nil {
		if _, after, ok := strings.Cut(string(content), "model name\t: "); ok {
			processor, _, _ = strings.Cut(after, "\n")
		}
	}
	if content, err := os.ReadFile("/proc/meminfo"); err == nil {
		line, _, _ := strings.Cut(string(content), "\n")
		memory = ", " + strings.Join(strings.Fields(line), " ")
	}
	busy := ""
	if content, err := os.ReadFile("/proc/loadavg"); err == nil {
		busy = ", load before " + strings.Fields(string(content))[0]
	}
	return fmt.Sprintf("measured on %d cores of %s%s%s; %s, %s", runtime.NumCPU(), processor, memory, busy, runtime.Version(),
		time.Now().Format("2006-01-02"))
}
