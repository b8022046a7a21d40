package engine

import (
	"context"
)

// gate holds everything back from a step that reads the column of another, until
// that has ended: from then on the list is closed, and what it saw cannot change.
type gate struct {
	base
	pile *pile
	torn bool
}

func (s *gate) take(ctx context.Context, chunk []*flow) error {
	var out []*flow
	for _, f := range chunk {
		if !s.mine(f) {
			s.torn = s.torn || s.above(f)
			out = append(out, f)
			continue
		}
		if _, err := s.pile.add(f); err != nil {
			return err
		}
	}
	return s.give(ctx, out)
}

func (s *gate) end(ctx context.Context) error {
	s.torn = s.torn || s.room.torn.is()
	if !s.torn && s.only() == nil {
		end := &seal{}
		for i := range s.pile.len() {
			f, err := s.pile.get(i)
			if err != nil {
				return err
			}
			end.add(f.it)
		}
		for _, x := range s.step.Holds {
			for _, v := range s.columns.of(x.Number, s.rounds.Out(common(x, s.step))) {
				end.hash = end.hash*31 + hash(v)
			}
		}
		known, err := s.standing(ctx, PartGate, "")
		if err != nil {
			return err
		}
		done, err := s.sealed(ctx, s.key("", PartGate), known[""], end)
		if err != nil {
			return err
		}
		s.torn = !done
	}
	var out []*flow
	for i := range s.pile.len() {
		f, err := s.pile.release(i)
		if err != nil {
			return err
		}
		if s.torn {
			s.leave(f)
		} else {
			f.last(s.step, 0)
		}
		if out = append(out, f); len(out) == mostItems {
			if err := s.chunks(ctx, out, s.down); err != nil {
				return err
			}
			out = nil
		}
	}
	if err := s.chunks(ctx, out, s.down); err != nil {
		return err
	}
	return s.down.end(ctx)
}
