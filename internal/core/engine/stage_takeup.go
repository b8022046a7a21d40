package engine

import (
	"cmp"
	"context"
	"maps"
	"slices"

	"youngtrellis/internal/core/item"
)

// takeUp hands the open items of one pass to the next: when all that the earlier
// pass did is known, and in the order in which they would have gone on. What is
// not taken up goes through at once, but for what stands in a round.
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
	stood  []string  // where these stand
}

// block are open items that stay together: those of a round, which is done once.
type block struct {
	key  string
	list []standing
}

// arrange puts open items into the order in which they would have gone on. A
// round stands where it was closed.
func arrange(list []standing, depth int) []*block {
	var blocks []*block
	index := map[inRound]*block{}
	for _, s := range list {
		if len(s.rounds) <= depth {
			blocks = append(blocks, &block{s.key, []standing{s}})
			continue
		}
		b := index[s.rounds[depth]]
		if b == nil {
			b = &block{key: s.stood[depth]}
			index[s.rounds[depth]] = b
			blocks = append(blocks, b)
		}
		b.list = append(b.list, s)
	}
	for _, b := range index {
		inner := arrange(b.list, depth+1)
		b.list = b.list[:0]
		for _, x := range inner {
			b.list = append(b.list, x.list...)
		}
	}
	slices.SortStableFunc(blocks, func(a, b *block) int { return cmp.Compare(a.key, b.key) })
	return blocks
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

// placesOf are where the rounds stand in which an open item is.
func placesOf(f *flow) []string {
	var out []string
	for s := f.stood; s != nil; s = s.up {
		out = append(out, s.key)
	}
	slices.Reverse(out)
	return out
}

func (t *takeUp) take(ctx context.Context, chunk []*flow) error {
	out := make([]*flow, 0, len(chunk))
	for _, f := range chunk {
		t.takeUp(f)
	}
	if t.pass.Mended {
		if err := t.edit(ctx, chunk); err != nil {
			return err
		}
	}
	for _, f := range chunk {
		var rounds []inRound
		if f.state == moving || f.state.open() {
			rounds = t.roundsOf(f)
		}
		if f.state != moving && len(rounds) == 0 {
			out = append(out, f)
			continue
		}
		at, err := t.pile.add(f)
		if err != nil {
			return err
		}
		s := standing{place: at, key: f.key(), stood: placesOf(f)}
		s.rounds = rounds[:min(len(rounds), len(s.stood))]
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
	for _, b := range arrange(t.open, 0) {
		for _, s := range b.list {
			f, err := t.pile.release(s.place)
			if err != nil {
				return err
			}
			out = append(out, f)
		}
		if len(out) >= mostItems {
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
	if f.state == aside || f.state == doubtful {
		was := *f
		was.at = at
		f.untouched = &was
	}
	if f.state == doubtful { // a person has looked, and wants it sent again
		f.generation++
		f.former = nil
	}
	f.become(moving, at, f.rounds)
}

// edit puts the fields that a person has given in place of those of the items that
// were taken up.
func (t *takeUp) edit(ctx context.Context, chunk []*flow) error {
	type entrance struct {
		at     uint16
		rounds item.Rounds
	}
	taken := map[entrance]map[item.Address]*flow{}
	for _, f := range chunk {
		if f.state != moving || f.untouched == nil {
			continue
		}
		at := entrance{f.at, f.rounds}
		if taken[at] == nil {
			taken[at] = map[item.Address]*flow{}
		}
		taken[at][f.it.Address] = f
	}
	for at, flows := range taken {
		var entries []*Entry
		err := t.x.held(ctx, "the journal cannot be read", func(ctx context.Context) (err error) {
			entries, err = t.x.Journal.Entries(ctx, t.pass.Number, at.at, at.rounds, slices.Collect(maps.Keys(flows)))
			return err
		})
		if err != nil {
			return err
		}
		for _, e := range entries {
			if e.Part != PartEdit {
				continue
			}
			edit, err := ReadEdit(e)
			if err != nil {
				return err
			}
			f := flows[e.Address]
			f.it = f.it.Derive(item.Edited, "", edit.apply(f.it.Fields, t.x.secrets()), e.Ended)
			f.untouched.it = f.it // what a person has mended stays mended
		}
	}
	return nil
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
