package engine

import (
	"context"
	"errors"
	"time"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/item"
)

// Outcome of a journaled effect.
type Outcome string

// Outcomes. Parts that are no ends of an effect have one too.
const (
	Done      Outcome = "done"
	Continued Outcome = "continued" // it failed, and the item goes on with nothing
	FellBack  Outcome = "fell_back" // it failed, and the item takes the fallback
	Failed    Outcome = "failed"    // the run stopped here
	SetAside  Outcome = "set_aside" // the item left the run and is kept
	Unknown   Outcome = "unknown"   // the call may have been sent
	Announced Outcome = "announced" // an unsafe call is about to be sent
	Withdrawn Outcome = "withdrawn" // the announced call was certainly not carried out
	Waited    Outcome = "waited"    // since then the other side asks to wait
	Closed    Outcome = "closed"    // a list has ended, and these are its members
)

// Final tells whether an entry settles its item for good. Open ones hold
// within their pass and are tried again in a later one.
func (o Outcome) Final() bool { return o == Done || o == Continued || o == FellBack }

// Parts of a key that are not pages. An unsafe call is announced before each
// attempt and withdrawn after one that certainly came to nothing; both are
// numbered.
const (
	PartSubmit = -2 // the call that began a job
	PartPark   = -4 // when the other side first asked to wait, or until when an item waits
	PartSeal   = -5 // the members of a group, or of a whole list
	PartWake   = -7 // that an item goes on; its result is a running number
	PartGate   = -6 // the members of a list that a later one was held back for
	PartEdit   = -9 // the fields that a person put in place of an item's as it comes to the step
	PartFailed = -8 // that the pass failed, and what is told of it

	PartDecided = -10 // what expressions gave in which others had a part; numbered

	partAnnounce = -1
	partWithdraw = -3
	partNumbers  = 16 // from one numbered part to the next
)

// AnnouncePart is the part that announces the n-th attempt, from 0.
func AnnouncePart(n int) int { return partAnnounce - n*partNumbers }

// WithdrawPart is the part that withdraws the n-th attempt.
func WithdrawPart(n int) int { return partWithdraw - n*partNumbers }

// DecidedPart is the n-th part that says what others decided, from 0.
func DecidedPart(n int) int { return PartDecided - n*partNumbers }

// numbered takes a part apart: its kind, and its number.
func numbered(part int) (kind, n int) {
	if part >= 0 {
		return part, 0
	}
	n = (-part - 1) / partNumbers
	return part + n*partNumbers, n
}

// Key names an effect within its run. Its order is that of the items.
type Key struct {
	Pass    int
	Step    uint16       // lasting number of the step; 0 for the trigger's items
	Rounds  item.Rounds  // of the loops in which the step stands
	Address item.Address // the item that came to the step
	Part    int          // page of a list, from 0; or one of the parts
}

// Entry is one journaled effect.
type Entry struct {
	Key
	Outcome    Outcome
	Generation int    // of its Idempotency-Key
	InputHash  []byte // keyed hash of what is sent
	Attempts   int    // calls made
	Started    time.Time
	Ended      time.Time
	Units      float64
	First      uint32        // ordinal of the first item of a page
	Result     []byte        // JSON of what the action gave, secrets masked
	Sealed     []byte        // the result as it came, sealed, where it held secrets
	Request    *call.Sent    // what was sent, secrets masked
	Failure    *call.Failure // why it did not succeed
}

// Write is a change of our own state that applies together with the insertion
// of its entry, and only then. The journal knows its kinds.
type Write interface{ JournalWrite() }

// Journal keeps the entries of one run.
type Journal interface {
	// Entries finds the entries of a pass at a step for these items: part 0
	// and those that are not pages. What was sent may be left out of those that
	// are done: nothing that is decided depends on it.
	Entries(ctx context.Context, pass int, step uint16, rounds item.Rounds, addresses []item.Address) ([]*Entry, error)
	// Page finds one entry, or nil.
	Page(ctx context.Context, key Key) (*Entry, error)
	// PageOf finds the page of a list that holds its n-th item, or nil.
	PageOf(ctx context.Context, key Key, n uint32) (*Entry, error)
	// Append makes an entry durable, with its writes, and gives what stands
	// under its key: the entry itself, or one that was there before; then none of
	// the writes was applied. It holds out while the database is away; an error
	// is final for this execution.
	Append(ctx context.Context, e *Entry, writes ...Write) (*Entry, error)
	// Postpone says until when items wait whose effect has begun: nothing that
	// is decided depends on it, only when they are looked at again.
	Postpone(ctx context.Context, list []Waits) error
}

// ErrDropped says that the run is no longer ours to carry out: whoever took it
// over goes on.
var ErrDropped = errors.New("the run is carried out elsewhere")
