package engine

import (
	"context"
	"errors"
	"maps"
	"strings"
	"time"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/steps"
	"youngtrellis/internal/core/workflow"
)

// stage is what a step is within one execution: it takes chunks of flows in
// order and hands them on to the stage below. Every flow goes through every
// stage; a stage touches only those that move and have come to its step.
type stage interface {
	take(ctx context.Context, chunk []*flow) error
	// end says that there are no more; what was held goes on now.
	end(ctx context.Context) error
}

// flow lets the run's items flow through the stages of all passes, one after the
// other, into a last stage.
func (x *execution) flow(ctx context.Context, last stage) error {
	outer := &room{x: x, pass: x.last(), live: x.live}
	head := outer.exchanged(&tail{last}, 1)
	for i := len(x.Passes) - 1; i >= 0; i-- {
		p := &x.Passes[i]
		root := &room{x: x, pass: p, live: x.live && i == len(x.Passes)-1}
		head = root.chain(p.Plan.Root, head)
		if i > 0 {
			head = &takeUp{x: x, pass: *p, down: head, pile: newPile(x)}
		}
	}
	err := (&source{x: x, down: head}).run(ctx)
	if err == nil {
		err = head.end(ctx)
	}
	if err == nil {
		err = x.whenFailed(ctx, last)
	}
	if err == nil {
		err = last.end(ctx)
	}
	if errors.Is(err, errEnough) {
		return nil
	}
	return err
}

// tail leaves the end of the last stage to those who know when nothing comes any
// more.
type tail struct{ stage }

func (t *tail) end(context.Context) error { return nil }

// errEnough says that what was looked for has come.
var errEnough = errors.New("enough")

// room is where steps are done: a pass outside of every loop, or one round.
type room struct {
	x      *execution
	pass   *Pass
	live   bool // effects are allowed here
	rounds item.Rounds
	round  *round     // of the innermost loop; nil outside
	path   string     // the numbers of the rounds, for people
	entry  *item.Item // with which the round was entered
	turns  *turn      // of that
	stood  *stood     // of that
	place  *place     // where what comes of nothing rejoins
	torn   *torn      // whether something is open above the cases in which it is
	all    bool       // all its items are there, also where only some are looked at
	nested bool       // its stages belong to a nest, whose order is restored chunk by chunk
}

// torn tells whether items that would come into a case stand above the branch:
// they pass its cases by, so the lists there would not know.
type torn struct {
	up  *torn
	set bool
}

func (t *torn) is() bool { return t != nil && (t.set || t.up.is()) }

// chain makes the stages of a block, ahead of the one below.
func (r *room) chain(block *workflow.CompiledBlock, down stage) stage {
	for i := len(block.Steps) - 1; i >= 0; i-- {
		down = r.before(block.Steps[i], r.stage(block.Steps[i], down))
	}
	return down
}

// stage makes the stage of a step. This is the one place that knows the bases
// on which operators stand.
func (r *room) stage(step *workflow.CompiledStep, down stage) stage {
	b := base{room: r, execution: r.x, plan: r.pass.Plan, step: step, down: down}
	if step.Off {
		return &off{b}
	}
	if block := step.FallsInto(); block != nil {
		b.down = newFallback(b, block)
	}
	b.decisions = &decisions{}
	b.down = &durable{b}
	var s stage
	switch op := step.Operator.(type) {
	case steps.Each:
		s = &each{base: b, op: op}
	case steps.Sieve:
		s = &sieve{base: b, op: op}
	case steps.Holder:
		s = &hold{base: b, grouping: newGrouping(op)}
	case steps.Picker:
		s = &pick{base: b, op: op, pile: newPile(r.x)}
	case *steps.Call:
		s = r.exchanged(&deciding{b, b.calling()}, step.Parallel)
	case steps.Parker:
		s = &park{base: b, op: op, pile: newPile(r.x)}
	case steps.Branch:
		s = newBranch(b, op)
	case steps.Loop:
		s = &loop{base: b, op: op, grouping: newGrouping(op.Rounds())}
	case steps.Ender:
		s = &ender{base: b, op: op}
	case steps.Answerer:
		s = &answering{base: b, op: op}
	}
	if _, calls := step.Operator.(*steps.Call); !calls {
		s = &deciding{b, s}
	}
	if len(step.Holds) > 0 {
		b.down = s
		s = &gate{base: b, pile: newPile(r.x)}
	}
	return s
}

// calling makes the stage of a step that makes calls.
func (b base) calling() stage {
	switch {
	case b.step.Action.Job != nil && !b.Sampled:
		return &jobs{base: b}
	case b.step.Lists():
		return &lists{base: b}
	}
	return &effects{base: b}
}

// base is what every stage of a step has.
type base struct {
	*room
	*execution
	plan *workflow.Plan
	step *workflow.CompiledStep
	down stage

	decisions *decisions // what others decided of its items

	forgotten int // effects that the other side may have forgotten, so far
}

// only are the items that are looked at here; nil for all.
func (b *base) only() *wanted {
	if b.room.all {
		return nil
	}
	return b.wanted
}

// give hands flows on.
func (b *base) give(ctx context.Context, flows []*flow) error {
	if len(flows) == 0 {
		return nil
	}
	return b.down.take(ctx, flows)
}

// end implements stage for those that hold nothing.
func (b *base) end(ctx context.Context) error { return b.down.end(ctx) }

// effective tells whether effects may begin here.
func (b *base) effective() bool { return b.room.live && !b.stop.set() }

// mayBegin tells whether an effect for an item may begin here.
func (b *base) mayBegin(f *flow) bool {
	return b.effective() && (f.untouched == nil || !b.stop.halted.Load())
}

// key names what the step journals of an item.
func (b *base) key(a item.Address, part int) Key {
	return Key{Pass: b.room.pass.Number, Step: b.step.Number, Rounds: b.rounds, Address: a, Part: part}
}

// off lets items pass by a step that is switched off.
type off struct{ base }

func (s *off) take(ctx context.Context, chunk []*flow) error {
	for _, f := range chunk {
		if s.mine(f) {
			s.show(f, Off, "")
		}
	}
	return s.give(ctx, chunk)
}

// mine tells whether a flow moves and has come to the step. One that was taken
// up here goes on as any other from now on. One that stands within a step that
// was switched off since goes on behind it.
func (b *base) mine(f *flow) bool {
	if f.state != moving {
		return false
	}
	if f.entering && (f.at == b.step.Number && f.rounds.Depth() <= b.step.Depth || b.step.Off && b.inside(f)) {
		f.entering = false
	}
	return !f.entering
}

// inside tells whether a flow was taken up at a step within this one.
func (b *base) inside(f *flow) bool {
	if f.state != moving || !f.entering {
		return false
	}
	if f.at == b.step.Number { // at the end of one of its rounds
		return f.rounds.Depth() > b.step.Depth
	}
	at := b.plan.ByNumber(f.at)
	return at != nil && at.Within(b.step)
}

// fail does with an item what on_error says.
func (b *base) fail(f *flow, why error) {
	var own ours
	if errors.As(why, &own) { // what it is told goes no further
		b.leave(f)
		return
	}
	failure := failureOf(why)
	switch outcome := b.onError(); outcome {
	case Continued, FellBack:
		b.failed(failure)
		b.goesOn(f, outcome, failure, f.it.At)
		b.remember(f.it)
	default:
		b.stopped(f, outcome, failure)
	}
}

// onError is the outcome of a failure.
func (b *base) onError() Outcome {
	switch b.step.OnError {
	case workflow.OnErrorSetAside:
		return SetAside
	case workflow.OnErrorContinue:
		return Continued
	case workflow.OnErrorFallback:
		return FellBack
	}
	return Failed
}

// goesOn lets an item go on that failed: with nothing, or into the fallback.
func (b *base) goesOn(f *flow, outcome Outcome, why *call.Failure, at time.Time) {
	fate, fields := WentOn, f.it.Fields
	if outcome == FellBack {
		fate = TookBack
	} else if name, ok := strings.CutPrefix(b.step.Step.Output, "under "); ok {
		fields = maps.Clone(fields)
		fields[name] = nil
	}
	b.counts.at(b.step.Number, func(c *StepCounts) {
		c.In++
		c.Out++
		if outcome == FellBack {
			c.FellBack++
		} else {
			c.Continued++
		}
	})
	b.show(f, fate, why.Message)
	f.it = f.it.Derive(b.step.Number, b.rounds, fields, at)
	if outcome == FellBack {
		f.it.Failure = b.errorOf(why)
	}
}

// errorOf is what expressions see of a failure.
func (b *base) errorOf(why *call.Failure) map[string]any {
	out := map[string]any{"message": b.secrets().Mask(why.Message), "step": b.step.Name, "class": string(why.Class), "status": nil}
	if why.Status != 0 {
		out["status"] = int64(why.Status)
	}
	return out
}

// failed tells whoever listens that something failed.
func (b *base) failed(why *call.Failure) {
	if b.Fails != nil {
		b.Fails(b.step, why)
	}
}

// leave leaves an item open at the step: nothing is known to be final of it. One
// that was set aside, and of which nothing has begun, stays set aside.
func (b *base) leave(f *flow) {
	if f.untouched == nil {
		f.become(left, b.step.Number, b.rounds)
		return
	}
	f.back()
	if b.room.live && b.stop.halted.Load() {
		b.notBegun.Add(1)
	}
}

// stopped leaves an item open at the step with an outcome of its own.
func (b *base) stopped(f *flow, outcome Outcome, why *call.Failure) {
	f.become(stateOf[outcome], b.step.Number, b.rounds)
	b.show(f, fateOf[f.state], why.Message)
	b.failed(why)
	if b.room.live && !b.Sampled {
		b.slow()
		if f.state == failed {
			b.fails(f, why)
		}
	}
}

// show puts what became of an item at the step on its way.
func (b *base) show(f *flow, fate Fate, text string) {
	told := b.line(text)
	if b.opens && fate.Fails() {
		told = b.whole(text)
	}
	f.passed(b.step.Number, b.rounds, Cell{Step: b.step.Number, Fate: fate, Text: told, Round: b.path}, b.room.pass.Number)
}

// pass lets an item go on as the step made it.
func (b *base) pass(f *flow, fate Fate, text string, fields map[string]any) {
	b.show(f, fate, text)
	f.it = f.it.Derive(b.step.Number, b.rounds, fields, f.it.At)
	b.remember(f.it)
}

// remember keeps an item for those that read the step's column.
func (b *base) remember(it *item.Item) {
	if b.step.Kept {
		b.columns.add(b.step.Number, b.rounds, it)
	}
}

// none decides what becomes of an item for which the step gave no items.
func (b *base) none(f *flow, fate Fate) {
	switch b.step.WhenNone {
	case workflow.WhenNonePass:
		b.pass(f, fate, "nothing found, goes on", f.it.Fields)
		b.counts.at(b.step.Number, func(c *StepCounts) { c.In++; c.Out++ })
	case workflow.WhenNoneFail:
		b.fail(f, &call.Failure{Class: call.Refused, Message: "The list is empty, and the step is told to fail then."})
	default:
		f.become(ended, b.step.Number, b.rounds)
		b.show(f, GaveNothing, "gave nothing")
		b.counts.at(b.step.Number, func(c *StepCounts) { c.In++; c.Nothing++ })
	}
}
