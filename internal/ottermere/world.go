// Package ottermere puts the demo's world together: a private PostgreSQL
// cluster, the stand-ins, a service, and the workspace of Ottermere Clayworks.
// The end-to-end tests use the same world.
package ottermere

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	api "youngtrellis/api/client"
	"youngtrellis/demo"
	"youngtrellis/internal/cluster"
	"youngtrellis/internal/service"
	"youngtrellis/internal/standins/contacts"
	"youngtrellis/internal/standins/tables"
	"youngtrellis/internal/store"
)

// Options of Start.
type Options struct {
	Data   string // folder; made if it is not there
	Listen string // of the service; empty: any free loopback port
	// HookRate is how many calls a second one caller may make; 0: as many as unless said.
	HookRate int
	Pages    string // host name of forms, their answers and webhooks; empty: that of the service
	Log      *slog.Logger
	Say      func(string) // what is being done
	// Cluster to use instead of one of its own, and the database in it.
	Cluster  *cluster.Cluster
	Database string
	// Bare leaves the workspace without connections and workflows.
	Bare bool
	// Few starts only the stand-ins that the first two workflows need.
	Few bool
	Day time.Time // from which the pieces' dates count; zero: today
}

// Facts is what the world must remember to go on later. It is kept in a file
// that only its owner can read.
type Facts struct {
	Email        string `json:"email"`
	Password     string `json:"password"`
	Token        string `json:"token"`
	TablesKey    string `json:"tables_key"`
	TablesPort   int    `json:"tables_port"`
	ContactsKey  string `json:"contacts_key"`
	ContactsPort int    `json:"contacts_port"`
	// Keys and ports of the others, by name.
	Keys        map[string]string `json:"keys"`
	Ports       map[string]int    `json:"ports"`
	HookSecret  string            `json:"hook_secret"`
	HookAddress string            `json:"hook_address"`
	ChatSecret  string            `json:"chat_secret"` // by which the chat signs what it sends
	Filled      bool              `json:"filled"`
}

// World is the running demo.
type World struct {
	Facts
	Data         string
	Service      *service.Service
	Tables       *tables.Tables
	Contacts     *contacts.Contacts
	TablesBase   string
	ContactsBase string
	Others       *Others
	Stands       []*Standing // all of them, in order
	Client       *api.Client
	Cluster      *cluster.Cluster
	DatabaseURL  string

	own     bool // the cluster is ours to stop
	options Options
	servers []*http.Server
}

func random(n int) string {
	b := make([]byte, n)
	_, _ = rand.Read(b)
	return base64.RawURLEncoding.EncodeToString(b)
}

// Start starts everything. What it started is stopped again if something fails.
func Start(ctx context.Context, o Options) (_ *World, err error) {
	if o.Say == nil {
		o.Say = func(string) {}
	}
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	if o.Listen == "" {
		o.Listen = "127.0.0.1:0"
	}
	if o.Day.IsZero() {
		o.Day = time.Now().UTC()
	}
	w := &World{Data: o.Data, options: o, Cluster: o.Cluster}
	defer func() {
		if err != nil {
			w.Close()
		}
	}()
	if err := os.MkdirAll(o.Data, 0o755); err != nil {
		return nil, err
	}
	if err := w.load(); err != nil {
		return nil, err
	}
	if err := w.startDatabase(ctx); err != nil {
		return nil, err
	}
	o.Say("starting the stand-ins")
	if err := w.startStandins(ctx); err != nil {
		return nil, err
	}
	o.Say("starting the service")
	if err := w.startService(ctx); err != nil {
		return nil, err
	}
	if err := w.fill(ctx); err != nil {
		return nil, err
	}
	return w, w.remember()
}

func (w *World) factsPath() string { return filepath.Join(w.Data, "demo.json") }

func (w *World) load() error {
	b, err := os.ReadFile(w.factsPath())
	if errors.Is(err, fs.ErrNotExist) {
		w.Facts = Facts{Email: "mara@ottermere.example", Password: random(12), TablesKey: "tk_" + random(18), ContactsKey: "ct_" + random(18)}
		return nil
	}
	if err == nil {
		err = json.Unmarshal(b, &w.Facts)
	}
	return err
}

func (w *World) remember() error {
	b, err := json.MarshalIndent(w.Facts, "", "  ")
	if err != nil {
		return err
	}
	if err := os.WriteFile(w.factsPath(), append(b, '\n'), 0o600); err != nil {
		return err
	}
	cli, err := json.MarshalIndent(map[string]string{"address": w.Service.Address, "token": w.Token}, "", "  ")
	if err != nil {
		return err
	}
	return os.WriteFile(w.ConfigPath(), append(cli, '\n'), 0o600)
}

// ConfigPath is the file by which the command line reaches this world.
func (w *World) ConfigPath() string { return filepath.Join(w.Data, "cli.json") }

func (w *World) startDatabase(ctx context.Context) error {
	name := w.options.Database
	if w.Cluster == nil {
		w.options.Say("starting a private PostgreSQL in " + filepath.Join(w.Data, "postgres"))
		var err error
		if w.Cluster, err = cluster.Start(ctx, cluster.Options{Dir: filepath.Join(w.Data, "postgres")}); err != nil {
			return err
		}
		w.own = true
	}
	if name == "" {
		name = "trellis"
	}
	var err error
	w.DatabaseURL, err = w.Cluster.Database(ctx, name)
	return err
}

// listen takes the port used before, or any free one.
func listen(port int) (net.Listener, error) {
	if port != 0 {
		if l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port)); err == nil {
			return l, nil
		}
	}
	return net.Listen("tcp", "127.0.0.1:0")
}

func (w *World) startService(ctx context.Context) error {
	var err error
	pages := ""
	if w.options.Pages != "" {
		pages = "http://" + w.options.Pages
	}
	w.Service, err = service.Start(ctx, service.Config{PagesURL: pages, HookRate: w.options.HookRate, DatabaseURL: w.DatabaseURL, Listen: w.options.Listen, Data: filepath.Join(w.Data, "service"), Log: w.options.Log, Excepted: w.excepted()})
	return err
}

func host(base string) string {
	u, _ := url.Parse(base)
	return u.Host
}

// fill makes the workspace the first time, and keeps its connections pointing
// at where the stand-ins are.
func (w *World) fill(ctx context.Context) error {
	s := w.Service.Store
	if w.Token == "" {
		sc, err := s.CreateOwner(ctx, "Ottermere Clayworks", w.Email, "Mara Quill", w.Password)
		if err != nil {
			return err
		}
		if w.Token, _, err = s.CreateToken(ctx, sc, store.NewToken{Name: "demo", Role: store.Owner, Makes: true}); err != nil {
			return err
		}
		if err := w.remember(); err != nil {
			return err
		}
	}
	sc, err := s.ScopeOfToken(ctx, w.Token)
	if err != nil {
		return fmt.Errorf("the demo's token is not known to its database any more; begin anew with --fresh: %w", err)
	}
	if err := s.Allow(ctx, sc, w.allowances()...); err != nil {
		return err
	}
	if w.Client, err = w.NewClient(w.Token); err != nil {
		return err
	}
	if w.options.Bare {
		return nil
	}
	if err := w.connect(ctx); err != nil {
		return err
	}
	if w.Filled {
		return w.address(ctx)
	}
	w.options.Say("filling the workspace: connections, lists, workflows, samples")
	if err := w.lists(ctx); err != nil {
		return err
	}
	return w.workflows(ctx)
}

// NewClient makes a client of the service with a token.
func (w *World) NewClient(token string) (*api.Client, error) {
	return api.NewClient(w.Service.Address+"/api/v1", api.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
		r.Header.Set("Authorization", "Bearer "+token)
		return nil
	}))
}

func (w *World) lists(ctx context.Context) error {
	names, err := fs.Glob(demo.Files, "lists/*.csv")
	if err != nil {
		return err
	}
	for _, path := range names {
		text, err := demo.Files.ReadFile(path)
		if err != nil {
			return err
		}
		name, csv := strings.TrimSuffix(filepath.Base(path), ".csv"), string(text)
		of := demo.Lists[name]
		if _, err := Answer[api.WorkspaceList](w.Client.AddList(ctx, api.NewList{Name: name, Title: &of.Title, About: &of.About, Csv: &csv})); err != nil {
			return fmt.Errorf("list %s: %w", name, err)
		}
	}
	return nil
}

func (w *World) workflows(ctx context.Context) error {
	names, err := fs.Glob(demo.Files, "workflows/*.yaml")
	if err != nil {
		return err
	}
	for _, path := range names {
		text, err := demo.Files.ReadFile(path)
		if err != nil {
			return err
		}
		name := strings.TrimSuffix(filepath.Base(path), ".yaml")
		if w.options.Few && name != "counter-calls" && name != "kiln-list" {
			continue
		}
		if _, err := Answer[api.Workflow](w.Client.CreateWorkflow(ctx, api.Document{Document: string(text)})); err != nil {
			return fmt.Errorf("workflow %s: %w", name, err)
		}
		for _, s := range demo.Samples[name] {
			source := "from the demo"
			if _, err := Answer[api.Sample](w.Client.AddSample(ctx, name, api.NewSample{Fields: api.Fields(s), Source: &source})); err != nil {
				return fmt.Errorf("sample of %s: %w", name, err)
			}
		}
		if _, err := Answer[api.Workflow](w.Client.GoLive(ctx, name, &api.GoLiveParams{})); err != nil {
			return fmt.Errorf("putting %s live: %w", name, err)
		}
	}
	made, err := Answer[api.MadeSecret](w.Client.MakeHookSecret(ctx, "counter-calls", api.MakeHookSecretJSONRequestBody{}))
	if err != nil {
		return err
	}
	w.HookSecret = *made.Secret
	if !w.options.Few {
		if made, err = Answer[api.MadeSecret](w.Client.MakeHookSecret(ctx, "chat-desk", api.MakeHookSecretJSONRequestBody{})); err != nil {
			return err
		}
		w.ChatSecret = *made.Secret
	}
	w.Filled = true
	return w.address(ctx)
}

// address is found anew at each start, since the port may be another.
func (w *World) address(ctx context.Context) error {
	sheet, err := Answer[api.CallSheet](w.Client.CallSheet(ctx, "counter-calls"))
	w.HookAddress = sheet.Address
	if err != nil || w.Others == nil {
		return err
	}
	sheet, err = Answer[api.CallSheet](w.Client.CallSheet(ctx, "chat-desk"))
	w.Others.Chat.Tell(sheet.Address, w.ChatSecret)
	return err
}

// Status is an answer that says no.
type Status struct {
	Code  int
	Title string
	Body  string
}

func (s *Status) Error() string { return fmt.Sprintf("answered %d: %s", s.Code, s.Title) }

// Answer reads an answer of the client; the error is a *Status where the
// service said no.
func Answer[T any](res *http.Response, err error) (T, error) {
	var out T
	if err != nil {
		return out, err
	}
	defer res.Body.Close()
	d := json.NewDecoder(res.Body)
	if res.StatusCode >= 300 {
		var raw json.RawMessage
		_ = d.Decode(&raw)
		var p api.Problem
		_ = json.Unmarshal(raw, &p)
		return out, &Status{res.StatusCode, p.Title, string(raw)}
	}
	if res.StatusCode == http.StatusNoContent || res.ContentLength == 0 {
		return out, nil
	}
	return out, d.Decode(&out)
}

// Close stops everything in order.
func (w *World) Close() {
	if w.Service != nil {
		w.Service.Close()
	}
	for _, s := range w.servers {
		_ = s.Close()
	}
	for _, s := range w.Stands {
		if s.Save != nil {
			_ = s.Save()
		}
		if s.Close != nil {
			s.Close()
		}
	}
	w.dropWorks()
	if w.own && w.Cluster != nil {
		_ = w.Cluster.Stop(false)
	}
}

// StartStandins starts the stand-ins alone.
func StartStandins(data string) (*World, error) {
	w := &World{Data: data, options: Options{Day: time.Now().UTC()}}
	if err := os.MkdirAll(data, 0o700); err != nil {
		return nil, err
	}
	if err := w.load(); err != nil {
		return nil, err
	}
	w.options.Few = false
	if err := w.startStandins(context.Background()); err != nil {
		return nil, err
	}
	b, err := json.MarshalIndent(w.Facts, "", "  ")
	if err != nil {
		return nil, err
	}
	return w, os.WriteFile(w.factsPath(), append(b, '\n'), 0o600)
}

// Find reads what a running demo left in its folder, to send calls to it.
func Find(data string) (*World, error) {
	w := &World{Data: data}
	if _, err := os.Stat(w.factsPath()); err != nil {
		return nil, fmt.Errorf("no demo was started in %s; start it with: make demo", data)
	}
	return w, w.load()
}
