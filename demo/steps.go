package demo

import (
	"context"
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"time"

	"github.com/jackc/pgx/v5"
)

//go:embed saltmarsh.sql
var saltmarsh string

// roles are what the ferries' own administrator grants to Velvet Rewind.
const roles = `create role velvet login replication password '%s';
grant pg_read_all_data, pg_read_all_settings, pg_read_all_stats, pg_read_server_files to velvet;
create role clerk login password '%s';
alter role clerk set application_name = 'season clean-up';
`

func (r *run) load(ctx context.Context) error {
	admin, err := r.connect(ctx, "harbourmaster", ferriesPassword, "postgres")
	if err != nil {
		return err
	}
	defer func() { _ = admin.Close(context.WithoutCancel(ctx)) }()
	if err := r.host.MakeDir(r.path("ferries", "ledger"), 0o700); err != nil {
		return err
	}
	for _, q := range []string{
		fmt.Sprintf(roles, velvetPassword, velvetPassword),
		fmt.Sprintf("create tablespace ledger location '%s'", r.path("ferries", "ledger")),
		"create database saltmarsh",
	} {
		if _, err := admin.Exec(ctx, q); err != nil {
			return err
		}
	}
	db, err := r.connect(ctx, "harbourmaster", ferriesPassword, "saltmarsh")
	if err != nil {
		return err
	}
	defer func() { _ = db.Close(context.WithoutCancel(ctx)) }()
	for _, q := range []string{saltmarsh, "grant select, insert, update, delete on all tables in schema public to clerk",
		"grant execute on function pg_read_file(text), pg_read_binary_file(text, bigint, bigint, " +
			"boolean), pg_backup_start(text, boolean), pg_backup_stop(boolean), pg_ls_dir(text, boolean, boolean), pg_stat_file(text, " +
			"boolean) to velvet"} {
		if _, err := db.Exec(ctx, q); err != nil {
			return err
		}
	}
	if _, err := db.Exec(ctx, "vacuum analyze"); err != nil {
		return err
	}
	return r.counts(ctx, db, "saltmarsh")
}

// counts prints how many rows the tables have.
func (r *run) counts(ctx context.Context, db *pgx.Conn, where string) error {
	var crossings, bookings, passengers, payments int64
	err := db.QueryRow(ctx, `select (select count(*) from crossing), (select count(*) from booking), (select count(*)
		from passenger), (select count(*) from payment)`).
		Scan(&crossings, &bookings, &passengers, &payments)
	r.say("%s: %d crossings, %d bookings, %d passengers, %d payments\n", where, crossings, bookings, passengers, payments)
	return err
}

func (r *run) protect(ctx context.Context) error {
	secret := r.path("velvet.password")
	if err := os.WriteFile(secret, []byte(velvetPassword+"\n"), 0o600); err != nil {
		return err
	}
	conn := fmt.Sprintf("host=127.0.0.1 port=%d user=velvet dbname=saltmarsh sslmode=disable", r.ferries.Port)
	if err := r.velvet(ctx, "cluster", "add", "ferries", "--connect", conn, "--password-file", secret, "--no-base"); err != nil {
		return err
	}
	if err := r.await(ctx, func(k clusterState) bool { return k.Capture.State == "streaming" }); err != nil {
		return err
	}
	return r.velvet(ctx, "capture", "status", "ferries")
}

// clusterState is what the demo reads of `velvet cluster show --output json`.
type clusterState struct {
	Capture struct {
		State      string     `json:"state"`
		CompleteTo *time.Time `json:"completeTo"`
	} `json:"capture"`
}

// await asks for the cluster until it is as wanted.
func (r *run) await(ctx context.Context, as func(clusterState) bool) error {
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	tick := time.NewTicker(300 * time.Millisecond)
	defer tick.Stop()
	for {
		var k clusterState
		if err := r.ask(ctx, &k, "cluster", "show", "ferries"); err == nil && as(k) {
			return nil
		}
		select {
		case <-ctx.Done():
			return errors.New("the capture did not get there in time")
		case <-tick.C:
		}
	}
}

func (r *run) startTraffic(ctx context.Context) error {
	if err := r.bookAs(ctx, "LIVE"); err != nil {
		return err
	}
	r.say("%d sessions book crossings from now on\n", trafficSessions)
	return r.traffic.await(ctx, 50)
}

// bookAs has customers book, whose references begin with a prefix.
func (r *run) bookAs(ctx context.Context, prefix string) error {
	r.traffic = newTraffic(prefix, func(ctx context.Context) (*pgx.Conn, error) {
		return r.connect(ctx, "harbourmaster", ferriesPassword, "saltmarsh")
	})
	return r.traffic.start(ctx)
}

func (r *run) backup(ctx context.Context) error {
	return r.velvet(ctx, "backup", "take", "ferries", "--checkpoint", "fast")
}

// backupAgain takes a second base backup, and shows what both hold and take.
func (r *run) backupAgain(ctx context.Context) error {
	if err := r.traffic.await(ctx, 200); err != nil {
		return err
	}
	if err := r.velvet(ctx, "backup", "take", "ferries", "--checkpoint", "fast"); err != nil {
		return err
	}
	if err := r.velvet(ctx, "backup", "list", "ferries"); err != nil {
		return err
	}
	return r.velvet(ctx, "store", "show")
}

// runByItself sets a keep rule and a calendar, and shows what they come to.
func (r *run) runByItself(ctx context.Context) error {
	for _, command := range [][]string{
		{"keep", "set", "ferries", "--span", "31d", "--monthly", "12", "--zone", "Europe/Lisbon"},
		{"calendar", "add", "backup", "--cluster", "ferries", "--at", "02:30", "--zone", "Europe/Lisbon"},
		{"calendar", "add", "keep", "--cluster", "ferries", "--cron", "0 5 * * sun", "--zone", "Europe/Lisbon"},
		{"keep", "preview", "ferries"},
	} {
		if err := r.velvet(ctx, command...); err != nil {
			return err
		}
	}
	return nil
}

// ordinary is what else happens on such a day, and is no accident.
var ordinary = []string{
	"select pg_create_restore_point('winter timetable')",
	"update crossing set sails_at = sails_at + interval '5 minutes' where id % 40 = 0",
	"delete from booking where id in (77, 4242)", // two customers cancel
	"delete from booking where id = 13131",
}

// ordinaryDay does what is no accident.
func (r *run) ordinaryDay(ctx context.Context) error {
	db, err := r.connect(ctx, "harbourmaster", ferriesPassword, "saltmarsh")
	if err != nil {
		return err
	}
	defer func() { _ = db.Close(context.WithoutCancel(ctx)) }()
	for _, q := range ordinary {
		if _, err := db.Exec(ctx, q); err != nil {
			return err
		}
		if err := r.traffic.await(ctx, 60); err != nil {
			return err
		}
	}
	return nil
}

// accident deletes the season, in a transaction during which others commit.
func (r *run) accident(ctx context.Context) error {
	if err := r.traffic.await(ctx, 200); err != nil {
		return err
	}
	if err := r.ordinaryDay(ctx); err != nil {
		return err
	}
	db, err := r.connect(ctx, "clerk", velvetPassword, "saltmarsh")
	if err != nil {
		return err
	}
	defer func() { _ = db.Close(context.WithoutCancel(ctx)) }()
	tx, err := db.Begin(ctx)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback(context.WithoutCancel(ctx)) }()
	var xid string
	if err := tx.QueryRow(ctx, "select pg_current_xact_id()::text").Scan(&xid); err != nil {
		return err
	}
	r.say("clerk=# BEGIN;\nclerk=# DELETE FROM booking;  -- WHERE season = 2019 went missing\n")
	tag, err := tx.Exec(ctx, "delete from booking")
	if err != nil {
		return err
	}
	if err := r.traffic.await(ctx, 100); err != nil { // others book meanwhile
		return err
	}
	r.traffic.markBefore()
	if err := tx.Commit(ctx); err != nil {
		return err
	}
	r.traffic.markAfter()
	r.traffic.accident, r.traffic.deleted = xid, tag.RowsAffected()
	r.say("%s\nclerk=# COMMIT;\n\nNobody notes the time, or the transaction's id.\n", tag)
	if err := r.traffic.await(ctx, 200); err != nil {
		return err
	}
	return r.counts(ctx, db, "live, some bookings later")
}

// lost is the moment that the DBA asks for.
const lost = "before delete of booking"

// find looks for the accident in the change journal alone.
func (r *run) find(ctx context.Context) error {
	if err := r.seen(ctx); err != nil {
		return err
	}
	for _, args := range [][]string{
		{"changes", "list", "ferries", "--incidents"},
		{"changes", "biggest", "ferries", "--kind", "delete", "--limit", "5"},
		{"moment", lost, "--cluster", "ferries"},
	} {
		r.say("\n")
		if err := r.velvet(ctx, args...); err != nil {
			return err
		}
	}
	return r.found(ctx)
}

// found holds what the journal says against what the server had reported.
func (r *run) found(ctx context.Context) error {
	var list struct {
		Transactions []struct {
			XID    uint64 `json:"xid"`
			Tables []struct {
				Table   string `json:"table"`
				Deleted int64  `json:"deleted"`
			} `json:"tables"`
		} `json:"transactions"`
	}
	if err := r.ask(ctx, &list, "changes", "biggest", "ferries", "--kind", "delete", "--table", "booking", "--limit", "1"); err != nil {
		return err
	}
	for _, x := range list.Transactions {
		for _, t := range x.Tables {
			if t.Table == "booking" && t.Deleted == r.traffic.deleted && fmt.Sprint(x.XID) == r.traffic.accident {
				r.say("\nThe server had said DELETE %d; the journal has counted %d.\n", r.traffic.deleted, t.Deleted)
				return nil
			}
		}
	}
	return fmt.Errorf("the journal found %v, the accident was transaction %s, which deleted %d bookings", list.Transactions,
		r.traffic.accident, r.traffic.deleted)
}

func (r *run) rewind(ctx context.Context) error {
	if err := r.velvet(ctx, "reach", "ferries"); err != nil {
		return err
	}
	if err := r.velvet(ctx, "restore", "plan", "ferries", lost); err != nil {
		return err
	}
	if err := r.velvet(ctx, "restore", "start", "ferries", lost); err != nil {
		return err
	}
	return r.velvet(ctx, "copy", "list")
}

func (r *run) prove(ctx context.Context) error {
	return r.velvet(ctx, "prove", "run", copyName)
}

func (r *run) rehearse(ctx context.Context) error {
	if err := r.velvet(ctx, "rehearse", "objective", "ferries", "--back-within", "2h", "--losing-at-most", "1m"); err != nil {
		return err
	}
	if err := r.velvet(ctx, "rehearse", "now", "ferries", "--pick", "random"); err != nil {
		return err
	}
	if err := r.velvet(ctx, "rehearse", "history", "ferries"); err != nil {
		return err
	}
	return r.velvet(ctx, "rehearse", "report")
}

// compare holds the copy against what the traffic remembers.
func (r *run) compare(ctx context.Context) error {
	db, err := r.connectCopy(ctx)
	if err != nil {
		return err
	}
	defer func() { _ = db.Close(context.WithoutCancel(ctx)) }()
	if err := r.counts(ctx, db, "the copy"); err != nil {
		return err
	}
	return r.traffic.compare(ctx, db, r.say)
}

// connectCopy opens a session on the copy.
func (r *run) connectCopy(ctx context.Context) (*pgx.Conn, error) {
	var k struct {
		Port int `json:"port"`
	}
	if err := r.ask(ctx, &k, "copy", "show", copyName); err != nil {
		return nil, err
	}
	return pgx.Connect(ctx, fmt.Sprintf("host=127.0.0.1 port=%d user=harbourmaster password=%s dbname=saltmarsh sslmode=disable",
		k.Port, ferriesPassword))
}

// ask runs a velvet command quietly and decodes its JSON.
func (r *run) ask(ctx context.Context, out any, args ...string) error {
	quiet := *r
	quiet.Out = discard{}
	text, err := quiet.velvetOutput(ctx, append(args, "--output", "json")...)
	if err != nil {
		return fmt.Errorf("%w: %s", err, text)
	}
	return json.Unmarshal([]byte(text), out)
}

type discard struct{}

func (discard) Write(p []byte) (int, error) { return len(p), nil }
