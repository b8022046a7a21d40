// Package store keeps everything in PostgreSQL: people, workflows, runs, the
// journal. Methods that serve a person take a Scope, which only authentication
// can make, and run under row-level security; those of the node see every
// workspace through a second role.
package store

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net"
	"net/url"
	"os"
	"strings"
	"sync/atomic"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Store is a database. It is safe for concurrent use.
type Store struct {
	api    *pgxpool.Pool // under row-level security, one workspace at a time
	node   *pgxpool.Pool // what carries runs out
	people *pgxpool.Pool // who calls: people, their proofs and nothing else
}

// CheckURL refuses an address that carries a password: it would be seen in
// process lists and shell histories.
func CheckURL(address string) error {
	u, err := url.Parse(address)
	if err != nil || u.Scheme != "postgres" && u.Scheme != "postgresql" {
		return errors.New("the database address is written as postgres://user@host:port/database")
	}
	_, has := u.User.Password()
	query, err := url.ParseQuery(u.RawQuery)
	for name := range query {
		has = has || strings.Contains(strings.ToLower(name), "password")
	}
	if has || err != nil && strings.Contains(strings.ToLower(u.RawQuery), "password") {
		return errors.New("the database address holds a password; take it out and put it into the file that TRELLIS_DATABASE_PASSWORD_FILE names")
	}
	return nil
}

// WithPassword puts the password that a file holds into an address.
func WithPassword(address, file string) (string, error) {
	if file == "" {
		return address, nil
	}
	b, err := os.ReadFile(file)
	if err != nil {
		return "", fmt.Errorf("reading the database password: %w", err)
	}
	u, err := url.Parse(address)
	if err != nil {
		return "", err
	}
	u.User = url.UserPassword(u.User.Username(), strings.TrimSpace(string(b)))
	return u.String(), nil
}

// Open connects, brings the schema up to date and makes today's partitions. Node
// is the name of the node whose connections these are; "" where there is none.
func Open(ctx context.Context, address, node string) (*Store, error) {
	if err := migrate(ctx, address); err != nil {
		return nil, unavailable(err)
	}
	s := &Store{}
	as, err := logins(ctx, address)
	if err != nil {
		return nil, unavailable(err)
	}
	if s.api, err = pool(ctx, address, settings{role: "trellis_api", most: 16, name: node, as: as}); err != nil {
		return nil, unavailable(err)
	}
	if s.node, err = pool(ctx, address, settings{role: "trellis_node", most: 24, name: node, as: as, planOnce: true}); err != nil {
		s.api.Close()
		return nil, unavailable(err)
	}
	if s.people, err = pool(ctx, address, settings{role: "trellis_people", most: 8, name: node, as: as}); err != nil {
		s.api.Close()
		s.node.Close()
		return nil, unavailable(err)
	}
	return s, nil
}

func migrate(ctx context.Context, address string) error {
	cfg, err := pgx.ParseConfig(address)
	if err != nil {
		return err
	}
	db := stdlib.OpenDB(*cfg)
	defer db.Close()
	if err := db.PingContext(ctx); err != nil {
		return err
	}
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(goose.DialectPostgres, db, sub, goose.WithDisableGlobalRegistry(true))
	if err != nil {
		return err
	}
	if _, err := p.Up(ctx); err != nil {
		return fmt.Errorf("bringing the database schema up to date: %w", err)
	}
	for d := range 4 {
		if _, err := db.ExecContext(ctx, "SELECT ensure_partitions(((now() AT TIME ZONE 'UTC')::date) + $1::int)", d); err != nil {
			return err
		}
	}
	return nil
}

// EnsurePartitions makes those of the coming days. A node calls it hourly.
func EnsurePartitions(ctx context.Context, address string) error { return migrate(ctx, address) }

// settings of a pool.
type settings struct {
	role string
	most int32
	name string // of the node
	as   map[string]login
	// planOnce lets the server plan each statement a single time: those of a node
	// are few, go by key, and planning them over all partitions costs more than
	// carrying them out. As the tables may be empty at that time, the plans must
	// not build on that: they go by the indexes whatever the planner thinks. For
	// the same end, rows that are read for a list are read LATERAL with a LIMIT,
	// and rows that are changed are joined by = ANY (ARRAY[…]) on the first column
	// of their key: in both ways the list comes first and the table by its key.
	planOnce bool
}

var byKey = map[string]string{
	"plan_cache_mode": "force_generic_plan", "enable_seqscan": "off", "enable_hashjoin": "off", "enable_mergejoin": "off",
	"jit": "off", // what those cost makes plans look dear
}

func pool(ctx context.Context, address string, o settings) (*pgxpool.Pool, error) {
	cfg, err := pgxpool.ParseConfig(address)
	if err != nil {
		return nil, err
	}
	var made atomic.Pointer[pgxpool.Pool]
	cfg.MaxConns = o.most
	cfg.ConnConfig.ConnectTimeout = 5 * time.Second
	// Where one connection has gone silent, those beside it have too: none of
	// them is used again.
	cfg.ConnConfig.DialFunc = dialler(func() {
		if p := made.Load(); p != nil {
			go p.Reset()
		}
	})
	maps.Copy(cfg.ConnConfig.RuntimeParams, serverSide)
	cfg.ConnConfig.RuntimeParams["application_name"] = applicationName(o.name)
	if o.planOnce {
		maps.Copy(cfg.ConnConfig.RuntimeParams, byKey)
	}
	if l, ok := o.as[o.role]; ok {
		cfg.ConnConfig.User, cfg.ConnConfig.Password = l.name, l.password
	} else {
		cfg.AfterConnect = func(ctx context.Context, c *pgx.Conn) error {
			_, err := c.Exec(ctx, "SET ROLE "+pgx.Identifier{o.role}.Sanitize())
			return err
		}
	}
	p, err := pgxpool.NewWithConfig(ctx, cfg)
	made.Store(p)
	return p, err
}

// applicationName is what a node's connections are called in the server; a
// takeover ends them by it.
func applicationName(node string) string {
	if node == "" {
		return "trellis"
	}
	return "trellis " + node
}

// Close ends all connections.
func (s *Store) Close() {
	s.api.Close()
	s.node.Close()
	s.people.Close()
}

// Ping tells whether the database answers.
func (s *Store) Ping(ctx context.Context) error { return unavailable(s.node.Ping(ctx)) }

// within runs work in a transaction that sees the scope's workspace only.
func (s *Store) within(ctx context.Context, sc Scope, work func(pgx.Tx) error) error {
	// Both in one message; the id is of hexadecimal digits and hyphens alone.
	tx, err := s.api.BeginTx(ctx, pgx.TxOptions{BeginQuery: "BEGIN; SET LOCAL trellis.workspace = '" + sc.workspace.String() + "'"})
	if err != nil {
		return unavailable(err)
	}
	defer func() { _ = tx.Rollback(context.WithoutCancel(ctx)) }()
	if err := work(tx); err != nil {
		return translate(err)
	}
	return translate(tx.Commit(ctx))
}

// NewID makes a UUIDv7, which sorts by time.
func NewID() uuid.UUID { return uuid.Must(uuid.NewV7()) }

// Server names the database server that we use: its system identifier, and the
// addresses (ip:port) at which it is reached.
func (s *Store) Server(ctx context.Context) (system string, addresses []string, err error) {
	if err := s.node.QueryRow(ctx, "SELECT system_identifier::text FROM pg_control_system()").Scan(&system); err != nil {
		return "", nil, unavailable(err)
	}
	cfg := s.node.Config().ConnConfig
	ips, err := net.DefaultResolver.LookupHost(ctx, cfg.Host)
	if err != nil {
		return system, nil, nil //nolint:nilerr // a socket, which nobody else can call
	}
	for _, ip := range ips {
		addresses = append(addresses, net.JoinHostPort(ip, fmt.Sprint(cfg.Port)))
	}
	return system, addresses, nil
}
