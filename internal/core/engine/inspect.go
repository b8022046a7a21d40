package engine

import (
	"context"
	"errors"
	"fmt"
	"io"

	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/workflow"
)

// Opened is everything about one item at one step, as it may be seen: secrets
// that an answer held are masked.
type Opened struct {
	Address item.Address
	Label   string
	Step    *workflow.CompiledStep
	Before  map[string]any // the item as it came to the step
	After   map[string]any // what went on; nil if nothing did
	Cell    Cell
	Entry   *Entry // of a step that reaches outside
	Way     []Cell // all cells of the row
	Plan    *workflow.Plan
}

// ErrNoItem says that the run has no such item.
var ErrNoItem = errors.New("the run has no item with this address")

// Inspect opens a cell of a past or present run by replaying only what leads
// to it. Step -1 is the trigger.
func (r *Run) Inspect(ctx context.Context, address item.Address, step int) (*Opened, error) {
	plan := r.Passes[len(r.Passes)-1].Plan
	if step < -1 || step >= len(plan.Steps) {
		return nil, fmt.Errorf("%w: there is no step %d", ErrNoItem, step)
	}
	x := newExecution(r, &Stop{})
	stream := x.pipeline(&address)
	for {
		flows, err := stream.next(ctx)
		if errors.Is(err, io.EOF) {
			return nil, ErrNoItem
		}
		if err != nil {
			return nil, err
		}
		for _, f := range flows {
			if f.it.Address == address || f.it.Address.Within(address) {
				o := x.opened(f, plan, address, step)
				return o, x.withSent(ctx, o)
			}
		}
	}
}

func (x *execution) opened(f *flow, plan *workflow.Plan, address item.Address, step int) *Opened {
	for len(f.cells) < len(plan.Steps) {
		f.cells = append(f.cells, Cell{Fate: NotReached})
	}
	o := &Opened{Address: address, Label: Label(plan, f.it, x.secrets()), Way: f.cells, Plan: plan, Before: x.shown(f.it.AsOf(max(step-1, -1)))}
	if step < 0 {
		o.Cell = Cell{Fate: Passed}
		o.After = x.shown(f.it.Trigger())
		return o
	}
	o.Step, o.Cell, o.Entry = plan.Steps[step], f.cells[step], f.entries[step]
	switch o.Cell.Fate {
	case Passed, ReadOutside, Written, Prepared, Off:
		o.After = x.shown(f.it.AsOf(step))
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
