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
//	             └── effects ── journal
//
// A Run says what is executed and what is reached outside; an execution is the
// state of carrying it out once; a Stop brings one to its end.
package engine

import (
	"context"
	"errors"
	"io"
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
	// At sends items that stopped before a step to another: old name to new.
	At map[string]string
}

// Run is what is executed, the last of whose passes is live, and the world that
// it needs. It is not changed by being executed.
type Run struct {
	Facts  workflow.RunFacts
	Passes []Pass

	Source      Source
	Journal     Journal
	Connections Connections
	Callbacks   Callbacks
	Sealer      Sealer // nil: nothing is stored, so nothing need be sealed
	Clock       Clock
	Lattice     Lattice

	// Rehearse prepares writes instead of sending them.
	Rehearse bool
	// Chunk is how many items go through together; 0 grows from 1 to 256 while
	// all goes well.
	Chunk int
	// Progress is told after each chunk.
	Progress func(Counts)
	// Interrupted is when an owner of the run died in the middle of its work,
	// and zero if none did since the run last got further. Calls of that time may
	// have been forgotten by the other side.
	Interrupted time.Time
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
// hand over, ErrDropped that the run is another's; every other error is the
// journal's. That an item failed is no error.
func (r *Run) Execute(ctx context.Context, stop *Stop) (*Result, error) {
	if stop == nil {
		stop = &Stop{}
	}
	last := r.Passes[len(r.Passes)-1]
	x := newExecution(r, stop)
	x.live = true
	var release func()
	x.calls, release = stop.cuttable(ctx)
	defer release()
	stream, end := x.pipeline(nil), &sink{x: x, plan: last.Plan, pass: last.Number}
	for {
		flows, err := stream.next(ctx)
		if errors.Is(err, io.EOF) {
			break
		}
		if errors.Is(err, errLeft) { // a fault of ours lasts; nothing can be said of the rest
			return x.result()
		}
		if err != nil {
			return nil, err
		}
		if err := end.take(ctx, flows); errors.Is(err, errLeft) {
			return x.result()
		} else if err != nil {
			return nil, err
		}
	}
	return x.result()
}

// Open is an item that is not done.
type Open struct {
	Address item.Address
	Step    string
	Outcome Outcome // empty: it had not come so far
	Label   string
	Text    string
}

// Frontier replays everything with effects forbidden and tells each item that
// is open: what a resume or retry would take up.
func (r *Run) Frontier(ctx context.Context, each func(Open) error) error {
	plan := r.Passes[len(r.Passes)-1].Plan
	x := newExecution(r, &Stop{})
	stream := x.pipeline(nil)
	for {
		flows, err := stream.next(ctx)
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		for _, f := range flows {
			if !f.isOpen {
				continue
			}
			o := Open{Address: f.it.Address, Step: plan.Steps[f.at].Name, Outcome: f.open, Label: Label(plan, f.it, x.secrets())}
			if f.at < len(f.cells) {
				o.Text = f.cells[f.at].Text
			}
			if err := each(o); err != nil {
				return err
			}
		}
	}
}

// pipeline builds the stages of all passes, one after the other. Effects are
// allowed in the last only, and only where the execution is live.
func (x *execution) pipeline(only *item.Address) stage {
	r := x.Run
	var s stage = &triggerStage{x: x, plan: r.Passes[0].Plan, only: only}
	for i, p := range r.Passes {
		if i > 0 {
			s = &takeUp{x: x, up: s, from: r.Passes[i-1].Plan, pass: p}
		}
		for _, step := range p.Plan.Steps {
			b := base{execution: x, up: s, plan: p.Plan, step: step, pass: p.Number, live: x.live && i == len(r.Passes)-1, only: only}
			switch {
			case step.Operation != nil || step.Off:
				s = &computeStage{b}
			case step.Action.Job != nil:
				s = &jobStage{base: b}
			case step.Lists():
				s = &listStage{base: b}
			default:
				s = &actionStage{base: b}
			}
		}
	}
	return s
}
