package engine

import "context"

// takeUp hands the open items of one pass to the next.
type takeUp struct {
	x    *execution
	pass Pass
	down stage
}

func (t *takeUp) take(ctx context.Context, chunk []*flow) error {
	for _, f := range chunk {
		t.takeUp(f)
	}
	return t.down.take(ctx, chunk)
}

func (t *takeUp) end(ctx context.Context) error { return t.down.end(ctx) }

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
