// Package service puts a whole service together: store, vault, outgoing
// client, node, intake and the HTTP surface.
package service

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/google/uuid"

	"youngtrellis/connectors"
	"youngtrellis/internal/connections"
	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/files"
	"youngtrellis/internal/intake"
	"youngtrellis/internal/node"
	"youngtrellis/internal/outbound"
	"youngtrellis/internal/runs"
	"youngtrellis/internal/server"
	"youngtrellis/internal/store"
	"youngtrellis/internal/vault"
	"youngtrellis/internal/workflows"
	"youngtrellis/web"
)

// Config of a service.
type Config struct {
	DatabaseURL string        // with its password, if it has one
	Listen      string        // host:port
	PublicURL   string        // empty: the address listened on
	PagesURL    string        // of hosted pages and webhooks, at another host name; empty: the public one. Without a PublicURL its port is the one listened on
	PlainHTTP   bool          // a public address beyond loopback may be http
	Data        string        // folder for the vault key and the node's lock
	VaultKey    string        // file; empty: vault.key in Data
	Runs        int           // at once
	Lease       time.Duration // a node that was silent for so long is dead; 0: 15 s
	Proxies     []netip.Prefix
	HookRate    int      // calls a second that one caller, and one address, may make; 0: 2000
	Queue       int      // runs of a workspace that wait for their turn, at most; 0: 100,000
	EventItems  int      // that start with one event, at most; 0: 100,000
	Excepted    []string // databases on our own server that a workspace may ask
	Log         *slog.Logger
}

// Service is a running service.
type Service struct {
	Store   *store.Store
	Node    *node.Node
	Vault   *vault.Vault
	Address string // at which it is reached

	Connections *connections.Service

	mender  *runs.Mender
	planner *runs.Planner

	sources sync.WaitGroup // of what starts runs by itself

	http *http.Server
	lock *os.File
	done chan error
	stop context.CancelFunc
}

// Connectors reads the shipped connector documents.
func Connectors() (map[string]*connector.Connector, error) {
	out := map[string]*connector.Connector{}
	names, err := fs.Glob(connectors.Files, "*.yaml")
	if err != nil {
		return nil, err
	}
	for _, name := range names {
		b, err := connectors.Files.ReadFile(name)
		if err != nil {
			return nil, err
		}
		c, err := connector.Parse(b)
		if err != nil {
			return nil, fmt.Errorf("connectors/%s: %w", name, err)
		}
		out[c.Name] = c
	}
	return out, nil
}

// Start opens the database and serves.
func Start(ctx context.Context, c Config) (*Service, error) {
	host, _, err := net.SplitHostPort(c.Listen)
	if err != nil {
		return nil, fmt.Errorf("--listen is %q; it is written as 127.0.0.1:7480", c.Listen)
	}
	if ip := net.ParseIP(host); c.PublicURL == "" && host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return nil, fmt.Errorf("--listen %s can be reached from elsewhere; say with --public-url how people call this service, as https://trellis.example", c.Listen)
	}
	if err := checkAddress("--public-url", c.PublicURL, c.PlainHTTP); err != nil {
		return nil, err
	}
	if err := checkAddress("--pages-url", c.PagesURL, c.PlainHTTP); err != nil {
		return nil, err
	}
	if err := checkApart(c.PublicURL, c.PagesURL, host); err != nil {
		return nil, err
	}
	s := &Service{done: make(chan error, 1)}
	if err := s.open(ctx, c); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// checkApart refuses pages at the console's own host name: its cookies would go to them,
// whatever the port.
func checkApart(public, pages, listen string) error {
	if pages == "" {
		return nil
	}
	own := listen
	if u, err := url.Parse(public); err == nil && u.Hostname() != "" {
		own = u.Hostname()
	}
	if u, _ := url.Parse(pages); strings.EqualFold(u.Hostname(), own) {
		return fmt.Errorf("--pages-url has the host name %s, as the console: what others wrote would be served beside it. Give it a name of its own, or leave it out", own)
	}
	return nil
}

// checkAddress refuses an address that links cannot be built from, and one at which
// passwords and cookies would travel in the clear.
func checkAddress(flag, address string, plain bool) error {
	if address == "" {
		return nil
	}
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return fmt.Errorf("%s is not an address; write it as https://trellis.example", flag)
	}
	if u.User != nil || u.RawQuery != "" || u.Fragment != "" || strings.Trim(u.Path, "/") != "" {
		return fmt.Errorf("%s holds more than scheme, host and port; write it as https://trellis.example", flag)
	}
	ip := net.ParseIP(u.Hostname())
	if u.Scheme == "http" && u.Hostname() != "localhost" && (ip == nil || !ip.IsLoopback()) && !plain {
		return fmt.Errorf("%s %s has no TLS: passwords and cookies would travel in the clear. Let TLS end before the service and write https://%s, or say --plain-http where nobody listens in between", flag, address, u.Host)
	}
	return nil
}

func (s *Service) open(ctx context.Context, c Config) error {
	if err := os.MkdirAll(c.Data, 0o700); err != nil {
		return err
	}
	name, err := s.lockNode(c.Data)
	if err != nil {
		return err
	}
	listener, err := net.Listen("tcp", c.Listen)
	if err != nil {
		if errors.Is(err, syscall.EADDRINUSE) {
			return fmt.Errorf("the address %s is taken by another program; end it, or choose another with --listen", c.Listen)
		}
		return fmt.Errorf("listening on %s: %w", c.Listen, err)
	}
	if s.Store, err = store.Open(ctx, c.DatabaseURL, name); err != nil {
		listener.Close()
		return err
	}
	if c.VaultKey == "" {
		c.VaultKey = filepath.Join(c.Data, "vault.key")
	}
	if s.Vault, err = vault.Open(ctx, s.Store, c.VaultKey); err != nil {
		listener.Close()
		return err
	}
	cons, err := Connectors()
	if err != nil {
		listener.Close()
		return err
	}
	s.Address = "http://" + listener.Addr().String()
	if c.PublicURL == "" {
		c.PublicURL = s.Address
		if u, err := url.Parse(c.PagesURL); err == nil && c.PagesURL != "" && u.Port() == "" {
			_, port, _ := net.SplitHostPort(listener.Addr().String())
			c.PagesURL = u.Scheme + "://" + net.JoinHostPort(u.Hostname(), port)
		}
	}
	c.PublicURL = strings.TrimSuffix(c.PublicURL, "/")
	c.PagesURL = strings.TrimSuffix(c.PagesURL, "/")
	kept := &files.Files{Store: s.Store}
	client := outbound.New(s.Store.Allowances, kept)
	if client.OwnSystem, client.Own, err = s.Store.Server(ctx); err != nil {
		listener.Close()
		return err
	}
	client.Own, client.Excepted = append(client.Own, listener.Addr().String()), c.Excepted
	documents := connections.NewDocuments(cons, s.Store)
	s.Connections = connections.New(ctx, connections.Config{Store: s.Store, Vault: s.Vault, Client: client, Documents: documents, PublicURL: c.PublicURL, Log: c.Log})
	plans := &workflows.Plans{Revisions: s.Store, Documents: documents}
	reader := &runs.Reader{Store: s.Store, Plans: plans, Connections: s.Connections, Lists: runs.NewLists(s.Store)}
	if s.Node, err = node.New(ctx, node.Config{Name: name, Runs: c.Runs, Lease: c.Lease, Log: c.Log}, s.Store, worlds{reader}); err != nil {
		listener.Close()
		return err
	}
	s.planner = runs.NewPlanner(reader)
	s.mender = runs.NewMender(s.planner, c.Log)
	door := intake.New(s.Store, plans, s.Node, s.Vault)
	door.Files = kept
	door.Items, door.Queue, door.Secrets = c.EventItems, c.Queue, s.Connections.Secrets
	front := &server.Server{Config: server.Config{PublicURL: c.PublicURL, PagesURL: c.PagesURL, Console: web.Console(), Proxies: c.Proxies, HookRate: c.HookRate, Log: c.Log}, Documents: documents, Files: kept, Connections: s.Connections,
		Plans: plans, Lattices: runs.NewLattices(), Outlines: workflows.NewOutlines(), Runs: reader, Recordings: runs.NewRecordings(s.Store, s.Vault), Planner: s.planner, Mender: s.mender, Events: s.Node.Events, Store: s.Store, Vault: s.Vault, Node: s.Node, Intake: door}
	h, err := front.Handler()
	if err != nil {
		listener.Close()
		return err
	}
	s.http = server.HTTP(h)
	go func() { s.done <- s.http.Serve(server.Limit(listener, c.Proxies)) }()
	var upkeep context.Context
	upkeep, s.stop = context.WithCancel(context.WithoutCancel(ctx))
	go s.keep(upkeep, c)
	for _, source := range []intake.Source{&intake.Schedules{Intake: door, Store: s.Store, Log: c.Log}, &intake.Afters{Intake: door, Store: s.Store, Log: c.Log}, &intake.Keeps{Intake: door, Store: s.Store, Log: c.Log}} {
		s.sources.Go(func() { source.Run(upkeep) })
	}
	return nil
}

// worlds gives the node what it carries out.
type worlds struct{ *runs.Reader }

// Outside implements node.Worlds.
func (w worlds) Outside(workspace, run uuid.UUID, owner node.Owner) node.Outside {
	return w.Reader.Outside(workspace, run, owner)
}

// Mended implements node.Worlds.
func (w worlds) Mended(ctx context.Context, workspace uuid.UUID, connection string) bool {
	return w.Connections.Mended(ctx, workspace, connection)
}

// keep makes coming partitions and forgets what has expired, hourly.
func (s *Service) keep(ctx context.Context, c Config) {
	tick := time.NewTicker(time.Hour)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		if err := errors.Join(store.EnsurePartitions(ctx, c.DatabaseURL), s.Store.Sweep(ctx)); err != nil {
			c.Log.Warn("hourly upkeep", "error", err)
		}
	}
}

// lockNode gives the node its name: the folder's own, locked while we live, so
// that a session left under this name is certainly dead.
func (s *Service) lockNode(dir string) (string, error) {
	f, err := os.OpenFile(filepath.Join(dir, "node.lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return "", err
	}
	s.lock = f
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		return "", fmt.Errorf("another service runs with the data folder %s; end it, or choose another with --data", dir)
	}
	b := make([]byte, 64)
	n, _ := f.Read(b)
	if name := strings.TrimSpace(string(b[:n])); name != "" {
		return name, nil
	}
	name := "node-" + uuid.NewString()
	_, err = f.WriteString(name + "\n")
	return name, err
}

// Done tells when serving ended by itself.
func (s *Service) Done() <-chan error { return s.done }

// Close stops in order: no new calls, running work to its next effect, then
// the database.
func (s *Service) Close() {
	if s.stop != nil {
		s.stop()
	}
	s.sources.Wait()
	if s.http != nil {
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		_ = s.http.Shutdown(ctx)
		_ = s.http.Close()
	}
	if s.mender != nil {
		s.mender.Close()
	}
	if s.planner != nil {
		s.planner.Close()
	}
	if s.Node != nil {
		s.Node.Close()
	}
	if s.Connections != nil {
		s.Connections.Close()
	}
	if s.Store != nil {
		s.Store.Close()
	}
	if s.lock != nil {
		_ = s.lock.Close()
	}
}
