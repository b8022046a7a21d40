package engine

import (
	"context"
	"maps"
	"slices"

	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/workflow"
)

// look puts together only the groups that are looked for: the journal says which
// items they had.
func (s *hold) look(ctx context.Context, chunk []*flow) error {
	if err := s.find(); err != nil {
		return err
	}
	var out []*flow
	for _, f := range chunk {
		g := s.groupOf[f.it.Address]
		if !s.mine(f) {
			out = append(out, f)
			continue
		}
		if g == nil { // it joined some group, or else it takes all items to know
			if err := s.joins(ctx, f.it.Address); err != nil {
				return err
			}
			f.become(joined, s.step.Number, s.rounds)
			s.show(f, Joined, "")
			out = append(out, f)
			continue
		}
		m, err := s.holder.Take(s.scope(f.it))
		if err != nil {
			return err
		}
		at, err := s.pile.add(f)
		if err != nil {
			return err
		}
		g.key = m.Key
		g.places, g.values = append(g.places, at), append(g.values, m.Value)
	}
	return s.give(ctx, out)
}

// joins is nil if an item is certain to have joined the list: it is closed, and
// the item was neither late nor in a group of which nothing could be made.
func (s *hold) joins(ctx context.Context, a item.Address) error {
	if s.joined == nil {
		known, err := s.standing(ctx, PartSeal, "")
		if err != nil {
			return err
		}
		if known[""] == nil || s.holder.Streams() && s.room.pass.Number > 1 && lateOf(s.step) == workflow.LateLeave {
			return errWide
		}
		end, err := readSeal(known[""].Result)
		if err != nil {
			return err
		}
		s.joined = map[item.Address]bool{}
		for _, m := range end.members {
			s.joined[m] = true
		}
	}
	if !s.holder.Streams() && !s.joined[a] {
		return errWide
	}
	return nil
}

// find makes the groups that are looked for, without their members.
func (s *hold) find() error {
	if s.groupOf != nil {
		return nil
	}
	s.groupOf = map[item.Address]*group{}
	for _, a := range slices.Sorted(maps.Keys(s.wanted.groups)) {
		at, members := a.Segments()[0], s.wanted.groups[a]
		if at.Step != s.step.Number || at.Rounds != s.rounds || at.Edition != uint32(s.room.pass.Number) {
			continue
		}
		g := &group{name: string(a)}
		s.open = append(s.open, g)
		for _, m := range members {
			s.groupOf[m] = g
		}
	}
	if len(s.open) > 0 && s.room.pass.Number > 1 && lateOf(s.step) == workflow.LateAgain {
		return errWide // items that joined it before are among its members
	}
	return nil
}

// endLook gives the groups that were looked for.
func (s *hold) endLook(ctx context.Context) error {
	if err := s.find(); err != nil {
		return err
	}
	for _, g := range s.grouping.rest() {
		made, err := s.holder.Make(g.key, g.members(s.pile, s.holder, s.scope))
		if err != nil {
			return err
		}
		g.made = &made
		end, into, err := s.members(g)
		if err != nil {
			return err
		}
		into.it.Address = item.Address(g.name)
		out, err := s.goesOn(g, into, end)
		if err != nil {
			return err
		}
		if err := s.give(ctx, out); err != nil {
			return err
		}
	}
	return s.down.end(ctx)
}
