package engine

import (
	"context"

	"youngtrellis/internal/core/steps"
	"youngtrellis/internal/core/workflow"
)

var lateWords = map[string]string{
	workflow.LateLeave: "its list was closed before; what comes now ends there",
	workflow.LateAlone: "its list was closed before; what comes now makes a list of its own",
	workflow.LateAgain: "its list was closed before; it is made again of all items, and what follows is done again for it",
}

// late is what becomes of items that meet a list that an earlier pass closed; ""
// where none did.
func (s *hold) late() string {
	if !s.closed.before(s.step.Number, s.rounds, s.room.pass.Number) {
		return ""
	}
	return s.lateOf(s.step)
}

// lateOf is what a step says of late items, with its default: groups that have a
// size stand for themselves, and so does what came after the first items of a run
// that was to take no more at first.
func (x *execution) lateOf(step *workflow.CompiledStep) string {
	h, _ := step.Operator.(steps.Holder)
	switch {
	case step.Late != "":
		return step.Late
	case h != nil && h.Streams(), x.AtFirst > 0 && step.Follows(x.last().Plan.FirstWrite()):
		return workflow.LateAlone
	}
	return workflow.LateLeave
}

// again tells whether a flow that joined the list in an earlier pass joins it
// again, as a new edition.
func (s *hold) again(f *flow) bool {
	return s.step.Late == workflow.LateAgain && !s.holder.Streams() && f.state == joined && f.at == s.step.Number && f.rounds == s.rounds && s.room.pass.Number > 1
}

// leaveOut ends the items that came too late.
func (s *hold) leaveOut(ctx context.Context) error {
	for _, g := range s.grouping.rest() {
		for _, at := range g.places {
			f, err := s.pile.release(at)
			if err != nil {
				return err
			}
			f.become(ended, s.step.Number, s.rounds)
			s.show(f, Held, "the list was closed before")
			s.counts.at(s.step.Number, func(c *StepCounts) { c.In++; c.Held++ })
			if err := s.give(ctx, []*flow{f}); err != nil {
				return err
			}
		}
	}
	return nil
}
