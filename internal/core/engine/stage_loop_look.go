package engine

import (
	"cmp"
	"context"
	"maps"
	"slices"
)

// look does only the rounds of items that are looked at: the journal says which
// these are.
func (s *loop) look(ctx context.Context, chunk []*flow) error {
	var out []*flow
	for _, f := range chunk {
		switch {
		case s.stands(f):
			s.resumes(f)
			continue
		case !s.mine(f):
			out = append(out, f)
			continue
		}
		at, ok, err := s.roundOf(ctx, f.it.Address)
		if err != nil {
			return err
		}
		if !ok {
			s.leave(f)
			out = append(out, f)
			continue
		}
		if s.looked == nil {
			s.looked = map[roundOf][]*flow{}
		}
		s.looked[at] = append(s.looked[at], f)
	}
	if err := s.give(ctx, out); err != nil {
		return err
	}
	return s.resume(ctx)
}

// endLook does these rounds.
func (s *loop) endLook(ctx context.Context) error {
	byNumber := func(a, b roundOf) int { return cmp.Compare(a.n, b.n) }
	for _, at := range slices.SortedFunc(maps.Keys(s.looked), byNumber) {
		flows := s.looked[at]
		if s.holder == nil {
			for _, f := range flows {
				if err := s.begin(ctx, f); err != nil {
					return err
				}
			}
			continue
		}
		s.next = at.n
		if err := s.together(ctx, flows, at.of, true); err != nil {
			return err
		}
	}
	return s.down.end(ctx)
}
