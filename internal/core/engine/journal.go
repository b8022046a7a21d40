// Package engine executes a plan over items.
//
// A run is a deterministic pipeline whose only lasting state is a journal of
// effects. Steps that compute are computed again whenever they are needed;
// every call that reaches outside is journaled once, and its journaled result
// is what the pipeline sees from then on. Going on after a crash, retrying what
// failed and showing any item at any step are all the same thing: replay.
//
//	trigger ─▶ stage ─▶ stage ─▶ … ─▶ sink        one stage per step, chunks of items
//	             │         │
//	             └── journal of effects
package engine

import (
	"context"
	"time"

	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/item"
)

// Outcome of a journaled effect.
type Outcome string

const (
	Done      Outcome = "done"
	Failed    Outcome = "failed"    // the run stopped here
	SetAside  Outcome = "set_aside" // the item left the run and is kept
	Unknown   Outcome = "unknown"   // the call may have been sent
	Announced Outcome = "announced" // an unsafe call is about to be sent
)

// Final tells whether an entry settles its item for good. Open ones hold
// within their pass and are tried again in a later one.
func (o Outcome) Final() bool { return o == Done }

// Parts of a key that are not pages.
const (
	PartAnnounce = -1 // an unsafe call is about to be sent
	PartSubmit   = -2 // the call that began a job
)

// Key names an effect within its run. Its order is that of the items.
type Key struct {
	Pass    int
	Step    uint16       // lasting number of the step; 0 for the trigger's items
	Rounds  string       // loop rounds, as an Address does it
	Address item.Address // the item that came to the step
	Part    int          // page of a list, from 0; or PartAnnounce
}

// Entry is one journaled effect.
type Entry struct {
	Key
	Outcome   Outcome
	InputHash []byte // SHA-256 of the evaluated input
	Attempts  int
	Started   time.Time
	Ended     time.Time
	Units     float64
	Result    []byte   // JSON of what the action gave
	Request   *Sent    // what was sent, secrets masked
	Failure   *Failure // why it did not succeed
}

// Sent is a request as it may be shown: secrets are masked.
type Sent struct {
	Method   string `json:"method"`
	URL      string `json:"url"`
	Body     string `json:"body,omitempty"`
	Status   int    `json:"status,omitempty"`
	Prepared bool   `json:"prepared,omitempty"` // built but not sent
}

// Journal keeps the entries of one run.
type Journal interface {
	// Entries finds the entries of a pass at a step for these items: part 0
	// and those that are not pages.
	Entries(ctx context.Context, pass int, step uint16, addresses []item.Address) ([]*Entry, error)
	// Page finds one entry, or nil.
	Page(ctx context.Context, key Key) (*Entry, error)
	// Append makes an entry durable before it returns.
	Append(ctx context.Context, e *Entry) error
}

// Caller sends calls. Its errors are *Failure or *Parked.
type Caller interface {
	// Account gives the parameters of a connection for templates.
	Account(ctx context.Context, connection string) (map[string]any, error)
	// Call signs the call in and sends it once. Key is the Idempotency-Key, or "".
	Call(ctx context.Context, connection string, call *connector.Call, key string) (*connector.Answer, *Sent, error)
	// Show gives the call as Sent without sending it.
	Show(connection string, call *connector.Call) *Sent
	// Hold lets no call of the connection begin for so long: the other side
	// said so.
	Hold(ctx context.Context, connection string, d time.Duration, why string)
	// Callback makes an address that wakes the run when it is called.
	Callback(ctx context.Context, run string) (string, error)
}

// Clock tells the time and waits.
type Clock interface {
	Now() time.Time
	Sleep(ctx context.Context, d time.Duration) error
}

// Class says what is known of a failed call.
type Class string

const (
	NotSent  Class = "not_sent" // it never left: dial, TLS
	Refused  Class = "refused"  // the other side said no
	InDoubt  Class = "unknown"  // cut or timed out after the first byte
	BadInput Class = "input"    // it could not be built
)

// Failure is why a step did not succeed for an item.
type Failure struct {
	Class      Class         `json:"class"`
	Status     int           `json:"status,omitempty"`
	Message    string        `json:"message"`           // the other side's words, or ours
	Setting    string        `json:"setting,omitempty"` // where it arose, as input.phone
	Tried      int           `json:"tried,omitempty"`
	Over       time.Duration `json:"over,omitempty"`
	RetryAfter time.Duration `json:"-"`
	Retryable  bool          `json:"-"`
}

func (f *Failure) Error() string { return f.Message }

// Parked is why a run cannot go on at the moment and occupies nobody.
type Parked struct {
	Reason     string // one of the Reason constants
	Connection string
	Until      time.Time // zero: until something named happens
	Message    string
}

func (p *Parked) Error() string { return p.Message }

// Reasons for waiting. Each has one stable word on every surface.
const (
	ReasonConnection = "connection_broken"
	ReasonToldToWait = "told_to_wait"
	ReasonJob        = "job_running" // the other side works on what was asked of it
)
