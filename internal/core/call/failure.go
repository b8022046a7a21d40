package call

import "time"

// Class says what is known of a failed call.
type Class string

// Classes of failures.
const (
	NotSent  Class = "not_sent" // it never left: dial, TLS
	Refused  Class = "refused"  // the other side said no
	InDoubt  Class = "unknown"  // cut or timed out after the first byte
	BadInput Class = "input"    // it could not be built
)

// Failure is why a call did not succeed. It is the item's fault (BadInput) or
// the other side's; a fault of ours is never a Failure.
type Failure struct {
	Class      Class         `json:"class"`
	Status     int           `json:"status,omitempty"`
	Message    string        `json:"message"`           // the other side's words, or ours
	Setting    string        `json:"setting,omitempty"` // where it arose, as input.phone
	Tried      int           `json:"tried,omitempty"`
	Over       time.Duration `json:"over,omitempty"`
	RetryAfter time.Duration `json:"-"` // the other side asked to wait so long
	Retryable  bool          `json:"-"` // another try may succeed
	Guarded    bool          `json:"-"` // its address is not public, and may be allowed
	Cut        bool          `json:"-"` // we cut it ourselves while it was on its way
}

func (f *Failure) Error() string { return f.Message }

// Lost is a fault of ours after a call was sent and answered: we could not keep
// what came back. The call counts as made.
type Lost struct{ Err error }

func (l *Lost) Error() string { return "the answer was lost here: " + l.Err.Error() }
func (l *Lost) Unwrap() error { return l.Err }

// Parked is why a run cannot go on at the moment and occupies nobody.
type Parked struct {
	Reason     string // one of the Reason constants
	Connection string
	Until      time.Time // zero: until something named happens
	Message    string
	Cause      error // of a fault of ours: for the log alone, never shown
}

func (p *Parked) Error() string { return p.Message }

// Reasons for waiting. Each has one stable word on every surface.
const (
	ReasonConnection = "connection_broken"
	ReasonToldToWait = "told_to_wait"
	ReasonJob        = "job_running"   // the other side works on what was asked of it
	ReasonWait       = "items_wait"    // items wait until a time, as a step says
	ReasonOurs       = "fault_of_ours" // something on our own side does not work
	ReasonUnread     = "unread"        // nobody has read it yet: of what is computed from recorded reads alone
)
