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
	"net"
	"net/url"
	"os"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Sentinels that callers decide by.
var (
	ErrNotFound    = errors.New("not found")
	ErrConflict    = errors.New("somebody else changed it in between")
	ErrTaken       = errors.New("the name is taken")
	ErrUnavailable = errors.New("the database cannot be reached at the moment")
	ErrFenced      = errors.New("this node's session has ended")
)

// Store is a database. It is safe for concurrent use.
type Store struct {
	api  *pgxpool.Pool // under row-level security, one workspace at a time
	node *pgxpool.Pool // what carries runs out
}

// CheckURL refuses an address that carries a password: it would be seen in
// process lists and shell histories.
func CheckURL(address string) error {
	u, err := url.Parse(address)
	if err != nil || u.Scheme != "postgres" && u.Scheme != "postgresql" {
		return errors.New("the database address is written as postgres://user@host:port/database")
	}
	if _, has := u.User.Password(); has {
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

// Open connects, brings the schema up to date and makes today's partitions.
func Open(ctx context.Context, address string) (*Store, error) {
	if err := migrate(ctx, address); err != nil {
		return nil, unavailable(err)
	}
	s := &Store{}
	var err error
	if s.api, err = pool(ctx, address, "trellis_api", 16); err != nil {
		return nil, unavailable(err)
	}
	if s.node, err = pool(ctx, address, "trellis_node", 24); err != nil {
		s.api.Close()
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

func pool(ctx context.Context, address, role string, most int32) (*pgxpool.Pool, error) {
	cfg, err := pgxpool.ParseConfig(address)
	if err != nil {
		return nil, err
	}
	cfg.MaxConns = most
	cfg.ConnConfig.ConnectTimeout = 5 * time.Second
	cfg.AfterConnect = func(ctx context.Context, c *pgx.Conn) error {
		_, err := c.Exec(ctx, "SET ROLE "+pgx.Identifier{role}.Sanitize())
		return err
	}
	return pgxpool.NewWithConfig(ctx, cfg)
}

// Close ends all connections.
func (s *Store) Close() {
	s.api.Close()
	s.node.Close()
}

// Ping tells whether the database answers.
func (s *Store) Ping(ctx context.Context) error { return unavailable(s.node.Ping(ctx)) }

// unavailable marks errors that mean that the server cannot be reached.
func unavailable(err error) error {
	if err == nil || !IsUnavailable(err) {
		return err
	}
	return fmt.Errorf("%w: %w", ErrUnavailable, err)
}

// IsUnavailable tells whether an error came from the way to the server rather
// than from what was asked of it.
func IsUnavailable(err error) bool {
	if err == nil {
		return false
	}
	var pg *pgconn.PgError
	if errors.As(err, &pg) {
		// Class 57P: shut down, crashed, starting up. 53300: too many connections.
		return strings.HasPrefix(pg.Code, "57P") || pg.Code == "53300" || strings.HasPrefix(pg.Code, "08")
	}
	var connect *pgconn.ConnectError
	var network net.Error
	return errors.Is(err, ErrUnavailable) || errors.As(err, &connect) || errors.As(err, &network) && !errors.Is(err, context.Canceled) ||
		pgconn.SafeToRetry(err) || strings.Contains(err.Error(), "conn closed") || strings.Contains(err.Error(), "unexpected EOF") || strings.Contains(err.Error(), "connection reset")
}

// within runs work in a transaction that sees the scope's workspace only.
func (s *Store) within(ctx context.Context, sc Scope, work func(pgx.Tx) error) error {
	tx, err := s.api.Begin(ctx)
	if err != nil {
		return unavailable(err)
	}
	defer func() { _ = tx.Rollback(context.WithoutCancel(ctx)) }()
	if _, err := tx.Exec(ctx, "SELECT set_config('trellis.workspace', $1, true)", sc.workspace.String()); err != nil {
		return unavailable(err)
	}
	if err := work(tx); err != nil {
		return translate(err)
	}
	return translate(tx.Commit(ctx))
}

func translate(err error) error {
	var pg *pgconn.PgError
	switch {
	case err == nil:
		return nil
	case errors.Is(err, pgx.ErrNoRows):
		return ErrNotFound
	case errors.As(err, &pg) && pg.Code == "23505":
		return ErrTaken
	}
	return unavailable(err)
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
