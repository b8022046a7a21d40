package cli

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"runtime/debug"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	api "youngtrellis/api/client"
	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/intake"
	"youngtrellis/internal/node"
	"youngtrellis/internal/server"
	"youngtrellis/internal/service"
	"youngtrellis/internal/store"
)

// serveFlags are those of the service; each may also come from TRELLIS_….
type serveFlags struct {
	database, passwordFile, listen, public, pages, data, vault, log string
	proxies                                                         []string
	plainHTTP                                                       bool
	runs, hookRate, eventItems, queue                               int
	lease                                                           time.Duration
}

func (f *serveFlags) register(fs *pflag.FlagSet) {
	fs.StringVar(&f.database, "database-url", "", "PostgreSQL, as postgres://user@host:5432/trellis, without password (TRELLIS_DATABASE_URL)")
	fs.StringVar(&f.passwordFile, "database-password-file", "", "file with the database password (TRELLIS_DATABASE_PASSWORD_FILE)")
	fs.StringVar(&f.listen, "listen", "127.0.0.1:7480", "address to listen on (TRELLIS_LISTEN)")
	fs.StringVar(&f.public, "public-url", "", "address by which people call this service; needed beyond loopback (TRELLIS_PUBLIC_URL)")
	fs.StringVar(&f.pages, "pages-url", "", "address of forms, their answers and webhooks, at a host name of its own (TRELLIS_PAGES_URL)")
	fs.StringVar(&f.data, "data", defaultData(), "folder for the vault key and the node's lock (TRELLIS_DATA)")
	fs.StringVar(&f.vault, "vault-key", "", "file with the vault key; vault.key in the data folder unless given (TRELLIS_VAULT_KEY)")
	fs.IntVar(&f.runs, "runs", 64, "how many runs are carried out at once (TRELLIS_RUNS)")
	fs.DurationVar(&f.lease, "lease", node.LeaseDefault, "a node that was silent for so long is dead, and others take its runs over; the same on all nodes (TRELLIS_LEASE)")
	fs.IntVar(&f.hookRate, "hook-rate", server.DefaultHookRate, "webhook calls a second that one caller may make and one address may take (TRELLIS_HOOK_RATE)")
	fs.IntVar(&f.eventItems, "event-items", intake.MaxItems, "items that start with one event, or by hand, at most (TRELLIS_EVENT_ITEMS)")
	fs.IntVar(&f.queue, "queue-limit", intake.MaxQueue, "runs of a workspace that wait for their turn, at most; callers are told to come again then (TRELLIS_QUEUE_LIMIT)")
	fs.BoolVar(&f.plainHTTP, "plain-http", false, "let the public address be http beyond loopback, where nobody listens in between (TRELLIS_PLAIN_HTTP)")
	fs.StringSliceVar(&f.proxies, "trusted-proxies", nil, "proxies before this service, as 10.0.0.7,10.1.0.0/16, whose word about who called is taken (TRELLIS_TRUSTED_PROXIES)")
	fs.StringVar(&f.log, "log", "info", "what is logged: debug, info, warn, error (TRELLIS_LOG)")
}

func defaultData() string {
	if dir, err := os.UserConfigDir(); err == nil {
		return filepath.Join(dir, "trellis", "data")
	}
	return "trellis-data"
}

// environment fills flags that were not given from TRELLIS_….
func environment(fs *pflag.FlagSet) error {
	var failed error
	fs.VisitAll(func(f *pflag.Flag) {
		name := "TRELLIS_" + strings.ToUpper(strings.ReplaceAll(f.Name, "-", "_"))
		if v, ok := os.LookupEnv(name); ok && !f.Changed {
			if err := f.Value.Set(v); err != nil && failed == nil {
				failed = usage("%s is %q: %v", name, v, err)
			}
		}
	})
	return failed
}

func (f *serveFlags) logger(a *app) (*slog.Logger, error) {
	var level slog.Level
	if err := level.UnmarshalText([]byte(f.log)); err != nil {
		return nil, usage("--log is %q; it can be debug, info, warn or error", f.log)
	}
	return slog.New(slog.NewTextHandler(a.errOut, &slog.HandlerOptions{Level: level})), nil
}

func (f *serveFlags) databaseURL() (string, error) {
	if f.database == "" {
		return "", usage("--database-url is missing. Give the PostgreSQL to use, or try the demo: trellis demo")
	}
	if err := store.CheckURL(f.database); err != nil {
		return "", &coded{exitUsage, err}
	}
	return store.WithPassword(f.database, f.passwordFile)
}

// collectAt is by how many per cent the heap grows until it is collected. What a
// node keeps is small beside what passes through it: at Go's own 100 a sixth of
// its time under load goes into collecting. GOGC says otherwise.
const collectAt = 300

func (a *app) serve() *cobra.Command {
	f := &serveFlags{}
	c := &cobra.Command{Use: "serve", Short: "Run the service", RunE: func(c *cobra.Command, _ []string) error {
		if err := environment(c.Flags()); err != nil {
			return err
		}
		log, err := f.logger(a)
		if err != nil {
			return err
		}
		address, err := f.databaseURL()
		if err != nil {
			return err
		}
		if f.runs < 1 || f.runs > 10_000 {
			return usage("--runs is %d; it lies between 1 and 10000", f.runs)
		}
		if f.lease < node.LeaseLeast || f.lease > time.Hour {
			return usage("--lease is %s; it lies between %s and 1h", f.lease, node.LeaseLeast)
		}
		if f.hookRate < 1 || f.hookRate > 1_000_000 {
			return usage("--hook-rate is %d; it lies between 1 and 1000000", f.hookRate)
		}
		if f.eventItems < 1 || f.eventItems > 1_000_000 {
			return usage("--event-items is %d; it lies between 1 and 1000000", f.eventItems)
		}
		if f.queue < 1 || f.queue > 10_000_000 {
			return usage("--queue-limit is %d; it lies between 1 and 10000000", f.queue)
		}
		proxies, err := server.ParseProxies(f.proxies)
		if err != nil {
			return usage("--trusted-proxies: %v", err)
		}
		s, err := service.Start(c.Context(), service.Config{DatabaseURL: address, Listen: f.listen, PublicURL: f.public, PagesURL: f.pages, PlainHTTP: f.plainHTTP, Data: f.data, VaultKey: f.vault, Runs: f.runs, Lease: f.lease, Proxies: proxies, HookRate: f.hookRate, EventItems: f.eventItems, Queue: f.queue, Log: log})
		if err != nil {
			return explainStart(err, f.database)
		}
		defer s.Close()
		if os.Getenv("GOGC") == "" {
			debug.SetGCPercent(collectAt)
		}
		if has, err := s.Store.HasPeople(c.Context()); err == nil && !has {
			fmt.Fprintln(a.errOut, "Nobody can sign in yet. Make the first person with: trellis setup --workspace NAME --email ADDRESS --name NAME")
		}
		fmt.Fprintf(a.out, "Young Trellis serves at %s\n", s.Address)
		select {
		case <-c.Context().Done():
			fmt.Fprintln(a.errOut, "stopping: running work is handed over at its next effect")
			return nil
		case err := <-s.Done():
			return err
		}
	}}
	f.register(c.Flags())
	return c
}

func explainStart(err error, database string) error {
	if store.IsUnavailable(err) {
		return fmt.Errorf("the database at %s cannot be reached: %w. Is PostgreSQL running there, and is the password right?", database, err)
	}
	return err
}

func (a *app) setup() *cobra.Command {
	f := &serveFlags{}
	var workspace, email, name, file string
	c := &cobra.Command{Use: "setup", Short: "Make a workspace and its first person, on the machine of the service", RunE: func(c *cobra.Command, _ []string) error {
		if err := environment(c.Flags()); err != nil {
			return err
		}
		address, err := f.databaseURL()
		if err != nil {
			return err
		}
		password, err := a.secret("The person's password", file)
		if err != nil {
			return err
		}
		s, err := store.Open(c.Context(), address, "")
		if err != nil {
			return explainStart(err, f.database)
		}
		defer s.Close()
		if _, err := s.CreateOwner(c.Context(), workspace, email, name, password); err != nil {
			return err
		}
		fmt.Fprintf(a.out, "%s can now sign in to %s\n", email, workspace)
		return nil
	}}
	f.register(c.Flags())
	c.Flags().StringVar(&workspace, "workspace", "", "name of the workspace")
	c.Flags().StringVar(&email, "email", "", "mail address by which the person signs in")
	c.Flags().StringVar(&name, "name", "", "the person's name")
	c.Flags().StringVar(&file, "password-file", "", "file that holds the password; - for standard input")
	for _, n := range []string{"workspace", "email", "name"} {
		_ = c.MarkFlagRequired(n)
	}
	return c
}

func (a *app) login() *cobra.Command {
	var email, file string
	var makes bool
	c := &cobra.Command{Use: "login ADDRESS", Short: "Sign in to a service; keeps a token in a file of yours", RunE: func(c *cobra.Command, args []string) error {
		base := strings.TrimSuffix(args[0], "/")
		if u, err := url.Parse(base); err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
			return usage("%q is not an address; it is written as http://127.0.0.1:7480", args[0])
		}
		password, err := a.secret("Password", file)
		if err != nil {
			return err
		}
		var cookies []*http.Cookie
		cl, err := a.clientAt(base, func(r *http.Request) {
			for _, k := range cookies {
				r.AddCookie(k)
			}
		})
		if err != nil {
			return err
		}
		res, err := cl.SignIn(c.Context(), api.SignIn{Email: email, Password: password})
		if err == nil {
			cookies = res.Cookies()
		}
		me, err := got[api.Me](res, err)
		if err != nil {
			return err
		}
		machine, _ := os.Hostname()
		made, err := got[api.MadeToken](cl.CreateToken(c.Context(), api.NewToken{Name: "command line on " + machine, Makes: &makes}))
		if err != nil {
			return err
		}
		path, err := a.configPath()
		if err != nil {
			return err
		}
		if err := a.save(path, settings{Address: base, Token: made.Secret}); err != nil {
			return err
		}
		if res, err := cl.SignOut(c.Context()); err == nil {
			res.Body.Close()
		}
		return a.show(me, func() { fmt.Fprintf(a.out, "signed in to %s as %s, %s\n", me.Workspace, me.Name, me.Role) })
	}}
	c.Flags().StringVar(&email, "email", "", "mail address")
	c.Flags().StringVar(&file, "password-file", "", "file that holds the password; - for standard input")
	c.Flags().BoolVar(&makes, "makes-tokens", false, "let the command line make further tokens, which end with its own")
	_ = c.MarkFlagRequired("email")
	return c
}

func (a *app) listFunctions(args []string) error {
	query := strings.Join(args, " ")
	list := expr.Search(query)
	if len(list) == 0 {
		return &coded{exitNotFound, fmt.Errorf("no function is about %q; trellis functions lists all by group", query)}
	}
	return a.show(map[string]any{"functions": list}, func() {
		group := ""
		for _, f := range list {
			if query == "" && f.Group != group {
				group = f.Group
				fmt.Fprintln(a.out, "\n"+a.paint(bold, group))
			}
			fmt.Fprintf(a.out, "  %s\n      %s\n", a.paint(green, f.Usage), f.Help)
			if query != "" && f.Errors != "" {
				fmt.Fprintf(a.out, "      An error if %s.\n", f.Errors)
			}
			fmt.Fprintf(a.out, "      %s\n", a.paint(grey, f.Example+" gives "+f.Result))
		}
	})
}

// doctor checks the installation and says what to mend.
func (a *app) doctor() *cobra.Command {
	f := &serveFlags{}
	c := &cobra.Command{Use: "doctor", Short: "Check the installation and say what to mend", RunE: func(c *cobra.Command, _ []string) error {
		if err := environment(c.Flags()); err != nil {
			return err
		}
		list := []finding{}
		say := func(ok bool, what, cure string) {
			x := finding{Fine: ok, What: what}
			if !ok {
				x.Cure = cure
			}
			list = append(list, x)
		}
		server, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
		if _, err := exec.LookPath("postgres"); err == nil {
			server = append(server, "")
		}
		say(len(server) > 0, "PostgreSQL's server for the demo and the tests", "apt-get install postgresql")
		if f.database != "" {
			a.checkDatabase(c.Context(), f, say)
		}
		if s, err := a.settings(); err != nil {
			say(true, "not signed in anywhere, which is right on the machine of the service", "")
		} else if cl, err := a.client(); err == nil {
			me, err := got[api.Me](cl.Me(c.Context()))
			what := fmt.Sprintf("signed in at %s as %s", s.Address, me.Name)
			if err != nil {
				what = fmt.Sprintf("the service at %s: %v", s.Address, err)
			}
			say(err == nil, what, "start the service, or sign in anew with: trellis login "+s.Address+" --email ADDRESS")
		}
		bad := 0
		for _, x := range list {
			if !x.Fine {
				bad++
			}
		}
		err := a.show(map[string]any{"findings": list}, func() {
			for _, x := range list {
				mark := a.paint(green, "fine")
				if !x.Fine {
					mark = a.paint(red, "mend")
				}
				fmt.Fprintf(a.out, "%s  %s\n", mark, x.What)
				if x.Cure != "" {
					fmt.Fprintf(a.out, "      %s\n", x.Cure)
				}
			}
		})
		if err == nil && bad > 0 {
			err = errors.New(strconv.Itoa(bad) + " to mend")
		}
		return err
	}}
	f.register(c.Flags())
	return c
}

// finding is one thing that doctor looked at.
type finding struct {
	Fine bool   `json:"fine"`
	What string `json:"what"`
	Cure string `json:"cure,omitempty"`
}

func (a *app) checkDatabase(ctx context.Context, f *serveFlags, say func(bool, string, string)) {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	address, err := f.databaseURL()
	if err == nil {
		var s *store.Store
		if s, err = store.Open(ctx, address, ""); err == nil {
			s.Close()
		}
	}
	what := "the database at " + f.database
	if err != nil {
		what += ": " + err.Error()
	}
	say(err == nil, what, "start PostgreSQL there, and name the file of its password with --database-password-file")
	key := f.vault
	if key == "" {
		key = filepath.Join(f.data, "vault.key")
	}
	info, err := os.Stat(key)
	say(err != nil || info.Mode().Perm()&0o077 == 0, "the vault key "+key, "chmod 600 "+key)
}
