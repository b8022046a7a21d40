package engine

import (
	"context"
	"math"
	"slices"

	"youngtrellis/internal/core/steps"
	"youngtrellis/internal/core/workflow"
)

// branch sends each item through the steps of its cases. What comes out of them
// rejoins in the order in which the items came in, and for one item in that of
// the cases. What a case holds until its end comes behind, in the order of the
// cases.
type branch struct {
	base
	op     steps.Branch // nil for a fallback: those go through it for which the step failed
	blocks []*workflow.CompiledBlock
	cases  []stage
	seq    int
	out    []rejoined
	open   *torn     // what is above is open
	ends   [][]*flow // of each case: what an earlier pass left of the end of its lists
}

type rejoined struct {
	f       *flow
	seq, in int
}

func newBranch(b base, op steps.Branch) *branch { return newNest(b, op, b.step.Cases()) }

// newFallback makes what stands behind a step that has a fallback.
func newFallback(b base, block *workflow.CompiledBlock) *branch {
	return newNest(b, nil, []*workflow.CompiledBlock{block})
}

func newNest(b base, op steps.Branch, blocks []*workflow.CompiledBlock) *branch {
	s := &branch{base: b, op: op, blocks: blocks}
	inner := *b.room
	inner.nested, inner.place, inner.torn = true, &place{b.room.place, math.MaxInt}, &torn{up: b.room.torn}
	s.open = inner.torn
	s.ends = make([][]*flow, len(blocks))
	for i, block := range blocks {
		s.cases = append(s.cases, inner.chain(block, &rejoin{s, i}))
	}
	return s
}

// rejoin is the end of a case.
type rejoin struct {
	of *branch
	in int
}

func (r *rejoin) take(_ context.Context, chunk []*flow) error {
	for _, f := range chunk {
		r.of.out = append(r.of.out, rejoined{f, f.place.seq, r.in})
		f.place = f.place.up
	}
	return nil
}

func (r *rejoin) end(context.Context) error { return nil }

// take gives what came before an item that is open above to the cases first, as
// the lists there are closed by it: they are the same whatever the chunks are.
func (s *branch) take(ctx context.Context, chunk []*flow) error {
	for len(chunk) > 0 {
		n := 1
		for n < len(chunk) && (s.open.set || !s.tears(chunk[n])) {
			n++
		}
		if err := s.through(ctx, chunk[:n]); err != nil {
			return err
		}
		chunk = chunk[n:]
	}
	return nil
}

// tears tells whether a flow is open above.
func (s *branch) tears(f *flow) bool {
	_, within := s.stands(f)
	return !within && (s.op == nil || !s.mine(f)) && s.above(f)
}

func (s *branch) through(ctx context.Context, chunk []*flow) error {
	through := make([][]*flow, len(s.cases))
	for _, f := range chunk {
		for _, r := range s.route(f, s.seq) {
			if r.in == len(s.cases) {
				s.out = append(s.out, r)
				continue
			}
			r.f.place = &place{r.f.place, r.seq}
			through[r.in] = append(through[r.in], r.f)
		}
		s.seq++
	}
	if err := s.decide(ctx); err != nil { // before anything of a case is done
		return err
	}
	for i, list := range through {
		if len(list) == 0 {
			continue
		}
		if err := s.cases[i].take(ctx, list); err != nil {
			return err
		}
	}
	return s.merge(ctx)
}

// route gives what becomes of a flow: the cases that it, or what comes of it,
// goes through. Past all of them is the number of cases.
func (s *branch) route(f *flow, seq int) []rejoined {
	past := []rejoined{{f, seq, len(s.cases)}}
	if i, ok := s.stands(f); ok {
		if f.endedWithin(s.step, s.plan) {
			f.place = &place{f.place, seq}
			s.ends[i] = append(s.ends[i], f)
			return nil
		}
		return []rejoined{{f, seq, i}}
	}
	if s.op == nil {
		return s.fallen(f, seq, past)
	}
	if !s.mine(f) {
		s.open.set = s.open.set || s.above(f)
		return past
	}
	s.arrives(f)
	blocks, text, err := s.op.Route(s.scope(f.it))
	if err != nil {
		s.fail(f, err)
		return past
	}
	if len(blocks) == 0 {
		blocks = []int{len(s.cases)}
	}
	s.counts.at(s.step.Number, func(c *StepCounts) {
		c.In++
		c.Out += len(blocks)
		for _, i := range blocks {
			c.went(i)
		}
	})
	if !s.op.Every() {
		s.pass(f, Passed, text, f.it.Fields)
		return []rejoined{{f, seq, blocks[0]}}
	}
	var out []rejoined
	for _, i := range blocks {
		it := f.it.Child(s.step.Number, s.rounds, uint32(i), f.it.Fields, f.it.At)
		if !s.only().relevant(it.Address) {
			continue
		}
		c := f.child(it)
		c.bytes = f.bytes
		s.show(c, Passed, s.op.Way(i))
		s.remember(it)
		out = append(out, rejoined{c, seq, i})
	}
	return out
}

// fallen lets those through the fallback for which its step has just failed.
func (s *branch) fallen(f *flow, seq int, past []rejoined) []rejoined {
	s.open.set = s.open.set || s.above(f)
	if f.state == moving && !f.entering && f.it.Failure != nil && f.it.Step == s.step.Number && f.it.Rounds == s.rounds {
		return []rejoined{{f, seq, 0}}
	}
	return past
}

// stands tells in which case a flow stands that an earlier pass left there.
func (s *branch) stands(f *flow) (int, bool) {
	if f.state != moving && !f.state.open() || f.state == moving && !f.entering {
		return 0, false
	}
	at := s.plan.ByNumber(f.at)
	if at == nil {
		return 0, false
	}
	for i, block := range s.blocks {
		if at.In == block || slices.ContainsFunc(slices.Collect(at.Around()), func(x *workflow.CompiledStep) bool { return x.In == block }) {
			return i, true
		}
	}
	return 0, false
}

// merge gives on what has come out of the cases, in order.
func (s *branch) merge(ctx context.Context) error {
	slices.SortStableFunc(s.out, func(a, b rejoined) int {
		if a.seq != b.seq {
			return a.seq - b.seq
		}
		return a.in - b.in
	})
	out := make([]*flow, 0, len(s.out))
	for _, r := range s.out {
		out = append(out, r.f)
	}
	s.out = s.out[:0]
	return s.chunks(ctx, out, s.down)
}

func (s *branch) end(ctx context.Context) error {
	for i, c := range s.cases {
		if err := s.chunks(ctx, s.ends[i], c); err != nil {
			return err
		}
		if err := c.end(ctx); err != nil {
			return err
		}
		out := make([]*flow, 0, len(s.out))
		for _, r := range s.out {
			out = append(out, r.f)
		}
		s.out = s.out[:0]
		if err := s.chunks(ctx, out, s.down); err != nil {
			return err
		}
	}
	return s.down.end(ctx)
}
