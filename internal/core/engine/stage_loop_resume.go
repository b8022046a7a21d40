package engine

import (
	"cmp"
	"context"
	"maps"
	"slices"

	"youngtrellis/internal/core/item"
)

// resumes keeps a flow until all of its round have come.
func (s *loop) resumes(f *flow) {
	if s.resumed == nil {
		s.resumed = map[item.Rounds][]*flow{}
	}
	in := s.within(f)
	s.resumed[in] = append(s.resumed[in], f)
}

// stands tells whether a flow stands in a round that an earlier pass left.
func (s *loop) stands(f *flow) bool {
	if f.state != moving && !f.state.open() || f.state == moving && !f.entering || f.rounds.Depth() <= s.step.Depth {
		return false
	}
	at := s.plan.ByNumber(f.at)
	return at != nil && (at == s.step || at.Within(s.step))
}

// within are the rounds in which a flow stands, down to this loop.
func (s *loop) within(f *flow) item.Rounds { return f.rounds.Out(s.step.Depth + 1) }

// resume goes on with the rounds that an earlier pass left open, in their order.
func (s *loop) resume(ctx context.Context) error {
	rounds := slices.Sorted(maps.Keys(s.resumed))
	resumed := s.resumed
	s.resumed = nil
	for _, in := range rounds {
		if err := s.resumeRound(ctx, in, resumed[in]); err != nil {
			return err
		}
	}
	return nil
}

// resumeRound goes on with one of them, and with those that follow it for the
// same item.
func (s *loop) resumeRound(ctx context.Context, in item.Rounds, flows []*flow) error {
	rounds := in.List()
	n, repeats := int(rounds[len(rounds)-1].N)+1, false
	for _, f := range flows {
		if t := f.turn(s.step.Number, s.rounds); t != nil && s.holder == nil {
			n, repeats = t.n, true
			break
		}
	}
	if s.only() != nil && s.holder != nil && !s.wanted.rounds[roundAt{s.step.Number, in}] {
		return errWide // whether it is over depends on items that are not looked at
	}
	d, err := s.round(ctx, flows, &in, n, repeats && n >= s.op.Most())
	if err != nil {
		return err
	}
	// Those that only waited for the others, at the end of the round, were let by
	// by its steps and came first.
	slices.SortStableFunc(d.out, func(a, b *flow) int { return cmp.Compare(a.key(), b.key()) })
	for _, f := range d.out {
		if f.state == moving && f.entering && f.at == s.step.Number {
			f.entering = false
		}
	}
	if !repeats {
		return s.once(ctx, d, len(flows))
	}
	again, err := s.ended(ctx, d, n)
	if err != nil || len(again) == 0 {
		return err
	}
	return s.repeat(ctx, again)
}

// turn finds how often a flow went round in a loop.
func (f *flow) turn(loop uint16, rounds item.Rounds) *turn {
	for t := f.turns; t != nil; t = t.up {
		if t.loop == loop && t.rounds == rounds {
			return t
		}
	}
	return nil
}
