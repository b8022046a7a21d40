package engine

import (
	"context"
	"time"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/expr"
)

// Performer does what a step does outside, for one item. It knows nothing of
// journals, retries, keys and entries: those stand around it, once, in effect.
type Performer interface {
	// Ready makes the deed of an item. The error is a *call.Parked, a fault of
	// ours that is said to be one by *ours, or else the item's own.
	Ready(ctx context.Context, s Subject) (Deed, error)
}

// Subject is the item that something is done for, and what is known of it.
type Subject struct {
	Scope     *expr.Scope
	Cursor    any    // token of a further page; nil for the first
	Submitted any    // answer to the call that began a job; nil before
	Callback  string // address at which the end of a job may be told; "" for none
}

// Deed is what is about to be done for an item: it can be done, and done again.
type Deed interface {
	About() About
	// Do does it once. The errors are those of call.Sender; a refusal that the
	// answer holds is a *call.Failure too.
	Do(ctx context.Context, key string) (*Gave, *call.Sent, error)
}

// About says of a deed what the journal and the retries need to know.
type About struct {
	Effect  string        // call.Read or call.Write
	Repeat  string        // call.Safe, call.Keyed or call.Unsafe
	Removes bool          // it takes away what it names: done again, it may find nothing (RFC 9110, 9.3.5)
	Content []byte        // what is sent, as far as a key must not carry two of it
	Sample  any           // what a rehearsal answers with in place of a write
	Secrets *call.Secrets // what an answer may echo
	Show    func() *call.Sent
	Hold    func(ctx context.Context, d time.Duration, why string) error
}

// Gave is what a deed gave.
type Gave struct {
	Output any              // a single result
	Items  []map[string]any // of one that gives a list
	Next   any              // token of the next page; nil at the end
	Units  float64          // billed

	found []string // secrets that it echoes
}

// ours marks an error that lies with us where it could be taken for the item's.
type ours struct{ error }

func (o ours) Unwrap() error { return o.error }
