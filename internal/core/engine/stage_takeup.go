package engine

import (
	"cmp"
	"context"
	"slices"
)

// takeUp hands the open items of one pass to the next: when all that the earlier
// pass did is known, and in the order in which they would have gone on. What is
// not taken up goes through at once.
type takeUp struct {
	x    *execution
	pass Pass
	down stage
	pile *pile
	open []standing
}

// standing is an open item in the pile.
type standing struct {
	place  int
	key    string
	rounds []inRound // in which it stands, from the outermost in
}

// arrange puts open items into the order in which they would have gone on. Those
// of a round stay together, where the first of them stands: a round is done once.
func arrange(list []standing, depth int) []standing {
	var blocks [][]standing
	index := map[inRound]int{}
	for _, s := range list {
		if len(s.rounds) <= depth {
			blocks = append(blocks, []standing{s})
			continue
		}
		at, ok := index[s.rounds[depth]]
		if !ok {
			at, index[s.rounds[depth]] = len(blocks), len(blocks)
			blocks = append(blocks, nil)
		}
		blocks[at] = append(blocks[at], s)
	}
	for _, at := range index {
		blocks[at] = arrange(blocks[at], depth+1)
	}
	slices.SortStableFunc(blocks, func(a, b []standing) int { return cmp.Compare(a[0].key, b[0].key) })
	return slices.Concat(blocks...)
}

// roundsOf are the rounds in which an open item stands, with their loops.
func (t *takeUp) roundsOf(f *flow) []inRound {
	at := t.pass.Plan.ByNumber(f.at)
	list := f.rounds.List()
	if at == nil || len(list) == 0 {
		return nil
	}
	var loops []uint16
	if at.Loops() && len(list) > at.Depth { // at the end of one of its rounds
		loops = append(loops, at.Number)
	}
	for of := range at.Around() {
		if of.Loops() {
			loops = append(loops, of.Number)
		}
	}
	out := make([]inRound, min(len(list), len(loops)))
	for i := range out {
		out[i] = inRound{loops[len(loops)-1-i], list[i]}
	}
	return out
}

func (t *takeUp) take(ctx context.Context, chunk []*flow) error {
	out := make([]*flow, 0, len(chunk))
	for _, f := range chunk {
		if t.takeUp(f); f.state != moving {
			out = append(out, f)
			continue
		}
		at, err := t.pile.add(f)
		if err != nil {
			return err
		}
		s := standing{place: at, key: f.key(), rounds: t.roundsOf(f)}
		if f.source != nil { // what comes of the list still comes behind what came of it
			s.key = f.order.place + string(f.it.Address.Child(f.at, f.rounds, f.source.ordinal)[f.order.cut:])
		}
		t.open = append(t.open, s)
	}
	if len(out) == 0 {
		return nil
	}
	return t.down.take(ctx, out)
}

// end gives the open items.
func (t *takeUp) end(ctx context.Context) error {
	var out []*flow
	for _, s := range arrange(t.open, 0) {
		f, err := t.pile.release(s.place)
		if err != nil {
			return err
		}
		if out = append(out, f); len(out) == mostItems {
			if err := t.x.chunks(ctx, out, t.down); err != nil {
				return err
			}
			out = nil
		}
	}
	if err := t.x.chunks(ctx, out, t.down); err != nil {
		return err
	}
	return t.down.end(ctx)
}

func (t *takeUp) takeUp(f *flow) {
	switch {
	case f.state == moving:
		f.become(through, 0, "")
		return
	case !f.state.open():
		return
	}
	at := target(t.pass, f.at)
	if at == 0 { // its step is gone; the plan said so
		f.become(ended, f.at, f.rounds)
		return
	}
	if !t.pass.takes(f) {
		f.at = at
		return
	}
	if f.state == doubtful { // a person has looked, and wants it sent again
		f.generation++
		f.former = nil
	}
	f.become(moving, at, f.rounds)
}

// takes tells whether the pass takes an open item up.
func (p *Pass) takes(f *flow) bool {
	switch {
	case p.Aside:
		return f.state == aside
	case p.Only == nil:
		return f.state != aside && f.state != doubtful
	}
	return p.Only(f.it.Address)
}

// target is the number of the step at which an item that stands at a step
// enters the pass; 0 if there is none.
func target(p Pass, at uint16) uint16 {
	for old, fresh := range p.At {
		s, to := p.From.Step(old), p.Plan.Step(fresh)
		if s != nil && to != nil && s.Number == at {
			return to.Number
		}
	}
	if p.Plan.ByNumber(at) == nil {
		return 0
	}
	return at
}
