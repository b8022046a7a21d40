package engine

import (
	"context"
	"net/url"
	"time"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/workflow"
)

// World is what an execution reaches outside.
type World struct {
	Source      Source
	Journal     Journal
	Connections Connections
	Callbacks   Callbacks
	Lists       Lists  // of the workspace; nil: there is none
	Sealer      Sealer // nil: nothing is stored, so nothing need be sealed
	Clock       Clock
	Lattice     Lattice
	// Spools keep what does not fit into memory; nil: everything stays there.
	Spools Spools
	// Account bounds the bytes that all runs of a node hold; nil: no bound.
	Account *ByteAccount
	// Progress is told after each chunk.
	Progress func(Counts)
	// Arrives is told of each item that a step is about to work on.
	Arrives func(step *workflow.CompiledStep, it *item.Item)
	// Fails is told why an item did not get past a step.
	Fails func(step *workflow.CompiledStep, why *call.Failure)
}

// Spools makes places where held items are kept, apart from memory.
type Spools interface{ Spool() (Spool, error) }

// Spool keeps pieces of bytes until it is closed.
type Spool interface {
	// Append gives where the piece begins.
	Append(b []byte) (at int64, err error)
	Read(at int64, n int) ([]byte, error)
	Close() error
}

// Connections opens the accounts that steps name.
type Connections interface {
	// Open opens a connection by name; "" gives one without any account. The
	// error is a *call.Parked where it cannot be used for now, or a fault of ours.
	Open(ctx context.Context, name string) (Connection, error)
	// Sign makes a code of a text (HMAC-SHA-256) by the secret of a connection. The
	// errors are those of Open, or a *call.Failure where the connection has none.
	Sign(ctx context.Context, name, text string) ([]byte, error)
}

// Connection is an opened account: it makes calls.
type Connection interface {
	call.Sender
	Account() Account
	// Hold lets no call of the connection begin for so long, on any node: the
	// other side said so.
	Hold(ctx context.Context, d time.Duration, why string) error
}

// Account is what may be known of a connection.
type Account struct {
	Parameters map[string]any // what templates see as account
	Base       *url.URL       // where calls without a host go; nil for nowhere
	Secrets    *call.Secrets  // what its answers may echo
}

// Lists reads the lists of the workspace as they stand.
type Lists interface {
	// List gives the rows, which nobody changes. The error is a *call.Failure where
	// there is no list of this name, or a fault of ours.
	List(ctx context.Context, name string) ([]any, error)
}

// Callbacks makes addresses at which the other side tells that a job has ended.
// The same place gets the same address at every attempt.
type Callbacks interface {
	Callback(ctx context.Context, step uint16, rounds item.Rounds, address item.Address) (string, error)
}

// Sealer encrypts for one run what must not be seen.
type Sealer interface {
	Seal(ctx context.Context, plain []byte) ([]byte, error)
	Unseal(ctx context.Context, sealed []byte) ([]byte, error)
	// Digest is a keyed hash, so that it tells nothing about short values.
	Digest(ctx context.Context, b []byte) ([]byte, error)
}

// Clock tells the time and waits.
type Clock interface {
	Now() time.Time
	// Sleep waits; it returns early, with the context's error, when ctx ends.
	Sleep(ctx context.Context, d time.Duration) error
}

// Source gives the trigger's items by page; io.EOF after the last.
type Source interface {
	Page(ctx context.Context, page int) (Page, error)
	// Find gives the page that holds the n-th item.
	Find(ctx context.Context, n uint32) (page int, err error)
}

// Page are some of the trigger's items.
type Page struct {
	First uint32 // ordinal of the first
	Items []map[string]any
	Bytes int // about their size together
}

// Lattice takes the rows of a pass in order.
type Lattice interface {
	Rows(ctx context.Context, pass int, rows []Row) error
}
