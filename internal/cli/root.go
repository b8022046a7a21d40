// Package cli is the command line: trellis NOUN VERB.
package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"

	"github.com/google/uuid"
	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v3"
	"golang.org/x/term"

	api "youngtrellis/api/client"
	"youngtrellis/internal/core/document"
	"youngtrellis/internal/core/words"
)

// Exit codes.
const (
	exitFailed   = 1
	exitUsage    = 2
	exitNotFound = 3
	exitRefused  = 4
	exitConflict = 5
)

// coded is an error with an exit code.
type coded struct {
	code int
	err  error
}

func (c *coded) Error() string { return c.err.Error() }
func (c *coded) Unwrap() error { return c.err }

func usage(format string, args ...any) error { return &coded{exitUsage, fmt.Errorf(format, args...)} }

// app is what the commands share.
type app struct {
	in     io.Reader
	out    io.Writer // for people, unless the output is JSON or YAML
	raw    io.Writer // for documents, as they are
	errOut io.Writer
	output string // table, json or yaml
	config string
	color  bool
	yes    bool // to what would be asked
}

// Main runs the command line and returns its exit code.
func Main(args []string) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	return Run(ctx, args, os.Stdin, os.Stdout, os.Stderr)
}

// Run is Main with its surroundings given.
func Run(ctx context.Context, args []string, in io.Reader, out, errOut io.Writer) int {
	a := &app{in: in, out: out, raw: out, errOut: errOut}
	if f, ok := out.(*os.File); ok && term.IsTerminal(int(f.Fd())) && os.Getenv("NO_COLOR") == "" {
		a.color = true
	}
	root := a.root()
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(out)
	root.SetErr(errOut)
	err := root.ExecuteContext(ctx)
	if s, ok := a.out.(*seen); ok {
		err = cmp.Or(err, s.flush())
	}
	if err == nil {
		return 0
	}
	err = ofFlags(err)
	fmt.Fprintln(errOut, "trellis: "+words.Visible(err.Error()))
	var c *coded
	if errors.As(err, &c) {
		return c.code
	}
	return exitFailed
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use: "trellis", Short: "Connect applications into workflows whose every record can be followed",
		SilenceUsage: true, SilenceErrors: true,
		PersistentPreRunE: func(*cobra.Command, []string) error {
			if a.output == "table" {
				a.out = &seen{Writer: a.raw, room: a.room()}
			}
			return nil
		},
	}
	a.output = "table"
	root.PersistentFlags().VarP(&choice{&a.output, []string{"table", "json", "yaml"}}, "output", "o", "how it is written: table, json or yaml")
	_ = root.RegisterFlagCompletionFunc("output", cobra.FixedCompletions([]string{"table", "json", "yaml"}, cobra.ShellCompDirectiveNoFileComp))
	root.PersistentFlags().BoolVar(&a.yes, "yes", false, "do what would be asked, without asking")
	root.PersistentFlags().StringVar(&a.config, "config", "", "file with the service's address and token (TRELLIS_CONFIG)")
	root.AddCommand(a.serve(), a.demo(), a.standins(), a.login(), a.workflow(), a.trigger(), a.run(), a.item(), a.connection(), a.connector(), a.sample(), a.list(), a.vault(), a.token(), a.workspace(), a.functions(), a.doctor(), a.setup(), a.version())
	a.arranged(root)
	return root
}

// Version is set by the build.
var Version = "development"

func (a *app) version() *cobra.Command {
	return &cobra.Command{Use: "version", Short: "Print the version", RunE: func(*cobra.Command, []string) error {
		return a.show(map[string]string{"version": Version}, func() { fmt.Fprintln(a.out, Version) })
	}}
}

// noun groups verbs.
func noun(use, short string, verbs ...*cobra.Command) *cobra.Command {
	c := &cobra.Command{Use: use, Short: short}
	c.AddCommand(verbs...)
	return c
}

// settings is the file that login writes.
type settings struct {
	Address string `json:"address"`
	Token   string `json:"token"`
}

func (a *app) configPath() (string, error) {
	if a.config != "" {
		return a.config, nil
	}
	if p := os.Getenv("TRELLIS_CONFIG"); p != "" {
		return p, nil
	}
	dir, err := os.UserConfigDir()
	return filepath.Join(dir, "trellis", "config.json"), err
}

func (a *app) settings() (settings, error) {
	path, err := a.configPath()
	if err != nil {
		return settings{}, err
	}
	b, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		return settings{}, &coded{exitRefused, fmt.Errorf("nobody is signed in (%s is not there); sign in with: trellis login ADDRESS", path)}
	}
	if err != nil {
		return settings{}, err
	}
	var s settings
	if err := json.Unmarshal(b, &s); err != nil {
		return s, fmt.Errorf("%s cannot be read: %w", path, err)
	}
	return s, nil
}

func (a *app) save(path string, s settings) error {
	b, err := json.MarshalIndent(s, "", "  ")
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	return os.WriteFile(path, append(b, '\n'), 0o600)
}

func (a *app) client() (*api.Client, error) {
	s, err := a.settings()
	if err != nil {
		return nil, err
	}
	return a.clientAt(s.Address, func(r *http.Request) { r.Header.Set("Authorization", "Bearer "+s.Token) })
}

// signedIn makes the body of a command that calls the service.
func (a *app) signedIn(body func(*cobra.Command, *api.Client, []string) error) func(*cobra.Command, []string) error {
	return func(c *cobra.Command, args []string) error {
		cl, err := a.client()
		if err != nil {
			return err
		}
		return a.unknownName(c, cl, args, body(c, cl, args))
	}
}

// onRun makes the body of a command whose first argument is a run.
func (a *app) onRun(body func(*cobra.Command, *api.Client, uuid.UUID, []string) error) func(*cobra.Command, []string) error {
	return func(c *cobra.Command, args []string) error {
		return a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
			id, err := runID(c.Context(), cl, args[0])
			if err != nil {
				return err
			}
			return body(c, cl, id, args)
		})(c, args)
	}
}

// got reads an answer, or turns a problem document into an error.
func got[T any](res *http.Response, err error) (T, error) {
	var out T
	var none *notOurs
	switch {
	case errors.As(err, &none):
		return out, none
	case errors.Is(err, context.Canceled):
		return out, errors.New("it was broken off here; what the service had begun goes on")
	case err != nil:
		return out, fmt.Errorf("the service cannot be reached: %w. Is it running? See trellis doctor", err)
	}
	defer res.Body.Close()
	body, err := io.ReadAll(res.Body)
	if err != nil {
		return out, err
	}
	if res.StatusCode >= 300 {
		return out, refusal(res.StatusCode, body)
	}
	if len(body) == 0 {
		return out, nil
	}
	return out, json.Unmarshal(body, &out)
}

func refusal(status int, body []byte) error {
	var p api.Problem
	text := strings.TrimSpace(string(body))
	if json.Unmarshal(body, &p) == nil && p.Title != "" {
		text = p.Title
		if p.Fields != nil {
			for _, f := range *p.Fields {
				text += "\n  " + strings.TrimPrefix(f.Field+": ", ": ") + f.Message
			}
		}
		if p.Detail != nil {
			text += "\n" + *p.Detail
		}
		if p.Problems != nil {
			for _, f := range *p.Problems {
				text += "\n  " + placed(f)
			}
		}
	}
	code := exitFailed
	switch status {
	case 400:
		code = exitUsage
	case 401, 403:
		code = exitRefused
	case 404:
		code = exitNotFound
	case 409, 412:
		code = exitConflict
	case 422:
		if strings.HasSuffix(p.Type, "invalid_input") {
			code = exitUsage
		}
	}
	return &coded{code, errors.New(text)}
}

func placed(f api.Finding) string {
	s := fmt.Sprintf("%s, line %d, column %d: %s", f.Severity, f.Line, f.Column, f.Message)
	if f.Cure != nil {
		s += " " + *f.Cure
	}
	return s
}

// show prints a value as JSON or YAML, or lets table print it for people.
func (a *app) show(v any, table func()) error {
	switch a.output {
	case "json":
		e := json.NewEncoder(a.out)
		e.SetIndent("", "  ")
		e.SetEscapeHTML(false)
		return e.Encode(v)
	case "yaml":
		b, err := json.Marshal(v)
		if err != nil {
			return err
		}
		var n yaml.Node
		if err := yaml.Unmarshal(b, &n); err != nil {
			return err
		}
		plain(&n)
		text, err := document.Encode(&n)
		if err == nil {
			_, err = a.out.Write(text)
		}
		return err
	}
	table()
	return nil
}

// plain gives nodes read from JSON the style of YAML.
func plain(n *yaml.Node) {
	n.Style = 0
	for _, c := range n.Content {
		plain(c)
	}
}

// read gives a file's text; - is standard input.

// asks tells whether somebody sits there who can be asked.
func (a *app) asks() (*os.File, bool) {
	f, ok := a.in.(*os.File)
	return f, ok && term.IsTerminal(int(f.Fd()))
}

// secret reads one from a file or standard input; it prompts on a terminal
// only. No flag takes a secret itself.
func (a *app) secret(prompt, file string) (string, error) {
	if file != "" {
		b, err := a.read(file)
		return strings.TrimSpace(string(b)), err
	}
	if f, ok := a.asks(); ok {
		fmt.Fprint(a.errOut, prompt+": ")
		b, err := term.ReadPassword(int(f.Fd()))
		fmt.Fprintln(a.errOut)
		return strings.TrimSpace(string(b)), err
	}
	b, err := io.ReadAll(io.LimitReader(a.in, 64<<10))
	if err == nil && len(strings.TrimSpace(string(b))) == 0 {
		return "", usage("%s is missing: give it on standard input, or name its file", prompt)
	}
	return strings.TrimSpace(string(b)), err
}
