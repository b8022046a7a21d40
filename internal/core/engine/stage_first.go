package engine

import (
	"context"
	"fmt"

	"youngtrellis/internal/core/workflow"
)

// first stands ahead of the first step that writes, in a run of which only so many
// items are to be written before a person has looked: those that come later are
// set aside, to be gone on with. One that came here in any pass is not asked again.
type first struct{ base }

// before puts it above a step of the outermost block, where it belongs there.
func (r *room) before(step *workflow.CompiledStep, s stage) stage {
	if r.x.AtFirst <= 0 || step != r.pass.Plan.FirstWrite() {
		return s
	}
	return &first{base{room: r, execution: r.x, plan: r.pass.Plan, step: step, down: s}}
}

func (s *first) take(ctx context.Context, chunk []*flow) error {
	for _, f := range chunk {
		if f.met || !s.mine(f) {
			continue
		}
		if f.met = true; s.execution.gone < s.AtFirst {
			s.execution.gone++
			continue
		}
		f.become(aside, s.step.Number, s.rounds)
		s.show(f, Aside, firstWords(s.AtFirst))
	}
	return s.give(ctx, chunk)
}

// firstWords says why an item was set aside that came after the first ones.
func firstWords(n int) string {
	return fmt.Sprintf("not among the first %d; a retry lets it go on", n)
}
