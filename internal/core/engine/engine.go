// Package engine executes a plan over items.
//
// A run is a deterministic pipeline whose only lasting state is a journal of
// effects. Steps that compute are computed again whenever they are needed;
// every effect is journaled once, and its journaled result is what the pipeline
// sees from then on. Going on after a crash, retrying what failed and showing
// any item at any step are all the same thing: replay.
//
//	trigger ─▶ stage ─▶ stage ─▶ … ─▶ sink        one stage a step, chunks of items
//	             │        │
//	             │        ├─ case ─▶ stage ─▶ …    a nest has pipelines of its own
//	             └── effects ── journal
//
// A Spec says what is executed, a World what is reached outside, and an
// execution is the state of carrying the one out in the other, once.
package engine

import (
	"context"
	"errors"
	"time"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/workflow"
)

// Pass is one stretch of a run.
type Pass struct {
	Number int
	Plan   *workflow.Plan
	// Only chooses which open items go on; nil means those that a resume takes
	// up: all but set-aside ones and those in doubt.
	Only func(item.Address) bool
	// Mended tells whether a person has put other fields in place of those of some
	// items, or has said of some that they were done: the journal has it.
	Mended bool
	// Aside takes up all items that were set aside, and no others.
	Aside bool
	// At sends items that stopped before a step to another: old name of From, the
	// plan of the pass before, to new.
	At   map[string]string
	From *workflow.Plan
}

// Spec is what is executed: a run, the last of whose passes is live. It is not
// changed by being executed.
type Spec struct {
	Facts  workflow.RunFacts
	Passes []Pass
	// Rehearse prepares writes instead of sending them, and waits for nothing.
	Rehearse bool
	// Sampled answers every call with the declared sample of its action.
	Sampled bool
	// Chunk is how many items go through together; 0 grows from 1 to 256 while
	// all goes well.
	Chunk int
	// Interrupted is when an owner of the run died in the middle of its work,
	// and zero if none did since the run last got further. Calls of that time may
	// have been forgotten by the other side.
	Interrupted time.Time
	// AtFirst is how many items may come to the first step that writes, unless a
	// person lets others go on; 0: any number.
	AtFirst int
	// Due are the items that a wake is about; nil for all.
	Due *Due
}

// Run is a spec in a world.
type Run struct {
	Spec
	World
}

// State a run or pass ends in.
type State string

// States.
const (
	Queued    State = "queued"
	Running   State = "running"
	WaitingOn State = "waiting"
	Succeeded State = "succeeded"
	Partial   State = "partial"
	FailedRun State = "failed"
	Cancelled State = "cancelled"
)

// Result is how a pass ended.
type Result struct {
	State   State
	Parked  *call.Parked
	Reason  string // of a failure, in words
	Counts  Counts
	Secrets *call.Secrets // what was found in answers and is masked on every surface
}

// Execute carries the last pass out. It may be called again after a crash:
// what is journaled is not done again. ErrHandover says that it was told to
// hand over, ErrDropped that the run is another's, ErrWide that a wake needs all
// items; every other error is the journal's. That an item failed is no error.
func (r *Run) Execute(ctx context.Context, stop *Stop) (*Result, error) {
	if stop == nil {
		stop = &Stop{}
	}
	var res *Result
	var err error
	if r.Due != nil {
		res, err = r.wake(ctx, stop)
	} else {
		res, err = newExecution(r, stop).carryOut(ctx)
	}
	if err != nil && ctx.Err() != nil { // wherever it was met: why it was cut is what counts
		err = context.Cause(ctx)
	}
	return res, err
}

// carryOut executes live.
func (x *execution) carryOut(ctx context.Context) (*Result, error) {
	x.live = true
	var release func()
	x.calls, release = x.stop.cuttable(ctx)
	defer release()
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	err := x.flow(ctx, &sink{x: x, plan: x.last().Plan, pass: x.last().Number})
	left := errors.Is(err, errLeft) // a fault of ours lasts: nothing can be said of the rest
	if err != nil && !left {
		cancel(err)
	}
	x.close() // what is in flight ends first
	if err != nil && !left {
		return nil, err
	}
	return x.result()
}
