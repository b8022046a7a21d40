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
		in, ok := s.groupOf[f.it.Address]
		if !s.mine(f) {
			out = append(out, f)
			continue
		}
		if !ok { // it joined some group, or else it takes all items to know
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
		in.group.key = m.Key
		in.group.places[in.at], in.group.values[in.at] = at, m.Value
	}
	return s.give(ctx, out)
}

// member is the place of an item in its group.
type member struct {
	group *group
	at    int
}

// joins is nil if an item is certain to have joined the list: the journal names
// it among the members, or the list is closed and all that came to it are.
func (s *hold) joins(ctx context.Context, a item.Address) error {
	if s.joined == nil {
		if err := s.readMembers(ctx); err != nil {
			return err
		}
	}
	if !s.closedWhole && !s.joined[a] {
		return errWide
	}
	return nil
}

// readMembers reads who joined the list.
func (s *hold) readMembers(ctx context.Context) error {
	s.joined = map[item.Address]bool{}
	known, err := s.standing(ctx, PartSeal, "")
	if err != nil {
		return err
	}
	end := known[""]
	if s.holder.Streams() {
		late := s.room.pass.Number > 1 && s.lateOf(s.step) == workflow.LateLeave
		if s.closedWhole = end != nil && !late; s.closedWhole {
			return nil
		}
		return s.readGroups(ctx)
	}
	if end == nil {
		return nil
	}
	return s.join(end)
}

// join notes the members that an entry names.
func (s *hold) join(e *Entry) error {
	end, err := readSeal(e.Result)
	if err != nil {
		return err
	}
	for _, m := range end.members {
		s.joined[m] = true
	}
	return nil
}

// readGroups reads who joined the groups that are closed, one after the other.
func (s *hold) readGroups(ctx context.Context) error {
	n := uint32(0)
	for many := 16; ; many = min(2*many, mostItems) {
		addresses := make([]item.Address, many)
		for i := range addresses {
			addresses[i] = item.Group(s.step.Number, s.rounds, uint32(s.room.pass.Number), n)
			n++
		}
		known, err := s.standing(ctx, PartSeal, addresses...)
		if err != nil {
			return err
		}
		for _, e := range known {
			if err := s.join(e); err != nil {
				return err
			}
		}
		if len(known) < len(addresses) {
			return nil
		}
	}
}

// find makes the groups that are looked for, without their members.
func (s *hold) find() error {
	if s.groupOf != nil {
		return nil
	}
	s.groupOf = map[item.Address]member{}
	for _, a := range slices.Sorted(maps.Keys(s.only().groups)) {
		at, members := a.Segments()[0], s.only().groups[a]
		if at.Step != s.step.Number || at.Rounds != s.rounds || at.Edition != uint32(s.room.pass.Number) {
			continue
		}
		g := &group{name: string(a), places: slices.Repeat([]int{-1}, len(members)), values: make([]any, len(members))}
		s.open = append(s.open, g)
		for i, m := range members {
			s.groupOf[m] = member{g, i}
		}
	}
	if len(s.open) > 0 && s.room.pass.Number > 1 && s.lateOf(s.step) == workflow.LateAgain {
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
		if slices.Contains(g.places, -1) {
			return errWide // a member came some other way
		}
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
