package engine

import (
	"context"
	"slices"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/workflow"
)

// hold takes items in and makes one of each group. A group that has a size goes
// on as soon as it is full, the others when the list has ended. Once something
// above is open, no group is closed any more: what is held then is the frontier.
type hold struct {
	base
	*grouping
	pile   *pile
	known  map[item.Address]*Entry // ends of groups that the journal has
	next   uint32                  // ordinal of the next group
	taken  int                     // items that came to the list
	torn   bool                    // something above is open
	failed int                     // groups of which no item could be made

	// Where only some items are looked at:
	groupOf     map[item.Address]member
	joined      map[item.Address]bool // who is known to have joined
	closedWhole bool                  // all have that came to the list
}

func (s *hold) take(ctx context.Context, chunk []*flow) error {
	if s.pile == nil {
		s.pile = newPile(s.execution)
	}
	if s.only() != nil {
		return s.look(ctx, chunk)
	}
	var out []*flow
	for _, f := range chunk {
		if !s.mine(f) {
			s.torn = s.torn || s.above(f)
			out = append(out, f)
			if s.again(f) { // a copy, which is not seen again
				same := *f
				if err := s.put(ctx, &same, &out); err != nil {
					return err
				}
			}
			continue
		}
		s.arrives(f)
		if err := s.put(ctx, f, &out); err != nil {
			return err
		}
	}
	return s.give(ctx, out)
}

// put holds a flow; groups that it fills go on.
func (s *hold) put(ctx context.Context, f *flow, out *[]*flow) error {
	m, err := s.holder.Take(s.scope(f.it))
	if err != nil {
		s.fail(f, err)
		*out = append(*out, f)
		return nil
	}
	s.taken++
	at, err := s.pile.add(f)
	if err != nil {
		return err
	}
	value := m.Value
	if s.pile.flows[at] == nil {
		value = spilled{}
	}
	full, err := s.grouping.put(at, m, value)
	if err != nil {
		return err
	}
	for _, g := range full {
		made, err := s.group(ctx, g)
		if err != nil {
			return err
		}
		*out = append(*out, made...)
	}
	if len(s.open) == 0 {
		s.pile.clear()
	}
	return nil
}

// above tells whether a flow is open at a step above, or here: the list is not
// whole without it.
func (b *base) above(f *flow) bool {
	if !f.state.blocks() {
		return false
	}
	at := b.plan.ByNumber(f.at)
	return at != nil && at.Column <= b.step.Column
}

// end closes what is open, unless something above is.
func (s *hold) end(ctx context.Context) error {
	if s.pile == nil {
		s.pile = newPile(s.execution)
	}
	if s.only() != nil {
		return s.endLook(ctx)
	}
	late := s.late()
	if s.torn = s.torn || s.room.torn.is(); !s.torn && late == workflow.LateLeave {
		if err := s.leaveOut(ctx); err != nil {
			return err
		}
	}
	if err := s.rest(ctx, late); err != nil {
		return err
	}
	if !s.torn && s.holder.Streams() && s.rounds == "" && s.failed == 0 {
		if err := s.ended(ctx); err != nil {
			return err
		}
	}
	if !s.torn {
		s.closed.add(s.step.Number, s.rounds, s.room.pass.Number)
	}
	return s.down.end(ctx)
}

// ended makes it durable that a list of groups has ended, so that whoever looks
// at one of its items later knows that it joined one.
func (s *hold) ended(ctx context.Context) error {
	known, err := s.standing(ctx, PartSeal, "")
	if err != nil {
		return err
	}
	_, err = s.sealed(ctx, s.key("", PartSeal), known[""], &seal{hash: uint64(s.next)})
	return err
}

// rest closes the groups that are open, in the order in which they were begun.
func (s *hold) rest(ctx context.Context, late string) error {
	rest := s.grouping.rest()
	if s.taken == 0 && !s.torn && late == "" {
		rest = s.ofNothing(rest)
	}
	if !s.holder.Streams() && !s.torn {
		var err error
		if rest, err = s.whole(ctx, rest); err != nil {
			return err
		}
	}
	for _, g := range rest {
		made, err := s.group(ctx, g)
		if err != nil {
			return err
		}
		if err := s.chunks(ctx, made, s.down); err != nil {
			return err
		}
	}
	s.pile.clear()
	return nil
}

// ofNothing is what a list without items gives: what when_none says, or else what
// the step gives by itself.
func (s *hold) ofNothing(rest []*group) []*group {
	switch s.step.WhenNone {
	case workflow.WhenNoneFail:
		s.torn = true
		s.noneCame()
	case workflow.WhenNoneEnd:
		return nil
	case "":
		if s.holder.OfNothing() {
			return []*group{{}}
		}
	}
	return rest
}

// none fails the run as no item came to a list.
func (b *base) noneCame() {
	if b.room.live && !b.Sampled {
		b.fails(nil, &call.Failure{Class: call.Refused, Message: "No item came here, and the step is told to fail then."})
	}
}

// whole makes the items of all groups of a list and closes it. Groups of which
// none can be made are given up; the others are those that go on.
func (s *hold) whole(ctx context.Context, groups []*group) ([]*group, error) {
	var good []*group
	for _, g := range groups {
		made, err := s.holder.Make(g.key, g.members(s.pile, s.holder, s.scope))
		if err == nil {
			g.made = &made
			good = append(good, g)
			continue
		}
		failed, err := s.split(g, func(f *flow) { s.fail(f, err) })
		if err != nil {
			return nil, err
		}
		s.torn = s.torn || s.step.OnError != workflow.OnErrorSetAside
		if err := s.give(ctx, failed); err != nil {
			return nil, err
		}
	}
	if s.torn {
		return good, nil
	}
	end := &seal{}
	for _, g := range good {
		for _, at := range g.places {
			f, err := s.pile.get(at)
			if err != nil {
				return nil, err
			}
			end.add(f.it)
		}
		end.ends = append(end.ends, len(end.members))
	}
	known, err := s.standing(ctx, PartSeal, "")
	if err != nil {
		return nil, err
	}
	done, err := s.sealed(ctx, s.key("", PartSeal), known[""], end)
	s.torn = !done
	return good, err
}

// group makes the item of a group: its members have joined it, and it goes on.
// Where it cannot be closed yet, its members are left.
func (s *hold) group(ctx context.Context, g *group) ([]*flow, error) {
	if s.torn = s.torn || s.room.torn.is(); s.torn {
		return s.split(g, func(f *flow) { s.leave(f) })
	}
	if g.made == nil {
		made, err := s.holder.Make(g.key, g.members(s.pile, s.holder, s.scope))
		if err != nil {
			s.failed++
			return s.split(g, func(f *flow) { s.fail(f, err) })
		}
		g.made = &made
	}
	end, into, err := s.members(g)
	if err != nil {
		return nil, err
	}
	into.it.Address = item.Group(s.step.Number, s.rounds, uint32(s.room.pass.Number), s.next)
	if s.holder.Streams() {
		stands, err := s.ahead(ctx, into.it.Address)
		if err != nil {
			return nil, err
		}
		done, err := s.sealed(ctx, s.key(into.it.Address, PartSeal), stands, end)
		if err != nil {
			return nil, err
		}
		if !done {
			s.torn = true
			return s.split(g, func(f *flow) { s.leave(f) })
		}
	}
	s.next++
	if g.full {
		last, err := s.pile.get(g.places[len(g.places)-1])
		if err != nil {
			return nil, err
		}
		into.stands(behindOf(last), uint64(s.next))
	} else {
		into.stands(ending(s.step), uint64(s.next))
	}
	return s.goesOn(g, into, end)
}

// goesOn gives the members of a group, which have joined it, and its item.
func (s *hold) goesOn(g *group, into *flow, end *seal) ([]*flow, error) {
	out, err := s.split(g, func(f *flow) {
		f.become(joined, s.step.Number, s.rounds)
		f.into = into.it.Address
		f.place = into.place // they rejoin where the group was closed, whatever the chunks were
		s.show(f, Joined, g.made.Text)
	})
	into.it.Fields, into.it.Step, into.it.Rounds, into.it.Members = g.made.Fields, s.step.Number, s.rounds, end.members
	s.remember(into.it)
	s.show(into, Passed, g.made.Text)
	s.counts.at(s.step.Number, func(c *StepCounts) { c.In += len(g.places); c.Out++ })
	return append(out, into), err
}

// members gives the end of a group, and the flow that goes on of it, with all
// that it takes along of its members but its item.
func (s *hold) members(g *group) (*seal, *flow, error) {
	end := &seal{}
	into := &flow{it: &item.Item{At: s.Facts.Started}, rounds: s.rounds, place: s.room.place, turns: s.room.turns, stood: s.room.stood}
	if entry := s.room.entry; entry != nil { // what a group of nothing comes from
		into.it.At, into.it.Trigger = entry.At, entry.First()
	}
	for i, at := range g.places {
		f, err := s.pile.get(at)
		if err != nil {
			return nil, nil, err
		}
		end.add(f.it)
		into.it.Trigger = origin(f.it, into.it.Trigger, i == 0)
		if f.it.At.After(into.it.At) {
			into.it.At = f.it.At
		}
		for _, n := range f.written() {
			if !slices.Contains(into.wrote, n) {
				into.wrote = append(into.wrote, n)
			}
		}
		into.bytes += f.bytes
		into.place, into.turns, into.stood = f.place, f.turns, f.stood
	}
	return end, into, nil
}

// origin is the trigger item of the members so far, where they have the same.
func origin(member, soFar *item.Item, first bool) *item.Item {
	from := member.First()
	if from.Step != 0 {
		from = from.Trigger
	}
	if from == nil || !first && (soFar == nil || soFar.Address != from.Address) {
		return nil
	}
	return from
}

// split takes the members of a group from the pile.
func (s *hold) split(g *group, each func(*flow)) ([]*flow, error) {
	out := make([]*flow, 0, len(g.places)+1)
	for _, at := range g.places {
		f, err := s.pile.release(at)
		if err != nil {
			return nil, err
		}
		if f.state == joined { // in an earlier edition; it was given already
			continue
		}
		each(f)
		out = append(out, f)
	}
	return out, nil
}

// ahead finds the end of a group in the journal, and those of the groups after
// it.
func (s *hold) ahead(ctx context.Context, a item.Address) (*Entry, error) {
	if s.next%mostItems == 0 && (s.next == 0 || s.known != nil || !s.room.live) {
		addresses := make([]item.Address, mostItems)
		for i := range addresses {
			addresses[i] = item.Group(s.step.Number, s.rounds, uint32(s.room.pass.Number), s.next+uint32(i))
		}
		known, err := s.standing(ctx, PartSeal, addresses...)
		if err != nil {
			return nil, err
		}
		if s.known = known; len(known) == 0 {
			s.known = nil
		}
	}
	return s.known[a], nil
}
