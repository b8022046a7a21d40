package engine

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"time"

	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/steps"
)

// park lets items wait, each until a time of its own. It takes in its whole list;
// items go on as they wake, in the order of the running numbers of their wakes.
type park struct {
	base
	op    steps.Parker
	pile  *pile
	woken []awake
	rest  []asleep
	next  int  // running number of the next wake
	woke  bool // those that a wake is about
}

type awake struct {
	number, place int
	at            time.Time
}

type asleep struct {
	place int
	due   time.Time
}

// manyAtOnce is how many entries are handed in together: each waits for its batch.
const manyAtOnce = 256

func (s *park) take(ctx context.Context, chunk []*flow) error {
	var out, due []*flow
	for _, f := range chunk {
		if !s.mine(f) {
			out = append(out, f)
			continue
		}
		s.arrives(f)
		if s.Rehearse || s.Sampled {
			if err := s.rehearse(f); err != nil {
				s.fail(f, err)
			}
			out = append(out, f)
			continue
		}
		due = append(due, f)
	}
	known, err := s.parked(ctx, due)
	if err != nil {
		return err
	}
	if err := s.each(ctx, due, manyAtOnce, func(ctx context.Context, f *flow) error { return s.arrive(ctx, f, known[f.it.Address]) }); err != nil {
		return err
	}
	for _, f := range due {
		if f.state != moving || f.it.Step == s.step.Number && f.it.Rounds == s.rounds { // it failed, and may go on without waiting
			out = append(out, f)
			continue
		}
		at, err := s.pile.add(f)
		if err != nil {
			return err
		}
		if wake := known[f.it.Address][PartWake]; wake != nil {
			n, _ := strconv.Atoi(string(wake.Result))
			s.woken, s.next = append(s.woken, awake{n, at, wake.Ended}), max(s.next, n+1)
		} else {
			s.rest = append(s.rest, asleep{at, f.due})
		}
	}
	return s.give(ctx, out)
}

// rehearse waits for nothing and says until when the item would wait.
func (s *park) rehearse(f *flow) error {
	due, err := s.op.Due(s.scope(f.it), s.now())
	if err != nil {
		return err
	}
	s.counts.at(s.step.Number, func(c *StepCounts) { c.In++; c.Out++ })
	s.base.pass(f, Passed, "would wait until "+due.UTC().Format("2 Jan 15:04 UTC"), f.it.Fields)
	return nil
}

// parked finds what the journal holds of items at the step.
func (s *park) parked(ctx context.Context, due []*flow) (map[item.Address]map[int]*Entry, error) {
	out := make(map[item.Address]map[int]*Entry, len(due))
	addresses := make([]item.Address, len(due))
	for i, f := range due {
		addresses[i] = f.it.Address
		out[f.it.Address] = map[int]*Entry{}
	}
	if len(due) == 0 {
		return out, nil
	}
	var entries []*Entry
	err := s.held(ctx, "the journal cannot be read", func(ctx context.Context) (err error) {
		entries, err = s.Journal.Entries(ctx, s.room.pass.Number, s.step.Number, s.rounds, addresses)
		return err
	})
	for _, e := range entries {
		out[e.Address][e.Part] = e
	}
	return out, err
}

// arrive makes it durable until when an item waits. One that waited in an
// earlier pass waits until the same time.
func (s *park) arrive(ctx context.Context, f *flow, known map[int]*Entry) error {
	e := known[PartPark]
	if e == nil {
		if !s.mayBegin(f) {
			s.leave(f)
			return nil
		}
		due := f.due
		if due.IsZero() {
			var err error
			if due, err = s.op.Due(s.scope(f.it), latest(s.now(), f.it.At)); err != nil {
				s.fail(f, err)
				return nil
			}
		}
		now := latest(s.now(), f.it.At)
		e = &Entry{Key: s.key(f.it.Address, PartPark), Outcome: Waited, Started: now, Ended: now, Result: []byte(strconv.Quote(due.UTC().Format(time.RFC3339Nano)))}
		var err error
		if e, err = s.Journal.Append(ctx, e, Waits{Key: e.Key, Due: due}); err != nil {
			return err
		}
	}
	f.touched()
	text, err := strconv.Unquote(string(e.Result))
	if err == nil {
		f.due, err = time.Parse(time.RFC3339Nano, text)
	}
	if err != nil {
		return fmt.Errorf("the journaled time of %s cannot be read: %w", s.step.Name, err)
	}
	return nil
}

func (s *park) end(ctx context.Context) error {
	slices.SortFunc(s.woken, func(a, b awake) int { return a.number - b.number })
	slices.SortStableFunc(s.rest, func(a, b asleep) int { return a.due.Compare(b.due) })
	if err := s.fill(ctx); err != nil {
		return err
	}
	for {
		if err := s.release(ctx); err != nil {
			return err
		}
		n := s.ready()
		if len(s.rest) == 0 || !s.effective() {
			break
		}
		if n > 0 {
			if err := s.wake(ctx, s.rest[:n]); err != nil {
				return err
			}
			s.rest = s.rest[n:]
			continue
		}
		pause := s.rest[0].due.Sub(s.now())
		if pause > s.longest() || !s.pause(ctx, pause) {
			break
		}
	}
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	if err := s.asleep(ctx); err != nil {
		return err
	}
	return s.down.end(ctx)
}

// fill wakes those whose wake did not become durable when later ones of the same
// moment did: they have the numbers that are missing, and go on before them.
func (s *park) fill(ctx context.Context) error {
	n := s.next - len(s.woken)
	if n <= 0 || s.about != nil || !s.effective() {
		return nil
	}
	missing := make([]int, 0, n)
	for number, at := 0, 0; number < s.next; number++ {
		if at < len(s.woken) && s.woken[at].number == number {
			at++
		} else {
			missing = append(missing, number)
		}
	}
	n = min(n, s.ready())
	if err := s.wakeAs(ctx, s.rest[:n], missing[:n]); err != nil {
		return err
	}
	s.rest = s.rest[n:]
	slices.SortFunc(s.woken, func(a, b awake) int { return a.number - b.number })
	return nil
}

// ready puts those whose time has come first, and tells how many they are.
func (s *park) ready() int {
	n := 0
	for now := s.now(); n < len(s.rest) && !s.rest[n].due.After(now); n++ {
	}
	if s.about == nil || s.woke {
		return n
	}
	s.woke = true // whose time it is was decided by the database's clock, once
	n = 0
	for i, d := range s.rest {
		if f, err := s.pile.get(d.place); err == nil && s.about[Place{s.step.Number, f.it.Address}] {
			copy(s.rest[n+1:i+1], s.rest[n:i])
			s.rest[n] = d
			n++
		}
	}
	return n
}

// wake makes it durable that items go on, in the order in which they are due.
func (s *park) wake(ctx context.Context, due []asleep) error {
	if s.about != nil { // as many as went on from here before have their numbers
		s.next = max(s.next, s.Due.Counts.Of(s.step.Number).Out)
	}
	numbers := make([]int, len(due))
	for i := range numbers {
		numbers[i] = s.next
		s.next++
	}
	return s.wakeAs(ctx, due, numbers)
}

// wakeAs does so with these numbers.
func (s *park) wakeAs(ctx context.Context, due []asleep, numbers []int) error {
	flows := make([]*flow, len(due))
	number := map[*flow]awake{}
	for i, d := range due {
		f, err := s.pile.get(d.place)
		if err != nil {
			return err
		}
		flows[i] = f
		number[f] = awake{numbers[i], d.place, time.Time{}}
	}
	at := s.now()
	err := s.each(ctx, flows, manyAtOnce, func(ctx context.Context, f *flow) error {
		end := latest(at, f.it.At)
		e := &Entry{Key: s.key(f.it.Address, PartWake), Outcome: Done, Started: end, Ended: end, Result: []byte(strconv.Itoa(number[f].number))}
		_, err := s.Journal.Append(ctx, e, Wakes{Key: e.Key})
		return err
	})
	if err != nil {
		return err
	}
	for _, f := range flows {
		w := number[f]
		w.at = latest(at, f.it.At)
		s.woken = append(s.woken, w)
	}
	return nil
}

// release lets the woken go on.
func (s *park) release(ctx context.Context) error {
	var out []*flow
	for _, w := range s.woken {
		f, err := s.pile.release(w.place)
		if err != nil {
			return err
		}
		f.due = time.Time{}
		s.counts.at(s.step.Number, func(c *StepCounts) { c.In++; c.Out++ })
		s.show(f, Passed, "waited until "+w.at.UTC().Format("2 Jan 15:04 UTC"))
		f.it = f.it.Derive(s.step.Number, s.rounds, f.it.Fields, w.at)
		f.stands(ending(s.step), uint64(w.number))
		s.remember(f.it)
		if out = append(out, f); len(out) == mostItems {
			if err := s.chunks(ctx, out, s.down); err != nil {
				return err
			}
			out = nil
		}
	}
	s.woken = nil
	return s.chunks(ctx, out, s.down)
}

// asleep gives on what waits still. Others go on meanwhile.
func (s *park) asleep(ctx context.Context) error {
	var out []*flow
	for _, d := range s.rest {
		f, err := s.pile.release(d.place)
		if err != nil {
			return err
		}
		f.become(parked, s.step.Number, s.rounds)
		s.show(f, Waiting, "until "+d.due.UTC().Format("2 Jan 15:04 UTC"))
		if out = append(out, f); len(out) == mostItems {
			if err := s.chunks(ctx, out, s.down); err != nil {
				return err
			}
			out = nil
		}
	}
	if len(s.rest) > 0 && s.room.live {
		s.wait(s.parkedAt(s.step.Number, s.rest[0].due))
	}
	s.rest = nil
	return s.chunks(ctx, out, s.down)
}
