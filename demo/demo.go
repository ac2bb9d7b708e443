package demo

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"velvetrewind/engine/host"
)

// Options say how the demo is run.
type Options struct {
	Dir     string // its directory; made anew at each run
	Program string // the velvet to run
	Once    bool   // end after the job instead of serving the console
	Out     io.Writer
}

// copyName is what the copy beside the original is called.
const copyName = "ferries-1"

// mark is the file by which the demo knows its own directory again.
const mark = ".velvet-demo"

// run is one run of the demo.
type run struct {
	Options
	host    *host.Host
	major   int // version of the servers
	ferries host.Server
	service *service
	agent   *service // of the spare machine
	traffic *traffic
	fares   int64 // the sum of all, before the second accident
	spare   machine
	address string // of the ferries' server
}

// Run plays the demo. It returns nil only if every step held.
func Run(ctx context.Context, opt Options) (err error) {
	h, err := host.Local("", "")
	if err != nil {
		return err
	}
	r := &run{Options: opt, host: h, address: "127.0.0.1"}
	if r.major, err = h.InstalledMajor(); err != nil {
		return err
	}
	if err := r.clean(ctx); err != nil {
		return err
	}
	defer func() { err = errors.Join(err, r.stop()) }()
	r.spare = makeMachine(r.Dir)
	steps := []struct {
		say string
		do  func(context.Context) error
	}{
		{"A PostgreSQL server is started on loopback for Saltmarsh Ferries.", r.startServers},
		{"Saltmarsh Ferries has 200,000 bookings.", r.load},
		{"The service is started. Its records are in a PostgreSQL server of its own.", r.startService},
		{"The cluster is registered; its capture begins by itself.", r.protect},
		{"Customers book, all day long.", r.startTraffic},
		{"A base backup is taken while they do.", r.backup},
		{"An hour later, in the demo's time, the next one: it reads only what has changed.", r.backupAgain},
		{"From now on it runs by itself: what is promised, when a base backup is taken, and what would be deleted.", r.runByItself},
		{"A booking clerk's clean-up script has lost its WHERE clause.", r.accident},
		{"What happened? The change journal knows it, though nobody noted the time.", r.find},
		{"The way back: the moment before that transaction.", r.rewind},
		{"Is the copy right?", r.prove},
		{"And what did the others lose? Nothing.", r.compare},
		{"The bookings come home, into the database itself, while customers book.", r.bookingsHome},
		{"Next day, in the demo's time: every fare is one cent. Nobody says who did that.", r.secondAccident},
		{"The copy is moved to just before it. Only what differs is written.", r.rewindAgain},
		{"The fares come home as well, but for two that somebody has corrected since.", r.faresHome},
		{"A table is dropped, with the view on it. Both come back.", r.tableHome},
		{"Could the cluster be brought back today? That is rehearsed, since the first base backup by itself.", r.rehearse},
		{"The disk dies that the payments are on. Only what is lost is laid again; nobody goes back in time.", r.repairLedger},
		{"A migration goes wrong all over. The whole cluster goes back: a copy takes its place; the old files are set aside.",
			r.backInService},
		{"And then the disk is lost. Everything that was captured comes back.", r.everythingBack},
		{"A spare machine joins as a host. A copy stands there, made from the store itself.", r.spareMachine},
		{"The whole machine is lost. The copy serves in its place, on the spare one.", r.onTheSpare},
	}
	for i, s := range steps {
		r.title(i+1, s.say)
		if err := s.do(ctx); err != nil {
			return fmt.Errorf("step %d: %w", i+1, err)
		}
	}
	if opt.Once {
		r.title(len(steps)+1, "The copies are discarded; backups and WAL stay.")
		return r.velvet(ctx, "copy", "discard", copyName, "--confirm", "ferries")
	}
	return r.serveOn(ctx)
}

func (r *run) title(n int, text string) { r.say("\n── %d. %s\n\n", n, text) }

func (r *run) say(format string, args ...any) { _, _ = fmt.Fprintf(r.Out, format, args...) }

func (r *run) path(names ...string) string {
	return filepath.Join(append([]string{r.Dir}, names...)...)
}

// clean ends what a run before left running, and begins with an empty directory.
func (r *run) clean(ctx context.Context) error {
	if _, err := os.Stat(r.Dir); err == nil {
		if _, err := os.Stat(r.path(mark)); err != nil {
			return fmt.Errorf("%s is there and is no directory of this demo; name another with --dir", r.Dir)
		}
		if err := r.endLeftovers(ctx); err != nil {
			return err
		}
		if err := os.RemoveAll(r.Dir); err != nil {
			return err
		}
	}
	if err := os.MkdirAll(r.Dir, 0o711); err != nil {
		return err
	}
	if err := os.Chmod(r.Dir, 0o711); err != nil {
		return err
	}
	return os.WriteFile(r.path(mark), nil, 0o600)
}

// endLeftovers stops the servers of a run that was killed.
func (r *run) endLeftovers(ctx context.Context) error {
	endService(r.path("agent.pid"))
	endService(r.path("service.pid"))
	found, err := filepath.Glob(r.path("*", "data", "postmaster.pid"))
	if err != nil {
		return err
	}
	copies, err := r.copies("postmaster.pid")
	if err != nil {
		return err
	}
	own, err := filepath.Glob(r.path("home", "catalogue", "data", "postmaster.pid"))
	if err != nil {
		return err
	}
	for _, pid := range slices.Concat(found, copies, own) {
		if err := r.host.Stop(ctx, host.Server{Major: r.major, DataDir: filepath.Dir(pid)}, host.Immediate); err != nil {
			return err
		}
	}
	return nil
}

// copies are the data directories of copies, on both hosts, or what they hold under a name.
func (r *run) copies(name ...string) (list []string, err error) {
	for _, home := range []string{"home", "spare"} {
		found, e := filepath.Glob(r.path(append([]string{home, "copies", "*", "data"}, name...)...))
		list, err = append(list, found...), errors.Join(err, e)
	}
	return list, err
}

// stop ends everything that this run started.
func (r *run) stop() error {
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	if r.traffic != nil {
		r.traffic.stop()
	}
	for _, s := range []*service{r.agent, r.service} {
		if s != nil {
			s.stop()
		}
	}
	copies, err := r.copies()
	for _, d := range copies {
		err = errors.Join(err, r.host.Stop(ctx, host.Server{Major: r.major, DataDir: d}, host.Immediate))
	}
	defer r.spare.remove()
	// The catalogue's server has ended with its service, unless that had to be killed.
	for _, s := range []host.Server{r.ferries, {Major: r.major, DataDir: r.path("home", "catalogue", "data")}} {
		if s.DataDir != "" {
			err = errors.Join(err, r.host.Stop(ctx, s, host.Fast))
		}
	}
	return err
}

// Passwords of servers that live for one demo on loopback.
const (
	ferriesPassword = "harbourmaster-of-one-demo"
	velvetPassword  = "velvet-of-one-demo"
)

func (r *run) startServers(ctx context.Context) error {
	var err error
	settings := "wal_level = replica\nmax_wal_senders = 10\nmax_replication_slots = 10\nmax_wal_size = '2GB'\n"
	if r.ferries, err = r.startServer(ctx, "ferries", "harbourmaster", ferriesPassword, settings); err != nil {
		return err
	}
	r.say("ferries: port %d, below %s\n", r.ferries.Port, r.Dir)
	return nil
}

func (r *run) startServer(ctx context.Context, name, superuser, password, settings string) (host.Server, error) {
	port, err := r.host.FreePort()
	if err != nil {
		return host.Server{}, err
	}
	s := host.Server{Major: r.major, DataDir: r.path(name, "data"), Port: port, Log: r.path(name, "server.log")}
	for _, d := range []string{r.path(name), s.DataDir} {
		if err := r.host.MakeDir(d, 0o700); err != nil {
			return s, err
		}
	}
	if s.Socket, err = r.host.SocketDir(r.path(name)); err != nil {
		return s, err
	}
	if err := r.host.InitDB(ctx, s, host.InitOptions{Superuser: superuser, Password: password, Checksums: true}); err != nil {
		return s, err
	}
	conf, err := os.OpenFile(filepath.Join(s.DataDir, "postgresql.conf"), os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		return s, err
	}
	listens, hba := r.spare.listens()
	_, err = conf.WriteString("\nlisten_addresses = '" + listens + "'\n" + settings)
	if err = errors.Join(err, conf.Close()); err != nil {
		return s, err
	}
	doors, err := os.OpenFile(filepath.Join(s.DataDir, "pg_hba.conf"), os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		return s, err
	}
	_, err = doors.WriteString(hba)
	if err = errors.Join(err, doors.Close()); err != nil {
		return s, err
	}
	return s, r.host.StartAndWait(ctx, s)
}

// connect opens a session on the ferries' server.
func (r *run) connect(ctx context.Context, user, password, database string) (*pgx.Conn, error) {
	return pgx.Connect(ctx, fmt.Sprintf("host=%s port=%d user=%s password=%s dbname=%s sslmode=disable", r.address, r.ferries.Port, user,
		password, database))
}

// serveOn keeps everything running until it is interrupted.
func (r *run) serveOn(ctx context.Context) error {
	r.say("\n── The console is served now, with the copy still there to look at.\n\n")
	if err := r.velvet(ctx, "login"); err != nil {
		return err
	}
	r.say("\nFor commands in another terminal:  export VELVET_HOME=%s\nHow to look at the copy:            velvet copy show %s   "+
		"(database saltmarsh, password %s)\nCtrl-C ends everything.\n", r.path("home"), copyName, ferriesPassword)
	select {
	case <-ctx.Done():
		r.say("\nEnding the servers.\n")
		return nil
	case <-r.service.ended:
		return fmt.Errorf("the service ended by itself; its log is %s", r.path("service.log"))
	}
}
