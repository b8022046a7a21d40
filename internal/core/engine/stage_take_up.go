package engine

import (
	"context"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/workflow"
)

// takeUp hands the open items of one pass to the next.
type takeUp struct {
	x     *execution
	up    stage
	from  *workflow.Plan
	pass  Pass
	moves []int // index of a step in from to its index in pass.Plan, or -1
}

func (t *takeUp) next(ctx context.Context) ([]*flow, error) {
	if t.moves == nil {
		t.moves = Moves(t.from, t.pass.Plan, t.pass.At)
	}
	flows, err := t.up.next(ctx)
	for _, f := range flows {
		t.take(f)
	}
	return flows, err
}

func (t *takeUp) take(f *flow) {
	chosen := f.isOpen && (t.pass.Only == nil && f.open != SetAside && f.open != Unknown || t.pass.Only != nil && t.pass.Only(f.it.Address))
	if t.from != t.pass.Plan {
		f.remap(t.moves, len(t.pass.Plan.Steps))
	}
	for i := range f.cells {
		f.cells[i].Reused = true
	}
	if !f.isOpen {
		f.through = !f.ended || f.through
		f.ended = true
		return
	}
	if f.at < 0 { // its step is gone
		f.at = len(t.pass.Plan.Steps)
		f.isOpen, f.ended = false, true
		return
	}
	if chosen {
		if f.open == Unknown { // a person has looked, and wants it sent again
			f.generation++
			f.former = nil
		}
		f.isOpen, f.open = false, ""
		f.cells = f.cells[:min(len(f.cells), f.at)]
	}
}

// Moves tells where each step of the old plan stands in the new one: the step
// of the same name, the one that says it was called so, or the one named in at.
func Moves(from, to *workflow.Plan, at map[string]string) []int {
	moves := make([]int, len(from.Steps))
	for i, s := range from.Steps {
		moves[i] = -1
		for j, n := range to.Steps {
			if n.Name == s.Name || n.Was == s.Name || at[s.Name] == n.Name {
				moves[i] = j
				break
			}
		}
	}
	return moves
}

// remap moves a flow from one plan to another: its cells, the step at which it
// stands, and the steps of its lineage.
func (f *flow) remap(moves []int, steps int) {
	cells := make([]Cell, steps)
	for i := range cells {
		cells[i] = Cell{Fate: NotReached}
	}
	for i, c := range f.cells {
		if i < len(moves) && moves[i] >= 0 {
			cells[moves[i]] = c
		}
	}
	f.cells = cells
	if f.at < len(moves) {
		f.at = moves[f.at]
	}
	f.it = rechain(f.it, moves)
}

func rechain(it *item.Item, moves []int) *item.Item {
	if it == nil || it.Step < 0 {
		return it
	}
	c := *it
	c.Parent = rechain(it.Parent, moves)
	c.Step = c.Parent.Step
	if it.Step < len(moves) && moves[it.Step] >= 0 {
		c.Step = moves[it.Step]
	}
	return &c
}
