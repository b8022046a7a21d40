// Package connections holds the accounts with which other applications are
// called: opened from the vault, refreshed, held to their limits, checked and
// tried. It gives the engine what it calls through.
package connections

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"github.com/google/uuid"
	"golang.org/x/sync/singleflight"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/kept"
	"youngtrellis/internal/outbound"
	"youngtrellis/internal/store"
	"youngtrellis/internal/vault"
)

// Config of a Service.
type Config struct {
	Store     *store.Store
	Vault     *vault.Vault
	Client    *outbound.Client
	Documents *Documents
	PublicURL string // of callbacks
	Log       *slog.Logger
}

// Service opens accounts and calls through them. It is safe for concurrent use.
type Service struct {
	Config
	// Opened connections are kept for a moment, so that a run of many calls does
	// not open the vault for each.
	accounts *kept.Values[accountKey, *opened]
	secrets  *kept.Values[uuid.UUID, *call.Secrets] // of all connections of a workspace
	calls    chan store.Called
	// One refresh of a connection's token at a time in this process; the store
	// sees to the others.
	refreshing singleflight.Group
	stop       context.CancelFunc
	helpers    sync.WaitGroup
}

// New makes a service; Close ends it.
func New(ctx context.Context, c Config) *Service {
	s := &Service{Config: c, accounts: kept.New[accountKey, *opened](2*time.Second, 10_000), secrets: kept.New[uuid.UUID, *call.Secrets](2*time.Second, 10_000), calls: make(chan store.Called, 4096)}
	s.accounts.Over = func(o *opened) time.Time { return o.until }
	ctx, s.stop = context.WithCancel(context.WithoutCancel(ctx))
	s.helpers.Go(func() { s.keepCalls(ctx) })
	return s
}

// Close writes what is still to be remembered of the last calls.
func (s *Service) Close() {
	s.stop()
	s.helpers.Wait()
}

// Mended tells whether a connection that was broken works again.
func (s *Service) Mended(ctx context.Context, workspace uuid.UUID, name string) bool {
	c, err := s.Store.ConnectionForRun(ctx, workspace, name)
	return err == nil && c.State == store.ConnectionOK
}
