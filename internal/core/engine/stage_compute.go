package engine

import "context"

// computeStage applies a step that only computes.
type computeStage struct{ base }

func (s *computeStage) next(ctx context.Context) ([]*flow, error) {
	flows, err := s.up.next(ctx)
	if err != nil {
		return nil, err
	}
	for _, f := range flows {
		if f.moving(s.step.Index) {
			s.apply(f)
		}
	}
	return flows, ctx.Err()
}

func (s *computeStage) apply(f *flow) {
	if s.step.Off {
		s.set(f, Off, "")
		return
	}
	r, err := s.step.Operation.Apply(s.scope(f.it))
	if err != nil {
		s.fail(f, failureOf(err))
		return
	}
	s.counts.at(s.step.Name, func(c *StepCounts) {
		c.In++
		if r.Held {
			c.Held++
		} else {
			c.Out++
		}
	})
	if r.Held {
		f.ended = true
		s.set(f, Held, r.Text)
		return
	}
	s.set(f, Passed, r.Text)
	if r.Fields != nil {
		f.it = f.it.Derive(s.step.Index, r.Fields, f.it.At)
	}
}
