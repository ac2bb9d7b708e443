package cli

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v3"

	"velvetrewind/api"
	"velvetrewind/core/readiness"
)

// loginFlags are how to reach a cluster on a command line.
type loginFlags struct {
	connect, passwordFile, replicationUser, replicationPasswordFile string
}

func (f *loginFlags) add(cmd *cobra.Command) {
	cmd.Flags().StringVar(&f.connect, "connect", "", "connection string, without the password")
	cmd.Flags().StringVar(&f.passwordFile, "password-file", "",
		"file with the password; - reads it from the input. Without it you are asked on a terminal")
	cmd.Flags().StringVar(&f.replicationUser, "replication-user", "", "role of replication sessions, where it is another")
	cmd.Flags().StringVar(&f.replicationPasswordFile, "replication-password-file", "", "file with that role's password")
}

func (f *loginFlags) read(cmd *cobra.Command) (l api.Login, err error) {
	l = api.Login{ConnString: f.connect, ReplicationUser: f.replicationUser}
	if l.Password, err = readPassword(cmd, f.passwordFile); err != nil {
		return l, err
	}
	if f.replicationPasswordFile != "" {
		l.ReplicationPassword, err = readPassword(cmd, f.replicationPasswordFile)
	}
	return l, err
}

func (a *app) clusterReady() *cobra.Command {
	var login loginFlags
	var apply bool
	var only []string
	var as, asPasswordFile, typed string
	cmd := &cobra.Command{
		Use: "ready [CLUSTER]", Short: "Look at what a cluster is and lacks, and have SQL fix it", Args: cobra.MaximumNArgs(1),
		ValidArgsFunction: a.completeClusters,
		Long: "Look at what a cluster is and lacks: each prerequisite with its state, why it matters, and what fixes it.\n" +
			"A cluster that is not registered is named by --connect. With --apply the SQL that fixes what is needed and\n" +
			"advised is shown, run once that is confirmed, and everything is looked at again. Restarts are left to you.",
		Example: "  velvet cluster ready ferries\n  velvet cluster ready --connect 'host=db1 user=velvet dbname=postgres' " +
			"--password-file secret --apply --as postgres",
		RunE: func(cmd *cobra.Command, args []string) error {
			if (len(args) == 0) == (login.connect == "") {
				return errors.New("name a registered cluster, or another by --connect")
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			in := api.ApplyReadinessRequest{As: as}
			r, err := lookAt(cmd, c, args, &login, &in)
			if err != nil {
				return err
			}
			if !apply {
				return a.show(cmd, r, func(w io.Writer) { drawReadiness(w, r) })
			}
			checks := fixable(r, only)
			if len(checks) == 0 {
				return a.show(cmd, r, func(w io.Writer) {
					drawReadiness(w, r)
					_, _ = fmt.Fprintln(w, "\nThere is nothing that SQL could fix.")
				})
			}
			in.Checks = checks
			if as != "" {
				if in.AsPassword, err = readPassword(cmd, asPasswordFile); err != nil {
					return err
				}
			}
			drawFixes(cmd.ErrOrStderr(), r, checks)
			var m api.Fixed
			err = confirming(cmd, typed, func(name string) error {
				in.Confirm = name
				return c.post(cmd.Context(), "/readiness/apply", in, &m)
			})
			if err != nil {
				return err
			}
			return a.show(cmd, m, func(w io.Writer) { drawFixed(w, m) })
		},
	}
	login.add(cmd)
	cmd.Flags().BoolVar(&apply, "apply", false, "run the SQL that fixes what is needed and advised, after a confirmation")
	cmd.Flags().StringSliceVar(&only, "only", nil, "with --apply: just these checks, also of those that are a choice")
	cmd.Flags().StringVar(&as, "as", "", "with --apply: run the SQL as this role, usually a superuser (default: the registered role)")
	cmd.Flags().StringVar(&asPasswordFile, "as-password-file", "",
		"file with that role's password, which is not kept; without it you are asked on a terminal")
	confirmFlag(cmd, &typed)
	return cmd
}

// lookAt checks the cluster that is named, or reached as the flags say, and notes which it is.
func lookAt(cmd *cobra.Command, c *client, args []string, login *loginFlags, in *api.ApplyReadinessRequest) (
	r api.ReadinessReport, err error) {
	if len(args) > 0 {
		in.Cluster = args[0]
		err = c.get(cmd.Context(), "/clusters/"+seg(args[0])+"/readiness", &r)
		return r, err
	}
	l, err := login.read(cmd)
	if err != nil {
		return r, err
	}
	in.Login = &l
	err = c.post(cmd.Context(), "/readiness", l, &r)
	return r, err
}

// fixable lists the checks that SQL can fix: those that were named, or else all that
// are needed or advised.
func fixable(r api.ReadinessReport, only []string) []string {
	if len(only) > 0 {
		return only
	}
	var ids []string
	for _, c := range r.Checks {
		if (is(c, readiness.Needed) || is(c, readiness.Advised)) && readiness.SQLAlone(c.SQL) {
			ids = append(ids, c.ID)
		}
	}
	return ids
}

// drawFixes shows what is about to be run.
func drawFixes(w io.Writer, r api.ReadinessReport, ids []string) {
	_, _ = fmt.Fprintln(w, "This would be run:")
	for _, c := range r.Checks {
		if !slices.Contains(ids, c.ID) {
			continue
		}
		_, _ = fmt.Fprintf(w, "  -- %s: %s\n", c.Title, c.Found)
		for _, q := range c.SQL {
			_, _ = fmt.Fprintf(w, "  %s\n", q)
		}
		if c.After != "" {
			_, _ = fmt.Fprintln(w, "  "+strings.TrimSpace("-- takes effect after a "+c.After+". "+c.Effect))
		}
	}
}

func drawFixed(w io.Writer, m api.Fixed) {
	for _, q := range m.Applied.SQL {
		_, _ = fmt.Fprintf(w, "run: %s\n", q)
	}
	if m.Applied.Reloaded {
		_, _ = fmt.Fprintln(w, "The server read its configuration again.")
	}
	if m.Applied.Restart {
		_, _ = fmt.Fprintln(w, "Some of it takes effect only when the server is restarted; then look again.")
	}
	_, _ = fmt.Fprintln(w)
	drawReadiness(w, m.Report)
}

// drawReadiness shows what asks for something, then in one line each what is right.
func drawReadiness(w io.Writer, r api.ReadinessReport) {
	f := r.Facts
	system := "not known: it is told by a replication session"
	if f.SystemID != 0 {
		system = fmt.Sprint(f.SystemID)
	}
	facts(w, "server", "PostgreSQL "+f.VersionText, "system identifier", system, "role", f.Role)
	for _, state := range []readiness.State{readiness.Needed, readiness.Advised, readiness.Choice, readiness.Unknown} {
		for _, c := range r.Checks {
			if is(c, state) {
				drawCheck(w, c)
			}
		}
	}
	var fine []string
	for _, c := range r.Checks {
		if is(c, readiness.OK) {
			fine = append(fine, c.Title+" ("+c.Found+")")
		}
	}
	_, _ = fmt.Fprintf(w, "\nright: %s\n\n", strings.Join(fine, "; "))
	switch needed := checksIn(r, readiness.Needed); {
	case needed > 0:
		_, _ = fmt.Fprintf(w, "It cannot be protected yet: %d needed.\n", needed)
	case checksIn(r, readiness.Advised) > 0:
		_, _ = fmt.Fprintf(w, "It can be protected; %d advised.\n", checksIn(r, readiness.Advised))
	default:
		_, _ = fmt.Fprintln(w, "Nothing is missing.")
	}
}

func drawCheck(w io.Writer, c api.ReadinessCheck) {
	_, _ = fmt.Fprintf(w, "\n%s: %s: %s  [%s]\n    %s\n", c.State, c.Title, c.Found, c.ID, c.Why)
	for _, line := range append(slices.Clone(c.SQL), c.Edit...) {
		_, _ = fmt.Fprintf(w, "      %s\n", line)
	}
	after := map[string]string{"reload": "The server must read its configuration again. ",
		"restart": "The server must be restarted. "}[c.After]
	if note := strings.TrimSpace(after + c.Effect); note != "" {
		_, _ = fmt.Fprintf(w, "    %s\n", note)
	}
}

func (a *app) clusterRole() *cobra.Command {
	var role string
	var major int
	cmd := &cobra.Command{
		Use: "role", Short: "Print SQL that makes a role with just the rights that are needed", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var s api.Script
			if err := c.get(cmd.Context(), fmt.Sprintf("/readiness/role?role=%s&version=%d", url.QueryEscape(role), major),
				&s); err != nil {
				return err
			}
			return a.show(cmd, s, func(w io.Writer) { _, _ = io.WriteString(w, s.Text) })
		},
	}
	cmd.Flags().StringVar(&role, "name", "velvet", "name of the role")
	cmd.Flags().IntVar(&major, "server", 0, "major version of the cluster's server, where functions had other names (14)")
	return cmd
}

// listed is a cluster in a file of clusters.
type listed struct {
	Name                    string            `yaml:"name"`
	Connect                 string            `yaml:"connect"`
	PasswordFile            string            `yaml:"password-file"`
	ReplicationUser         string            `yaml:"replication-user"`
	ReplicationPasswordFile string            `yaml:"replication-password-file"`
	Labels                  map[string]string `yaml:"labels"`
	NoBase                  bool              `yaml:"no-base"`
}

func readList(path string) ([]listed, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer func() { _ = f.Close() }()
	var file struct {
		Clusters []listed `yaml:"clusters"`
	}
	d := yaml.NewDecoder(bufio.NewReader(f))
	d.KnownFields(true)
	if err := d.Decode(&file); err != nil {
		return nil, fmt.Errorf("%s: %w; it lists clusters, each with name, connect, and if need be password-file, replication-user, "+
			"replication-password-file, labels and no-base", path, err)
	}
	names := make(map[string]bool)
	for i, k := range file.Clusters {
		if k.Name == "" || k.Connect == "" {
			return nil, fmt.Errorf("%s: cluster %d lacks its name or how to connect", path, i+1)
		}
		if names[k.Name] {
			return nil, fmt.Errorf("%s: %s is there twice", path, k.Name)
		}
		names[k.Name] = true
	}
	return file.Clusters, nil
}

func (a *app) clusterRegister() *cobra.Command {
	var dryRun bool
	cmd := &cobra.Command{
		Use: "register FILE", Short: "Register the clusters that a YAML file lists, after testing each", Args: cobra.ExactArgs(1),
		Example: "  velvet cluster register fleet.yaml --dry-run\n\n" +
			"  clusters:\n    - name: ferries\n      connect: host=db1 user=velvet dbname=postgres\n      password-file: " +
			"/etc/velvet/ferries\n      labels: {fleet: outer}",
		RunE: func(cmd *cobra.Command, args []string) error {
			list, err := readList(args[0])
			if err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			t := grid(cmd.OutOrStdout(), "cluster", "outcome", "")
			failed := 0
			for _, k := range list {
				outcome, note := a.registerOne(cmd, c, k, dryRun)
				if outcome == "failed" || outcome == "not ready" {
					failed++
				}
				t.AppendRow([]any{k.Name, outcome, note})
			}
			t.Render()
			if failed > 0 {
				return fmt.Errorf("%d of %d clusters cannot be registered yet", failed, len(list))
			}
			return nil
		},
	}
	cmd.Flags().BoolVar(&dryRun, "dry-run", false, "only test each, and register none")
	return cmd
}

func (a *app) registerOne(cmd *cobra.Command, c *client, k listed, dryRun bool) (outcome, note string) {
	l := api.Login{ConnString: k.Connect, ReplicationUser: k.ReplicationUser}
	for path, into := range map[string]*string{k.PasswordFile: &l.Password, k.ReplicationPasswordFile: &l.ReplicationPassword} {
		if path == "" {
			continue
		}
		content, err := os.ReadFile(path)
		if err != nil {
			return "failed", err.Error()
		}
		*into = strings.TrimRight(string(content), "\r\n")
	}
	var r api.ReadinessReport
	if err := c.post(cmd.Context(), "/readiness", l, &r); err != nil {
		return "failed", reasonOf(err)
	}
	if checksIn(r, readiness.Needed) > 0 {
		var needed []string
		for _, check := range r.Checks {
			if is(check, readiness.Needed) {
				needed = append(needed, check.Title+": "+check.Found)
			}
		}
		return "not ready", strings.Join(needed, "; ")
	}
	if dryRun {
		return "would be registered", fmt.Sprintf("%d advised", checksIn(r, readiness.Advised))
	}
	in := api.AddClusterRequest{Name: k.Name, ConnString: k.Connect, Password: l.Password, ReplicationUser: k.ReplicationUser,
		ReplicationPassword: l.ReplicationPassword, Labels: k.Labels, NoBase: k.NoBase}
	var added api.AddedCluster
	if err := c.post(cmd.Context(), "/clusters", in, &added); err != nil {
		return "failed", reasonOf(err)
	}
	return "registered", added.Task
}

// reasonOf is why something failed, in one line.
func reasonOf(err error) string {
	var p *api.Problem
	if errors.As(err, &p) {
		return p.Detail
	}
	return err.Error()
}

func is(c api.ReadinessCheck, state readiness.State) bool { return c.State == string(state) }

// checksIn counts the checks in a state.
func checksIn(r api.ReadinessReport, state readiness.State) (n int) {
	for _, c := range r.Checks {
		if is(c, state) {
			n++
		}
	}
	return n
}
