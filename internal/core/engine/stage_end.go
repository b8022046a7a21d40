package engine

import (
	"context"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/steps"
)

// ender ends the run with the first item that comes to it. A rehearsal goes on
// and says that it would.
type ender struct {
	base
	op steps.Ender
}

func (s *ender) take(ctx context.Context, chunk []*flow) error {
	for _, f := range chunk {
		if !s.mine(f) {
			continue
		}
		s.arrives(f)
		message, err := s.op.Ends(s.scope(f.it))
		switch {
		case err != nil:
			s.fail(f, err)
		case s.op.Fails():
			s.stopped(f, Failed, &call.Failure{Class: call.Refused, Message: message})
		default:
			s.endsWell(f, message)
		}
	}
	return s.give(ctx, chunk)
}

func (s *ender) endsWell(f *flow, message string) {
	s.counts.at(s.step.Number, func(c *StepCounts) { c.In++; c.Held++ })
	f.become(ended, s.step.Number, s.rounds)
	if message == "" {
		message = "the run ends here"
	}
	s.show(f, EndedRun, message)
	if s.room.live && !s.Rehearse && !s.Sampled {
		s.stop.finish(s.step.Name + ": " + message)
	}
}
