package engine

import (
	"context"
	"errors"

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
	head := outer.exchanged(last, 1)
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
	if errors.Is(err, errEnough) {
		return nil
	}
	return err
}

// errEnough says that what was looked for has come.
var errEnough = errors.New("enough")

// room is where steps are done: a pass outside of every loop, or one round.
type room struct {
	x      *execution
	pass   *Pass
	live   bool // effects are allowed here
	rounds item.Rounds
	round  *round     // of the innermost loop; nil outside
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
		down = r.stage(block.Steps[i], down)
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
	var s stage
	switch op := step.Operator.(type) {
	case steps.Each:
		s = &each{base: b, op: op}
	case steps.Holder:
		s = &hold{base: b, grouping: newGrouping(op)}
	case *steps.Call:
		s = r.exchanged(b.calling(), step.Parallel)
	case steps.Parker:
		s = &park{base: b, op: op, pile: newPile(r.x)}
	case steps.Branch:
		s = newBranch(b, op)
	case steps.Loop:
		s = &loop{base: b, op: op, grouping: newGrouping(op.Rounds())}
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

// fail leaves an item at the step as on_error says.
func (b *base) fail(f *flow, why error) {
	outcome := Failed
	if b.step.OnError == workflow.OnErrorSetAside {
		outcome = SetAside
	}
	b.stopped(f, outcome, failureOf(why))
}

// leave leaves an item open at the step: nothing is known to be final of it.
func (b *base) leave(f *flow) { f.become(left, b.step.Number, b.rounds) }

// stopped leaves an item open at the step with an outcome of its own.
func (b *base) stopped(f *flow, outcome Outcome, why *call.Failure) {
	f.become(stateOf[outcome], b.step.Number, b.rounds)
	b.show(f, fateOf[f.state], why.Message)
	if b.Fails != nil {
		b.Fails(b.step, why)
	}
	if b.room.live && !b.Sampled {
		b.slow()
		if f.state == failed {
			b.stop.fail("%s: %s", b.step.Name, why.Message)
		}
	}
}

// show puts what became of an item at the step on its way.
func (b *base) show(f *flow, fate Fate, text string) {
	f.passed(b.step.Number, b.rounds, Cell{Step: b.step.Number, Fate: fate, Text: b.line(text)}, b.room.pass.Number)
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
