package engine

import (
	"context"
	"math"
	"slices"

	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/steps"
	"youngtrellis/internal/core/workflow"
)

// begun are rounds that a loop has begun, as its journal keeps them: pages that
// name the items of each round, so that whoever looks at an item later knows in
// which round it was without doing those before. Beyond the members of the last
// one stands how the loop ended: with all its items through, or stopped.
type begun struct {
	page  int
	first uint32 // the round with which the page begins
	list  seal   // of the rounds that are on no page yet
}

// roundsPage is how many rounds, or items in them, a page has.
const roundsPage = 4096

// How a loop ended, as what stands behind the members of the last round.
const (
	allThrough = 1 + iota
	stopped
)

// add puts down with which items a round begins; the numbers between it and the
// one before are rounds that were repeated.
func (b *begun) add(n uint32, flows []*flow) {
	if len(b.list.ends) == 0 {
		b.first = n
	}
	for b.first+uint32(len(b.list.ends)) < n {
		b.list.ends = append(b.list.ends, len(b.list.members))
	}
	for _, f := range flows {
		b.list.members = append(b.list.members, f.it.Address)
	}
	b.list.ends = append(b.list.ends, len(b.list.members))
}

// full tells whether a page should be written.
func (b *begun) full() bool {
	return len(b.list.members) >= roundsPage || len(b.list.ends) >= roundsPage
}

// forget drops the rounds before one, which stand on a page.
func (b *begun) forget(before uint32) {
	if before <= b.first {
		return
	}
	n := min(int(before-b.first), len(b.list.ends))
	if n == 0 {
		return
	}
	from := b.list.ends[n-1]
	ends := b.list.ends[n:]
	for i := range ends {
		ends[i] -= from
	}
	b.first, b.list = before, seal{members: b.list.members[from:], ends: ends}
}

// roundsOn is a page as it is read.
type roundsOn struct {
	first   uint32
	members [][]item.Address
	end     int // how the loop ended; 0: it is not known here
}

func readRounds(e *Entry) (*roundsOn, error) {
	list, err := readSeal(e.Result)
	if err != nil {
		return nil, err
	}
	on := &roundsOn{first: e.First}
	from := 0
	for _, to := range list.ends {
		if to > len(list.members) {
			on.end = to - len(list.members)
			break
		}
		if to < from {
			return nil, errTorn
		}
		on.members = append(on.members, list.members[from:to])
		from = to
	}
	return on, nil
}

// records tells whether rounds are put down here.
func (s *loop) records() bool { return s.room.live && !s.Rehearse && !s.Sampled }

// begins puts down with which items the next round begins.
func (s *loop) begins(ctx context.Context, flows []*flow) error {
	if !s.records() {
		return nil
	}
	s.begun.add(s.next, flows)
	for s.begun.full() {
		if err := s.write(ctx, 0); err != nil {
			return err
		}
	}
	return nil
}

// endRounds says how the loop ended, if it does not go on in the same pass.
func (s *loop) endRounds(ctx context.Context) error {
	if !s.records() {
		return nil
	}
	end := allThrough
	if s.torn || s.over || s.room.torn.is() {
		end = stopped
		why, _, _ := s.stop.reason()
		if why == parks || why == handedOver || why == goesOn && s.parkedAny() {
			return nil
		}
	}
	return s.write(ctx, end)
}

// parkedAny tells whether anything of the run waits.
func (x *execution) parkedAny() bool {
	x.waiting.mu.Lock()
	defer x.waiting.mu.Unlock()
	return x.waiting.parked != nil
}

// write makes a page durable. One that stands already is another's, or of an
// execution before this one, which may have known less: what it lacks comes on
// the next.
func (s *loop) write(ctx context.Context, end int) error {
	list := s.begun.list
	if end > 0 {
		list.ends = append(list.ends[:len(list.ends):len(list.ends)], len(list.members)+end)
	}
	now := s.now()
	if len(s.begun.list.ends) == 0 {
		s.begun.first = s.next
	}
	stood, err := s.Journal.Append(ctx, &Entry{Key: s.key("", s.begun.page), Outcome: Closed, First: s.begun.first, Started: now, Ended: now, Result: list.encode()})
	if err != nil {
		return err
	}
	on, err := readRounds(stood)
	if err != nil {
		return err
	}
	s.begun.page++
	s.begun.forget(on.first + uint32(len(on.members)))
	if end > 0 && (len(s.begun.list.ends) > 0 || on.end != end) {
		return s.write(ctx, end)
	}
	return nil
}

// roundOf is a round, and how many items it begins with.
type roundOf struct {
	n  uint32
	of int
}

// roundOf finds with which round an item begins that comes to the loop, where
// only some are looked at; false: with none in this pass.
func (s *loop) roundOf(ctx context.Context, a item.Address) (roundOf, bool, error) {
	if s.roundsOf == nil {
		if err := s.readBegun(ctx); err != nil {
			return roundOf{}, false, err
		}
	}
	n, ok := s.roundsOf[a]
	if !ok && !s.complete {
		return roundOf{}, false, errWide
	}
	return n, ok, nil
}

// readBegun reads the rounds of the items that are looked at.
func (s *loop) readBegun(ctx context.Context) error {
	s.roundsOf = map[item.Address]roundOf{}
	for page := 0; ; page++ {
		e, err := s.Journal.Page(ctx, s.key("", page))
		if err != nil || e == nil {
			return err
		}
		on, err := readRounds(e)
		if err != nil {
			return err
		}
		s.complete = on.end > 0
		for i, members := range on.members {
			for _, m := range members {
				if s.only().relevant(m) {
					s.roundsOf[m] = roundOf{on.first + uint32(i), len(members)}
				}
			}
		}
	}
}

// wantRounds makes all items of a round wanted that was the last before a loop
// stopped, if one of them is: none of it went on unless all did. They may have
// been in such rounds of other loops.
func (x *execution) wantRounds(ctx context.Context) error {
	for {
		before := len(x.wanted.rounds)
		for _, p := range x.Passes {
			for _, step := range p.Plan.Steps {
				if err := x.wantRound(ctx, p.Number, step); err != nil {
					return err
				}
			}
		}
		if len(x.wanted.rounds) == before {
			return nil
		}
	}
}

// wantRound does so for one loop in one pass.
func (x *execution) wantRound(ctx context.Context, pass int, step *workflow.CompiledStep) error {
	l, ok := step.Operator.(steps.Loop)
	if !ok || step.Off || step.Depth > 0 || l.Rounds() == nil {
		return nil
	}
	last, n, err := x.lastRound(ctx, Key{Pass: pass, Step: step.Number})
	at := roundAt{step.Number, item.Rounds("").Add(item.Round{Edition: uint32(pass), N: n})}
	if err != nil || x.wanted.rounds[at] || !slices.ContainsFunc(last, x.wanted.relevant) {
		return err
	}
	x.wanted.rounds[at] = true
	for _, m := range last {
		if err := x.want(ctx, m, 0); err != nil {
			return err
		}
	}
	return nil
}

// lastRound are the items of the last round of a loop that stopped, and its
// number.
func (x *execution) lastRound(ctx context.Context, k Key) ([]item.Address, uint32, error) {
	e, err := x.Journal.PageOf(ctx, k, math.MaxUint32)
	if err != nil || e == nil {
		return nil, 0, err
	}
	on, err := readRounds(e)
	if err != nil || on.end == allThrough {
		return nil, 0, err
	}
	if len(on.members) == 0 && e.Part > 0 {
		k.Part = e.Part - 1
		if e, err = x.Journal.Page(ctx, k); err != nil || e == nil {
			return nil, 0, err
		}
		if on, err = readRounds(e); err != nil {
			return nil, 0, err
		}
	}
	n := len(on.members)
	if n == 0 {
		return nil, 0, nil
	}
	return on.members[n-1], on.first + uint32(n-1), nil
}

// roundAt is a round of a step.
type roundAt struct {
	step uint16
	in   item.Rounds
}

// narrow tells whether an item can be replayed without the others: not where a
// step reads a column, nor where what came of one item goes round together, nor
// where only the first of them go on.
func (r *Run) narrow() bool {
	if r.AtFirst > 0 {
		return false
	}
	for _, p := range r.Passes {
		for _, s := range p.Plan.Steps {
			if s.Kept || turnsMany(s) {
				return false
			}
		}
	}
	return true
}

// turnsMany tells whether a step stands in a loop that is repeated for each item,
// and gives several or takes several in.
func turnsMany(s *workflow.CompiledStep) bool {
	if s.Off || !severalOf(s) {
		return false
	}
	for of := range s.Around() {
		if l, ok := of.Operator.(steps.Loop); ok && l.Rounds() == nil {
			return true
		}
	}
	return false
}

func severalOf(s *workflow.CompiledStep) bool {
	switch op := s.Operator.(type) {
	case steps.Spreads, steps.Holder:
		return true
	case steps.Branch:
		return op.Every()
	}
	return s.Lists()
}
