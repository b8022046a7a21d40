package engine

import (
	"context"
	"encoding/binary"
	"fmt"
	"strconv"

	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/steps"
	"youngtrellis/internal/core/words"
)

// loop does its steps in rounds: for one item or group after the other, or again
// and again for the same. Each round runs to its end, with all that its steps
// hold, before the next begins. Once something of a round is open, no further
// one begins.
type loop struct {
	base
	*grouping
	op   steps.Loop
	pile *pile
	next uint32 // number of the next round of this pass
	torn bool   // something of a round is open
	over bool   // something above the loop is open: no further group is whole

	resumed map[item.Rounds][]*flow // those of rounds that an earlier pass left open
	begun   begun

	// Where only some items are looked at:
	roundsOf map[item.Address]roundOf // with which each begins
	complete bool                     // the others begin none
	looked   map[roundOf][]*flow
}

func (s *loop) take(ctx context.Context, chunk []*flow) error {
	if s.pile == nil {
		s.pile = newPile(s.execution)
	}
	if s.only() != nil {
		return s.look(ctx, chunk)
	}
	var out []*flow
	for _, f := range chunk {
		if s.stands(f) {
			s.resumes(f)
			continue
		}
		if !s.mine(f) {
			s.over = s.over || s.above(f)
			out = append(out, f)
			continue
		}
		if err := s.give(ctx, out); err != nil {
			return err
		}
		out = nil
		if err := s.resume(ctx); err != nil {
			return err
		}
		s.arrives(f)
		if err := s.begin(ctx, f); err != nil {
			return err
		}
	}
	if err := s.give(ctx, out); err != nil {
		return err
	}
	return s.resume(ctx) // all of a round have come together
}

// begin takes an item in.
func (s *loop) begin(ctx context.Context, f *flow) error {
	s.counts.at(s.step.Number, func(c *StepCounts) { c.In++ })
	if s.holder == nil {
		f.turns = &turn{up: f.turns, loop: s.step.Number, rounds: s.rounds}
		f.stood = &stood{f.stood, behindOf(f)}
		return s.repeat(ctx, []*flow{f})
	}
	m, err := s.holder.Take(s.scope(f.it))
	if err != nil {
		s.fail(f, err)
		return s.give(ctx, []*flow{f})
	}
	if err := s.decide(ctx); err != nil { // before anything of the round is done
		return err
	}
	at, err := s.pile.add(f)
	if err != nil {
		return err
	}
	full, err := s.put(at, m, nil)
	if err != nil {
		return err
	}
	for _, g := range full {
		if err := s.group(ctx, g, true); err != nil {
			return err
		}
	}
	if len(s.open) == 0 {
		s.pile.clear()
	}
	return nil
}

// group does a round with the items of a group, which is full or the rest.
func (s *loop) group(ctx context.Context, g *group, full bool) error {
	flows := make([]*flow, 0, len(g.places))
	end := &seal{}
	for _, at := range g.places {
		f, err := s.pile.release(at)
		if err != nil {
			return err
		}
		flows = append(flows, f)
		end.add(f.it)
	}
	open := s.torn || (s.over || s.room.torn.is()) && (len(flows) > 1 || !full)
	if !open && len(flows) > 1 {
		in := s.rounds.Add(item.Round{Edition: uint32(s.room.pass.Number), N: s.next})
		k := Key{Pass: s.room.pass.Number, Step: s.step.Number, Rounds: in, Part: PartSeal}
		var stands *Entry
		err := s.held(ctx, "the journal cannot be read", func(ctx context.Context) (err error) {
			stands, err = s.Journal.Page(ctx, k)
			return err
		})
		if err != nil {
			return err
		}
		done, err := s.sealed(ctx, k, stands, end)
		if err != nil {
			return err
		}
		open = !done
	}
	if open {
		for _, f := range flows {
			s.leave(f)
		}
		return s.chunks(ctx, flows, s.down)
	}
	if err := s.begins(ctx, flows); err != nil {
		return err
	}
	return s.together(ctx, flows, len(flows), full)
}

// together does the next round with these items, of so many.
func (s *loop) together(ctx context.Context, flows []*flow, of int, full bool) error {
	for _, f := range flows {
		f.place = flows[len(flows)-1].place // they rejoin where the group was closed, whatever the chunks were
	}
	key := behindOf(flows[len(flows)-1]) // by which it was closed
	if !full {
		key = ending(s.step) + string(binary.BigEndian.AppendUint32(nil, s.next))
	}
	for _, f := range flows {
		f.stood = &stood{f.stood, key}
	}
	d, err := s.round(ctx, flows, nil, int(s.next)+1, false)
	if err != nil {
		return err
	}
	return s.once(ctx, d, of)
}

// once ends the only round of some items.
func (s *loop) once(ctx context.Context, d done, n int) error {
	if d.torn {
		s.wait(d)
	} else {
		s.outOf(d.out, words.Count(n, "item"))
	}
	return s.chunks(ctx, d.out, s.down)
}

// wait lets what is through wait for the others at the end of the round.
func (s *loop) wait(d done) {
	for _, f := range d.out {
		if f.state == moving && !f.entering {
			f.become(left, s.step.Number, d.in)
		}
	}
}

// outOf shows at the loop's own step what went through it. It stands where the
// round was closed.
func (s *loop) outOf(out []*flow, text string) {
	n := 0
	for i, f := range out {
		if f.state == moving {
			f.stands(f.stood.key, uint64(i))
			f.stood = f.stood.up
			s.pass(f, Passed, text, f.it.Fields)
			n++
		}
	}
	s.counts.at(s.step.Number, func(c *StepCounts) { c.Out += n })
}

// done is what came of a round.
type done struct {
	in   item.Rounds
	out  []*flow
	torn bool // something of it is open
}

// round does the steps of the body once: a new round, or again that of an
// earlier pass.
func (s *loop) round(ctx context.Context, flows []*flow, again *item.Rounds, number int, last bool) (done, error) {
	d := done{in: s.rounds.Add(item.Round{Edition: uint32(s.room.pass.Number), N: s.next})}
	if again != nil {
		d.in = *again
	} else {
		s.next++
		for i, f := range flows { // where they came from stands with the round
			f.stands("", uint64(i))
		}
	}
	inner := *s.room
	inner.nested, inner.rounds, inner.entry, inner.torn, inner.round = true, d.in, flows[0].it, nil, &round{number: number, last: last}
	inner.path = s.pathOf(d.in, number)
	if again == nil {
		s.counts.at(s.step.Number, func(c *StepCounts) { c.Rounds++ })
	}
	inner.all = s.all || s.wanted != nil && s.wanted.rounds[roundAt{s.step.Number, d.in}]
	inner.place, inner.turns, inner.stood = flows[0].place, flows[0].turns, flows[0].stood
	end := &collected{}
	body := inner.chain(s.step.Blocks[0], end)
	if err := s.chunks(ctx, flows, body); err != nil {
		return d, err
	}
	if err := body.end(ctx); err != nil {
		return d, err
	}
	d.out = end.flows
	for _, f := range d.out {
		d.torn = d.torn || f.state.blocks() && s.stands(f)
	}
	s.torn = s.torn || d.torn
	return d, nil
}

// pathOf numbers a round for people.
func (s *loop) pathOf(in item.Rounds, number int) string {
	name := strconv.Itoa(number)
	if list := in.List(); s.holder != nil && list[len(list)-1].Edition > 1 {
		name = fmt.Sprintf("%d:%d", list[len(list)-1].Edition, number)
	}
	if s.path != "" {
		return s.path + "/" + name
	}
	return name
}

// collected is the end of a round.
type collected struct{ flows []*flow }

func (c *collected) take(_ context.Context, chunk []*flow) error {
	c.flows = append(c.flows, chunk...)
	return nil
}

func (c *collected) end(context.Context) error { return nil }

// repeat does rounds for what came of one item, until none is needed any more.
func (s *loop) repeat(ctx context.Context, flows []*flow) error {
	if s.only() != nil {
		at, ok, err := s.roundOf(ctx, flows[0].it.Address)
		if err != nil {
			return err
		}
		s.next, s.torn = at.n, !ok
	}
	if !s.torn {
		if err := s.begins(ctx, flows); err != nil {
			return err
		}
	}
	for {
		if s.torn { // only before the first
			for _, f := range flows {
				f.turns, f.stood = f.turns.up, f.stood.up
				s.leave(f)
			}
			return s.chunks(ctx, flows, s.down)
		}
		turns := *flows[0].turns
		turns.n++
		for _, f := range flows {
			f.turns = &turns
		}
		d, err := s.round(ctx, flows, nil, turns.n, turns.n >= s.op.Most())
		if err != nil {
			return err
		}
		if flows, err = s.ended(ctx, d, turns.n); err != nil || len(flows) == 0 {
			return err
		}
	}
}

// ended asks at the end of a round whether there is another, and for what. What
// needs none goes on.
func (s *loop) ended(ctx context.Context, d done, n int) ([]*flow, error) {
	var past, on []*flow
	for _, f := range d.out {
		if f.state == moving && !f.entering {
			on = append(on, f)
		} else {
			past = append(past, f)
		}
	}
	if d.torn {
		s.wait(d)
		return nil, s.chunks(ctx, d.out, s.down)
	}
	if len(on) == 0 {
		return nil, s.chunks(ctx, past, s.down)
	}
	inner := *s.room
	inner.rounds, inner.round = d.in, &round{number: n, last: n >= s.op.Most()}
	asks := base{room: &inner, execution: s.execution, plan: s.plan, step: s.step, decisions: &decisions{}}
	asks.decisions.begin(ctx, on[:1])
	met, err := s.op.Until(asks.scope(on[0].it))
	if err := asks.decide(ctx); err != nil {
		return nil, err
	}
	switch {
	case err != nil:
		for _, f := range on {
			s.fail(f, err)
		}
		return nil, s.chunks(ctx, d.out, s.down)
	case !met && n < s.op.Most():
		return on, s.chunks(ctx, past, s.down)
	}
	for _, f := range on {
		f.turns = f.turns.up
	}
	s.outOf(on, words.Count(n, "round"))
	return nil, s.chunks(ctx, d.out, s.down)
}

func (s *loop) end(ctx context.Context) error {
	if s.only() != nil {
		return s.endLook(ctx)
	}
	if s.holder != nil {
		for _, g := range s.rest() {
			if err := s.group(ctx, g, false); err != nil {
				return err
			}
		}
	}
	if err := s.endRounds(ctx); err != nil {
		return err
	}
	return s.down.end(ctx)
}
