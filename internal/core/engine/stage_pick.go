package engine

import (
	"context"
	"fmt"

	"youngtrellis/internal/core/steps"
	"youngtrellis/internal/core/workflow"
)

// pick takes the whole list in and lets some of its items go on, each as it came,
// in an order of its own. While something above is open, nothing goes on: what is
// held then is the frontier.
type pick struct {
	base
	op     steps.Picker
	pile   *pile
	places []int // in the pile, of the members
	kept   []steps.Candidate
	torn   bool

	lookup sieve // where only some items are looked at
}

func (s *pick) take(ctx context.Context, chunk []*flow) error {
	var out []*flow
	for _, f := range chunk {
		if !s.mine(f) {
			s.torn = s.torn || s.above(f)
			out = append(out, f)
			continue
		}
		s.arrives(f)
		if err := s.hold(f, &out); err != nil {
			return err
		}
	}
	return s.give(ctx, out)
}

// hold puts a flow among those of which some go on.
func (s *pick) hold(f *flow, out *[]*flow) error {
	m, err := s.op.Take(s.scope(f.it))
	if err != nil {
		s.fail(f, err)
		*out = append(*out, f)
		return nil
	}
	at, err := s.pile.add(f)
	if err != nil {
		return err
	}
	seed := fmt.Sprintf("%s/%d%s/%s", s.Facts.ID, s.step.Number, s.rounds, f.it.Address)
	s.places, s.kept = append(s.places, at), append(s.kept, steps.Candidate{Value: m.Value, Seed: seed})
	return nil
}

func (s *pick) end(ctx context.Context) error {
	if s.only() != nil {
		return s.endLook(ctx)
	}
	s.torn = s.torn || s.room.torn.is()
	late := !s.torn && s.closed.before(s.step.Number, s.rounds, s.room.pass.Number)
	order, failed := s.op.Pick(s.kept)
	for _, err := range failed {
		s.torn = s.torn || s.step.OnError != workflow.OnErrorSetAside && err != nil
	}
	if !s.torn && !(late && s.lateOf(s.step) == workflow.LateLeave) {
		if err := s.seal(ctx, order, failed); err != nil {
			return err
		}
	}
	if err := s.letGo(ctx, order, failed, late); err != nil {
		return err
	}
	if !s.torn {
		s.closed.add(s.step.Number, s.rounds, s.room.pass.Number)
	}
	return s.down.end(ctx)
}

// seal makes the list durable, with who goes on.
func (s *pick) seal(ctx context.Context, order []int, failed map[int]error) error {
	goes := make([]bool, len(s.places))
	for _, i := range order {
		goes[i] = true
	}
	fate := &sifted{}
	for i, at := range s.places {
		if failed[i] != nil {
			continue
		}
		f, err := s.pile.get(at)
		if err != nil {
			return err
		}
		fate.add(f.it, goes[i])
	}
	for _, i := range order {
		fate.hash = fate.hash*31 + uint64(i)
	}
	known, err := s.standing(ctx, PartSeal, "")
	if err != nil {
		return err
	}
	done, err := s.sealed(ctx, s.key("", PartSeal), known[""], fate.seal(false))
	s.torn = !done
	return err
}

// letGo gives what became of every member: those that go on in their order, then
// the others as they came.
func (s *pick) letGo(ctx context.Context, order []int, failed map[int]error, late bool) error {
	var out []*flow
	give := func(i int, become func(*flow)) error {
		f, err := s.pile.release(s.places[i])
		if err != nil {
			return err
		}
		s.places[i] = -1
		become(f)
		if out = append(out, f); len(out) < mostItems {
			return nil
		}
		err = s.chunks(ctx, out, s.down)
		out = nil
		return err
	}
	leaves := late && s.lateOf(s.step) == workflow.LateLeave
	if !s.torn && !leaves {
		for n, i := range order {
			if err := give(i, func(f *flow) { s.goesOn(f, n) }); err != nil {
				return err
			}
		}
	}
	for i, at := range s.places {
		if at < 0 {
			continue
		}
		if err := give(i, func(f *flow) { s.stays(f, failed[i], leaves) }); err != nil {
			return err
		}
	}
	s.pile.clear()
	s.places, s.kept = nil, nil
	return s.chunks(ctx, out, s.down)
}

// goesOn lets a flow go on as the n-th.
func (s *pick) goesOn(f *flow, n int) {
	s.counts.at(s.step.Number, func(c *StepCounts) { c.In++; c.Out++ })
	s.pass(f, Passed, s.op.Took(), f.it.Fields)
	f.last(s.step, uint64(n))
}

// stays is what becomes of one that does not go on.
func (s *pick) stays(f *flow, why error, late bool) {
	switch {
	case why != nil:
		s.fail(f, why)
	case s.torn:
		s.leave(f)
	case late:
		s.heldBack(f, "the list was closed before")
	default:
		s.heldBack(f, s.op.Held())
	}
}

func (b *base) heldBack(f *flow, text string) {
	f.become(ended, b.step.Number, b.rounds)
	b.show(f, Held, text)
	b.counts.at(b.step.Number, func(c *StepCounts) { c.In++; c.Held++ })
}

// endLook lets those go on of which the journal says so, in their order: that of
// two members hangs on no other.
func (s *pick) endLook(ctx context.Context) error {
	s.lookup.base = s.base
	var on, out []*flow
	var kept []steps.Candidate
	for i, at := range s.places {
		f, err := s.pile.release(at)
		if err != nil {
			return err
		}
		goesOn, known, err := s.lookup.known(ctx, f.it.Address)
		switch {
		case err != nil:
			return err
		case !known:
			return errWide
		case goesOn:
			on, kept = append(on, f), append(kept, s.kept[i])
		default:
			s.stays(f, nil, false)
			out = append(out, f)
		}
	}
	order, _ := s.op.Pick(kept)
	chosen := make([]*flow, 0, len(order)+len(out))
	for n, i := range order {
		s.goesOn(on[i], n)
		chosen = append(chosen, on[i])
	}
	if err := s.chunks(ctx, append(chosen, out...), s.down); err != nil {
		return err
	}
	return s.down.end(ctx)
}
