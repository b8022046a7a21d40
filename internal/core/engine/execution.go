package engine

import (
	"context"
	"errors"
	"fmt"
	"sync/atomic"
	"time"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/workflow"
)

// execution is the state of carrying a run out once, live or as a replay.
type execution struct {
	*Run
	stop   *Stop
	live   bool
	calls  context.Context // of calls, which a second cancel cuts
	counts *tally
	found  atomic.Pointer[call.Secrets] // in answers; masked on every surface
	size   atomic.Int64                 // of the next chunk
}

func newExecution(r *Run, stop *Stop) *execution {
	return &execution{Run: r, stop: stop, counts: newTally(r.Passes[len(r.Passes)-1].Plan)}
}

// now is the clock at the exactness that the journal keeps.
func (x *execution) now() time.Time { return x.Clock.Now().UTC().Truncate(time.Microsecond) }

// secrets are those that were found in answers so far.
func (x *execution) secrets() *call.Secrets { return x.found.Load() }

func (x *execution) learn(values []string) {
	for len(values) > 0 {
		known := x.found.Load()
		if more := known.With(values...); more == known || x.found.CompareAndSwap(known, more) {
			return
		}
	}
}

// chunk is how many items go on together: one at first and after a failure,
// twice as many after each that went well.
func (x *execution) chunk() int {
	const most = 256
	if x.Chunk > 0 {
		return x.Chunk
	}
	if !x.live { // nothing is paid for in a replay
		return most
	}
	n := max(1, x.size.Load())
	x.size.CompareAndSwap(x.size.Load(), min(2*n, most))
	return int(n)
}

// slow lets chunks begin at one again.
func (x *execution) slow() { x.size.Store(1) }

// errLeft says that an execution stopped while it waited for us.
var errLeft = errors.New("left as it is")

const (
	oursLeast = 50 * time.Millisecond
	oursMost  = 2 * time.Second
	// oursPatience is how long a fault of ours is waited for before the run parks.
	oursPatience = 10 * time.Minute
)

// held does something that can fail by a fault of ours, again and again until
// it succeeds: such a fault is never an item's, and counts no attempt. A
// *call.Failure, a *call.Parked and a *call.Lost are given back as they are. A
// stop is answered with errLeft, and so is a fault that lasts, which parks the
// run. A replay does not wait.
func (x *execution) held(ctx context.Context, what string, do func(context.Context) error) error {
	var began time.Time
	pause := oursLeast
	for {
		err := do(ctx)
		if err == nil || !x.live || theirs(err) {
			return err
		}
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if errors.Is(err, ErrDropped) {
			return err
		}
		now := x.Clock.Now()
		if began.IsZero() {
			began = now
		}
		if now.Sub(began) > oursPatience {
			x.stop.park(&call.Parked{Reason: call.ReasonOurs, Until: now.Add(oursPatience), Cause: err,
				Message: fmt.Sprintf("Something on our own side does not work: %s. It is tried again by itself, and nothing is lost.", what)})
			return errLeft
		}
		if !x.pause(ctx, pause) {
			return errLeft
		}
		pause = min(2*pause, oursMost)
	}
}

// theirs tells whether an error says something of the item or the other side.
func theirs(err error) bool {
	var f *call.Failure
	var p *call.Parked
	var l *call.Lost
	return errors.As(err, &f) || errors.As(err, &p) || errors.As(err, &l) || errors.Is(err, errLeft)
}

// pause waits, and tells whether it was not interrupted by a stop.
func (x *execution) pause(ctx context.Context, d time.Duration) bool {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	stopped := make(chan struct{})
	go func() {
		defer close(stopped)
		select {
		case <-x.stop.Done():
			cancel()
		case <-ctx.Done():
		}
	}()
	err := x.Clock.Sleep(ctx, d)
	cancel()
	<-stopped
	return err == nil && !x.stop.set()
}

// result is how the execution ended.
func (x *execution) result() (*Result, error) {
	res := &Result{State: Succeeded, Counts: x.counts.snapshot(), Secrets: x.secrets()}
	switch why, parked, failure := x.stop.reason(); why {
	case handedOver:
		return nil, ErrHandover
	case parks:
		res.State, res.Parked = WaitingOn, parked
		return res, nil
	case cancelled:
		res.State = Cancelled
		return res, nil
	case fails:
		res.Reason = x.secrets().Mask(failure)
	}
	switch c := res.Counts; {
	case c.Stopped > 0 || res.Reason != "":
		res.State = FailedRun
	case c.SetAside > 0 || c.InDoubt > 0:
		res.State = Partial
	}
	return res, nil
}

// stage gives chunks of flows in order, io.EOF at the end.
type stage interface {
	next(ctx context.Context) ([]*flow, error)
}

// base is what every stage of a step has.
type base struct {
	*execution
	up   stage
	plan *workflow.Plan
	step *workflow.CompiledStep
	pass int
	live bool          // effects are allowed here
	only *item.Address // inspect this item and what leads to it

	forgotten int // effects that the other side may have forgotten, so far
}

// scope is what expressions of the step see for an item.
func (b *base) scope(it *item.Item) *expr.Scope { return b.plan.Scope(it, b.step, b.Facts) }

// set shows what became of an item at the step.
func (b *base) set(f *flow, fate Fate, text string) {
	f.set(b.step.Index, Cell{Fate: fate, Text: Line(b.secrets().Mask(text))})
}

// halt leaves an item open at the step: nothing is known to be final of it.
func (b *base) halt(f *flow) { f.isOpen, f.open, f.at = true, "", b.step.Index }

// fail leaves an item at the step as on_error says.
func (b *base) fail(f *flow, why *call.Failure) {
	outcome := Failed
	if b.step.OnError == workflow.OnErrorSetAside {
		outcome = SetAside
	}
	b.stopped(f, outcome, why.Message)
}

// stopped leaves an item open at the step with an outcome of its own.
func (b *base) stopped(f *flow, outcome Outcome, message string) {
	f.isOpen, f.open, f.at = true, outcome, b.step.Index
	b.set(f, fateOf(outcome), message)
	if b.live {
		b.slow()
		if outcome == Failed {
			b.stop.fail("%s: %s", b.step.Name, message)
		}
	}
}

func fateOf(o Outcome) Fate {
	switch o {
	case SetAside:
		return Aside
	case Unknown:
		return MayBeSent
	}
	return Stopped
}

// relevant tells whether an item can lead to the inspected one.
func relevant(only *item.Address, a item.Address) bool {
	return only == nil || a.Within(*only) || only.Within(a)
}
