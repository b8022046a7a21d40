package engine

import (
	"context"
	"errors"
	"fmt"

	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/workflow"
)

// Opened is everything about one item at one step, as it may be seen: secrets
// that an answer held are masked.
type Opened struct {
	Address item.Address
	Label   string
	Step    *workflow.CompiledStep // nil for the trigger
	Before  map[string]any         // the item as it came to the step
	After   map[string]any         // what went on; nil if nothing did
	Members []item.Address         // of a group that was made here, or above
	Cell    Cell
	Entry   *Entry // of a step that reaches outside
	Edited  *Edit  // where a person has put other fields in place of those that came
	Way     []Cell // all cells of the row
	Plan    *workflow.Plan
}

// ErrNoItem says that the run has no such item.
var ErrNoItem = errors.New("the run has no item with this address")

// Inspect opens a cell of a past or present run by replaying only what leads to
// it. Step "" is the trigger, or for a group what it was made of.
func (r *Run) Inspect(ctx context.Context, address item.Address, step string) (*Opened, error) {
	plan := r.Passes[len(r.Passes)-1].Plan
	at := plan.Step(step)
	if at == nil && step != "" {
		return nil, fmt.Errorf("%w: there is no step %q", ErrNoItem, step)
	}
	x := newExecution(r, &Stop{})
	x.opens = true
	f, err := x.findAlone(ctx, address)
	if errors.Is(err, errWide) {
		x.close()
		x = newExecution(r, &Stop{})
		x.opens = true
		f, err = x.find(ctx, address)
	}
	defer x.close()
	if err != nil {
		return nil, err
	}
	o := x.opened(f, plan, at)
	o.Address = address
	if err := x.withEdit(ctx, f, o); err != nil {
		return nil, err
	}
	return o, x.withSent(ctx, o)
}

// withEdit adds what a person had put in place of the item's fields.
func (x *execution) withEdit(ctx context.Context, f *flow, o *Opened) error {
	if o.Step == nil {
		return nil
	}
	it, w := f.it, f.way
	for ; it != nil && it.Step != item.Edited; it = it.Parent {
		if it.Parent != nil && it.Parent.Step == item.Edited && it.Step == o.Step.Number {
			it = it.Parent
			break
		}
	}
	for ; w != nil && w.cell.Step != o.Step.Number; w = w.up {
	}
	if it == nil || it.Step != item.Edited || w == nil {
		return nil
	}
	e, err := x.Journal.Page(ctx, Key{Pass: w.pass, Step: o.Step.Number, Rounds: w.rounds, Address: it.Address, Part: PartEdit})
	if err != nil || e == nil {
		return err
	}
	o.Edited, err = ReadEdit(e)
	return err
}

// errWide says that the journal does not know yet what became of an item: it
// takes a replay of all of them.
var errWide = errors.New("all items are needed")

// findAlone finds an item by following it, and what it was made of.
func (x *execution) findAlone(ctx context.Context, address item.Address) (*flow, error) {
	x.wanted = newWanted()
	if err := x.want(ctx, address, 0); err != nil {
		return nil, err
	}
	if !x.narrow() {
		return nil, errWide
	}
	if err := x.wantRounds(ctx); err != nil {
		return nil, err
	}
	return x.find(ctx, address)
}

// want makes an item wanted, with all that it was made of.
func (x *execution) want(ctx context.Context, a item.Address, depth int) error {
	x.wanted.add(a)
	head := a.Head()
	first := head.Segments()
	if len(first) == 0 || !first[0].Group || FailureItem(head) || x.wanted.groups[head] != nil || depth > workflow.MaxSteps {
		return nil
	}
	k := Key{Pass: int(first[0].Edition), Step: first[0].Step, Rounds: first[0].Rounds, Address: head, Part: PartSeal}
	e, err := x.Journal.Page(ctx, k)
	whole := false
	if err == nil && e == nil {
		k.Address, whole = "", true
		e, err = x.Journal.Page(ctx, k)
	}
	if err != nil {
		return err
	}
	if e == nil {
		return ErrNoItem
	}
	end, err := readSeal(e.Result)
	if err != nil {
		return err
	}
	members := end.members
	if n := int(first[0].N); whole {
		if n >= len(end.ends) {
			return ErrNoItem
		}
		from := 0
		if n > 0 {
			from = end.ends[n-1]
		}
		members = members[from:end.ends[n]]
	}
	if len(members) == 0 && first[0].Rounds != "" {
		return errWide // made of nothing, for the item with which the round was entered
	}
	x.wanted.groups[head] = members
	for _, m := range members {
		if err := x.want(ctx, m, depth+1); err != nil {
			return err
		}
	}
	return nil
}

// finder is a last stage that takes the flow that is looked for, or else the
// first that came of it. The item of a list that was read by half comes behind
// what came of it.
type finder struct {
	address item.Address
	found   *flow
}

func (s *finder) take(_ context.Context, chunk []*flow) error {
	for _, f := range chunk {
		switch {
		case f.it.Address == s.address:
			s.found = f
			return errEnough
		case s.found == nil && f.it.Address.Within(s.address):
			s.found = f
		}
	}
	return nil
}

func (s *finder) end(context.Context) error { return nil }

func (x *execution) find(ctx context.Context, address item.Address) (*flow, error) {
	last := &finder{address: address}
	if err := x.flow(ctx, last); err != nil {
		return nil, err
	}
	if last.found == nil {
		return nil, ErrNoItem
	}
	return last.found, nil
}

func (x *execution) opened(f *flow, plan *workflow.Plan, step *workflow.CompiledStep) *Opened {
	earlier := func(pass int) bool { return pass < x.last().Number }
	o := &Opened{Label: Label(plan, f.it, x.secrets()), Plan: plan, Step: step, Way: f.cells(earlier)}
	first := f.it.First()
	o.Members = first.Members
	if step == nil {
		o.Cell, o.After = Cell{Fate: Passed}, x.shown(first)
		o.Before = o.After
		return o
	}
	o.Cell = Cell{Step: step.Number, Fate: NotReached}
	for w := f.way; w != nil; w = w.up {
		if w.cell.Step == step.Number {
			o.Cell, o.Entry = w.cell, w.entry
			o.Cell.Reused = earlier(w.pass)
			break
		}
	}
	after := f.it.Through(step.Number)
	switch {
	case after == nil || !o.Cell.Fate.GoesOn(): // it ended here, or did not come here
		o.Before = x.shown(f.it)
	case after.Parent != nil:
		o.Before, o.After = x.shown(after.Parent), x.shown(after)
	default: // the step made it of many
		o.After = x.shown(after)
	}
	return o
}

// withSent adds what was sent to an opened entry that came without it.
func (x *execution) withSent(ctx context.Context, o *Opened) error {
	if o.Entry == nil || o.Entry.Request != nil {
		return nil
	}
	whole, err := x.Journal.Page(ctx, o.Entry.Key)
	if err != nil || whole == nil {
		return err
	}
	e := *o.Entry
	e.Request = whole.Request
	o.Entry = &e
	return nil
}

// shown are an item's fields as they may be seen.
func (x *execution) shown(it *item.Item) map[string]any {
	fields, _ := x.secrets().MaskValue(it.Fields).(map[string]any)
	return fields
}
