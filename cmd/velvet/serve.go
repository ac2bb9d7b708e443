package main

import (
	"errors"
	"fmt"
	"log/slog"
	"net/url"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"

	"github.com/knadh/koanf/parsers/yaml"
	"github.com/knadh/koanf/providers/env/v2"
	"github.com/knadh/koanf/providers/file"
	"github.com/knadh/koanf/providers/posflag"
	"github.com/knadh/koanf/v2"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"velvetrewind/engine/host"
	"velvetrewind/engine/store/s3"
	"velvetrewind/service"
)

// limitGarbage has memory be collected sooner than is usual, where the environment does not say otherwise: the service mostly
// waits, and often shares its machine with a database that has better uses for memory.
func limitGarbage() {
	const percent = 50
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(percent)
	}
}

// serveCommand runs the service in the foreground.
func serveCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use: "serve", Short: "Run the service: captures, tasks, API and console", Args: cobra.NoArgs,
		Long: "Run the service until it is interrupted.\n\n" +
			"Each setting is a flag, a variable VELVET_… with the flag's name, or a line in HOME/velvet.yaml;\n" +
			"the flag wins over the variable, the variable over the file.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			cfg, err := readConfig(cmd.Flags())
			if err != nil {
				return err
			}
			log := slog.New(slog.NewTextHandler(cmd.ErrOrStderr(), nil))
			if cfg.LogFormat == "json" {
				log = slog.New(slog.NewJSONHandler(cmd.ErrOrStderr(), nil))
			}
			limitGarbage()
			return service.Run(cmd.Context(), cfg, version, log, func(url, link string) {
				_, _ = fmt.Fprintf(cmd.OutOrStdout(), "Velvet Rewind serves at %s\nConsole, to be opened once within ten minutes: %s\n",
					url, link)
			})
		},
	}
	f := cmd.Flags()
	f.String("catalogue", "", "connection string of a database for the records, without a password (give that in HOME/velvet.yaml, "+
		"VELVET_CATALOGUE or PGPASSFILE); without it a server of its own is run in HOME/catalogue")
	f.String("store", "", "directory of the store (HOME/store), or "+s3.Forms)
	f.String("store-credentials", "", "file with the keys of a bucket (AWS_ACCESS_KEY_ID and AWS_SECRET_ACCESS_KEY, or the usual file)")
	f.String("store-key", "", "file with the key of an encrypted store: an age identity (AGE-SECRET-KEY-1…) or a passphrase on one "+
		"line; given with a new store, it is encrypted")
	f.Bool("adopt-store", false, "take over a store whose catalogue is lost; then run: velvet store rebuild")
	f.Bool("new-key", false, "make a new HOME/key although clusters' passwords are sealed with one that is lost; they have to be given "+
		"anew")
	f.String("second-store", "", "second store to which everything is copied: a directory or s3://…")
	f.String("second-store-credentials", "", "file with the keys of the second store's bucket")
	f.String("copies-credentials", "", "file with keys that may only read the store's bucket: copies that recover use them where the "+
		"service does not answer, and have none otherwise")
	f.String("second-copies-credentials", "", "the same for the second store's bucket")
	f.String("read-data", "auto", "how incremental backups read changed pages: auto (from the data directory where it is on this host, "+
		"else through SQL) or sql")
	f.String("copies", "", "directory for side copies (HOME/copies)")
	f.String("listen", service.DefaultListen, "address and port; other than loopback only with TLS")
	f.String("agents", "", "address and port for host agents, which come from other machines, as 0.0.0.0:8418; none without it")
	f.String("tls-cert", "", "certificate file")
	f.String("tls-key", "", "key file of the certificate")
	f.String("hosts", "", "further host names to answer to, with commas")
	f.String("run-as", "", "OS user of the servers of copies, when the service is root (postgres); with commas those that single "+
		"clusters may be given instead (velvet cluster edit --copies-user)")
	f.String("programs", host.DefaultTools, "directory of PostgreSQL's programs, %d for the major version")
	f.String("compression", "zstd", "zstd (small) or s2 (fast)")
	f.Int("tasks-at-once", service.DefaultTasksAtOnce, "tasks that this instance runs at once")
	f.Int("tasks-per-cluster", service.DefaultTasksPerCluster, "tasks of one cluster that run at once; 0 for no limit")
	f.Int("backups-per-host", service.DefaultBackupsPerHost, "base backups of clusters on one host that are taken at once; 0 for no limit")
	f.Int("rehearsals-at-once", service.DefaultRehearsals,
		"rehearsals that run at once, of all instances; 0: none but those asked for by hand")
	f.Int("rehearsal-space", 0, "GiB that the copies of rehearsals may take together; 0 for what there is")
	f.String("rehearsal-hours", "", "hours in which rehearsals may begin by themselves, as 20:00-06:00, by the service's clock")
	f.Int("spool-limit", service.DefaultSpoolLimit,
		"MiB of each cluster's WAL that may wait for the store before its capture pauses; at least two segments")
	f.String("delete-after", service.DefaultDeleteAfter,
		"how long backups, WAL and clusters that were deleted can be taken back before they are permanently deleted, as 24h; 0 for not "+
			"at all")
	f.String("log-format", "text", "text or json")
	return cmd
}

const envPrefix = "VELVET_"

// readConfig puts the file, the variables and the flags over one another.
func readConfig(flags *pflag.FlagSet) (service.Config, error) {
	var cfg service.Config
	home, err := flags.GetString("home")
	if err != nil {
		return cfg, err
	}
	if given, err := flags.GetString("catalogue"); err == nil && hasPassword(given) {
		return cfg, errors.New("the catalogue's password must not stand on the command line, where others can see it; put the " +
			"connection string into HOME/velvet.yaml or VELVET_CATALOGUE")
	}
	k := koanf.New(".")
	path := filepath.Join(home, "velvet.yaml")
	if err := k.Load(file.Provider(path), yaml.Parser()); err != nil && !errors.Is(err, os.ErrNotExist) {
		return cfg, fmt.Errorf("%s: %w", path, err)
	}
	fromEnv := env.Provider(".", env.Opt{Prefix: envPrefix, TransformFunc: func(name, value string) (string, any) {
		return strings.ReplaceAll(strings.ToLower(strings.TrimPrefix(name, envPrefix)), "_", "-"), value
	}})
	if err := k.Load(fromEnv, nil); err != nil {
		return cfg, err
	}
	if err := k.Load(posflag.Provider(flags, ".", k), nil); err != nil {
		return cfg, err
	}
	return cfg, k.Unmarshal("", &cfg)
}

// hasPassword tells whether a connection string holds a password.
func hasPassword(s string) bool {
	if u, err := url.Parse(s); err == nil && u.User != nil {
		_, has := u.User.Password()
		return has
	}
	return strings.Contains(strings.ToLower(s), "password=")
}
