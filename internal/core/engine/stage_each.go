package engine

import (
	"context"

	"youngtrellis/internal/core/steps"
)

// each applies a step that works on one item at a time and only computes.
type each struct {
	base
	op steps.Each
}

func (s *each) take(ctx context.Context, chunk []*flow) error {
	out := chunk
	_, spreads := s.op.(steps.Spreads)
	if spreads {
		out = nil
	}
	e := &eyes{x: s.execution, plan: s.plan, step: s.step, room: s.room, of: &s.base}
	for _, f := range chunk {
		if !s.mine(f) {
			if spreads {
				out = append(out, f)
			}
			continue
		}
		s.arrives(f)
		r, err := s.op.Apply(e.look(f.it))
		switch {
		case err != nil:
			s.fail(f, err)
		case spreads:
			var err error
			if out, err = s.spread(ctx, out, f, r); err != nil {
				return err
			}
			continue
		default:
			s.settle(f, r)
		}
		if spreads {
			out = append(out, f)
		}
	}
	if !spreads {
		return s.give(ctx, out)
	}
	return s.chunks(ctx, out, s.down)
}

func (b *base) arrives(f *flow) {
	if b.Arrives != nil {
		b.Arrives(b.step, f.it)
	}
}

func (s *each) settle(f *flow, r steps.Result) {
	s.counts.at(s.step.Number, func(c *StepCounts) {
		c.In++
		if r.Held {
			c.Held++
		} else {
			c.Out++
		}
	})
	if r.Held {
		f.become(ended, s.step.Number, s.rounds)
		s.show(f, Held, r.Text)
		return
	}
	fields := r.Fields
	if fields == nil {
		fields = f.it.Fields
	}
	s.pass(f, Passed, r.Text, fields)
}

// spread gives the items that came of one. What has come together goes on when
// it is as much as a chunk.
func (s *each) spread(ctx context.Context, out []*flow, f *flow, r steps.Result) ([]*flow, error) {
	if len(r.Many) == 0 {
		s.none(f, Passed)
		return append(out, f), nil
	}
	given := 0
	for i, fields := range r.Many {
		it := f.it.Child(s.step.Number, s.rounds, uint32(i), fields, f.it.At)
		if !s.only().relevant(it.Address) {
			continue
		}
		c := f.child(it)
		c.bytes = f.bytes / len(r.Many)
		s.remember(it)
		s.show(c, Passed, Label(s.plan, it, s.secrets()))
		out = append(out, c)
		if given++; len(out) >= mostItems {
			if err := s.chunks(ctx, out, s.down); err != nil {
				return nil, err
			}
			out = nil
		}
	}
	s.counts.at(s.step.Number, func(c *StepCounts) { c.In++; c.Out += given })
	return out, nil
}
