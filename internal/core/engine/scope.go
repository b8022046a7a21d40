package engine

import (
	"fmt"
	"time"

	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/workflow"
)

// round is one time through the body of a loop, as expressions know it.
type round struct {
	number int  // from 1
	last   bool // no further one will be begun
}

// eyes are what expressions of a step see for an item. Names are looked up only
// when they are read.
type eyes struct {
	expr.Scope
	x    *execution
	plan *workflow.Plan
	step *workflow.CompiledStep // nil for a label
	room *room
	it   *item.Item
	of   *base // of the stage that asks; nil where nothing is remembered
}

// scope is what expressions of the step see for an item.
func (b *base) scope(it *item.Item) *expr.Scope {
	e := &eyes{x: b.execution, plan: b.plan, step: b.step, room: b.room, of: b}
	return e.look(it)
}

func (e *eyes) look(it *item.Item) *expr.Scope {
	e.it = it
	e.Scope = expr.Scope{Item: it.Fields, Now: it.At, Place: e}
	if e.of != nil {
		if e.Signer, e.Lists = e, e; e.of.remembers() {
			e.Others = e
		}
	}
	return &e.Scope
}

// Seed implements expr.Place.
func (e *eyes) Seed() string {
	step, rounds := uint16(0), item.Rounds("")
	if e.step != nil {
		step, rounds = e.step.Number, e.room.rounds
	}
	return fmt.Sprintf("%s/%d%s/%s", e.x.Facts.ID, step, rounds, e.it.Address)
}

// Sign implements expr.Signer.
func (e *eyes) Sign(connection, text string) ([]byte, error) { return e.of.sign(connection, text) }

// List implements expr.Lists.
func (e *eyes) List(name string) ([]any, error) { return e.of.list(name) }

// Lookup implements expr.Place.
func (e *eyes) Lookup(name string) (any, error) {
	switch name {
	case "trigger":
		return e.trigger()
	case "steps":
		return lineage{e}, nil
	case "column":
		return list{e}, nil
	case "vars":
		return e.plan.Workflow.Vars, nil
	case "run":
		return e.x.runFacts(), nil
	case "error":
		return e.failure()
	case "round":
		if e.room == nil || e.room.round == nil {
			return nil, fmt.Errorf("round can be used only within a loop")
		}
		r := e.room.round
		return map[string]any{"number": int64(r.number), "first": r.number == 1, "last": r.last}, nil
	}
	return nil, fmt.Errorf("%s cannot be used here", name)
}

// failure is why the item takes the fallback in which the step stands, or why
// the run failed.
func (e *eyes) failure() (any, error) {
	if e.step == nil {
		return nil, fmt.Errorf("error cannot be used here")
	}
	for in := e.step.In; ; in = in.Of.In {
		for it := e.it; it != nil; it = it.Parent {
			if it.Failure != nil && (in.Of == nil && it.Step == 0 || in.Fallback && it.Step == in.Of.Number && lineage{e}.present(in.Of, it.Rounds)) {
				return it.Failure, nil
			}
		}
		if in.Of == nil {
			break
		}
	}
	if e.it.Group() {
		return nil, fmt.Errorf("this item was made of %d that failed each for a reason of its own; gather what is needed of error before", len(e.it.First().Members))
	}
	return nil, fmt.Errorf("error can be used only within a fallback or on_failure")
}

func (e *eyes) trigger() (any, error) {
	first := e.it.First()
	switch {
	case first.Step == 0:
		return first.Fields, nil
	case first.Trigger != nil:
		return first.Trigger.Fields, nil
	case len(first.Members) == 0:
		return nil, nil
	}
	return nil, fmt.Errorf("this item was made of %d that came from several trigger items, so there is no single one; gather what is needed of them", len(first.Members))
}

func (x *execution) runFacts() map[string]any {
	x.facts.Do(func() {
		x.run = map[string]any{"id": x.Facts.ID, "started": x.Facts.Started.UTC().Format(time.RFC3339), "workflow": x.Facts.Workflow}
	})
	return x.run
}

// lineage answers steps.NAME by walking up the item's chain.
type lineage struct{ *eyes }

// Field implements expr.Fields.
func (l lineage) Field(name string) (any, error) {
	s := l.plan.Step(name)
	if s == nil {
		return nil, fmt.Errorf("there is no step %s", name)
	}
	for it := l.it; it != nil; it = it.Parent {
		if it.Step == s.Number && l.present(s, it.Rounds) {
			return it.Fields, nil
		}
	}
	if first := l.it.First(); first.Step != 0 {
		if by := l.plan.ByNumber(first.Step); by != nil && s.Column < by.Column {
			return nil, fmt.Errorf("%s made one item of %d, so there is no single item of %s here; column(%q) gives all of them", by.Name, len(first.Members), name, name)
		}
	}
	return nil, nil
}

// present tells whether an item came through a step within the present rounds,
// as far as the loops around the two are the same.
func (l lineage) present(s *workflow.CompiledStep, at item.Rounds) bool {
	if l.step == nil || l.room.rounds == "" || at == "" {
		return true
	}
	depth := common(s, l.step)
	return at.Out(depth) == l.room.rounds.Out(depth)
}

// common is in how many loops two steps stand together.
func common(a, b *workflow.CompiledStep) int {
	for loop := a.Loop(); loop != nil; loop = loop.Loop() {
		if b.Within(loop) {
			return loop.Depth + 1
		}
	}
	return 0
}

// list answers column("NAME").
type list struct{ *eyes }

// Field implements expr.Fields.
func (l list) Field(name string) (any, error) {
	s := l.plan.Step(name)
	if s == nil || l.step == nil {
		return nil, fmt.Errorf("there is no step %s", name)
	}
	return l.x.columns.of(s.Number, l.room.rounds.Out(common(s, l.step))), nil
}
