package engine

import (
	"context"
	"crypto/sha256"
	"sync"

	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/steps"
)

// sieve lets items go on or holds them back by what came before them. It goes on
// in a later pass from where it stood in the earlier one. Once something above is
// open, nothing is decided of what comes behind it: it would come before.
type sieve struct {
	base
	op   steps.Sieve
	torn bool
	fate sifted

	// Where only some items are looked at:
	read map[item.Address]bool // who went on, of those of whom it is known
	rest *bool                 // what became of all others; nil: they were left
}

// sifted is what became of the items of a list.
type sifted struct {
	hash uint64
	went seal
	held seal
}

func (s *sifted) add(it *item.Item, goesOn bool) {
	if s.hash = s.hash*1099511628211 + hash(string(it.Address)); goesOn {
		s.hash++
		s.went.members = append(s.went.members, it.Address)
		return
	}
	s.held.members = append(s.held.members, it.Address)
}

// How the entry of a list names its items.
const (
	namesThoseThatWent = iota // all others were held back
	namesThoseHeld            // all others went on
	namesBoth                 // first those that went on; all others were left
)

// seal is what is kept of the list: the fewer of those that went on and those
// that were held back, or both where others were left.
func (s *sifted) seal(torn bool) *seal {
	n := len(s.went.members)
	switch {
	case torn:
		return &seal{s.hash, append(s.went.members[:n:n], s.held.members...), []int{namesBoth, n}}
	case n <= len(s.held.members):
		return &seal{s.hash, s.went.members, []int{namesThoseThatWent, n}}
	}
	return &seal{s.hash, s.held.members, []int{namesThoseHeld, 0}}
}

func (s *sieve) take(ctx context.Context, chunk []*flow) error {
	for _, f := range chunk {
		switch {
		case !s.mine(f):
			s.torn = s.torn || s.ahead(f)
		case s.only() != nil:
			if err := s.look(ctx, f); err != nil {
				return err
			}
		case s.torn || s.room.torn.is():
			s.leave(f)
		default:
			s.arrives(f)
			s.sift(f)
		}
	}
	return s.give(ctx, chunk)
}

// ahead tells whether an open item will come before those behind it: one that
// waits comes after all that do not.
func (s *sieve) ahead(f *flow) bool { return f.state != parked && s.above(f) }

func (s *sieve) sift(f *flow) {
	key, err := s.op.Key(s.scope(f.it))
	if err != nil {
		s.fail(f, err)
		return
	}
	before, err := s.seen.before(s.step.Number, s.rounds, key)
	if err != nil {
		s.fail(f, err)
		return
	}
	goesOn := s.op.Lets(before)
	s.fate.add(f.it, goesOn)
	s.went(f, goesOn, key)
}

// went is what became of an item.
func (s *sieve) went(f *flow, goesOn bool, key any) {
	s.counts.at(s.step.Number, func(c *StepCounts) {
		if c.In++; goesOn {
			c.Out++
		} else {
			c.Held++
		}
	})
	text := s.op.Why(goesOn, key)
	if goesOn {
		s.pass(f, Passed, text, f.it.Fields)
		return
	}
	f.become(ended, s.step.Number, s.rounds)
	s.show(f, Held, text)
}

func (s *sieve) end(ctx context.Context) error {
	if s.only() == nil && !s.Rehearse && !s.Sampled {
		if err := s.write(ctx, s.torn || s.room.torn.is()); err != nil {
			return err
		}
	}
	if s.rounds != "" && s.room.pass == s.last() {
		s.seen.drop(s.step.Number, s.rounds)
	}
	return s.down.end(ctx)
}

// write makes it durable who went on. What was decided while a list was torn is
// written once the next pass has begun: only then does nothing more come to it.
func (s *sieve) write(ctx context.Context, torn bool) error {
	if torn && (s.room.live || !s.execution.live) || !torn && s.parkedAny() {
		return nil
	}
	known, err := s.standing(ctx, PartSeal, "")
	if err != nil || torn && known[""] != nil {
		return err
	}
	end := s.fate.seal(torn)
	if !torn {
		_, err = s.sealed(ctx, s.key("", PartSeal), known[""], end)
		return err
	}
	now := s.now()
	_, err = s.Journal.Append(ctx, &Entry{Key: s.key("", PartSeal), Outcome: Closed, Started: now, Ended: now, Result: end.encode()})
	return err
}

// look finds out of an item that is looked at alone what became of it.
func (s *sieve) look(ctx context.Context, f *flow) error {
	goesOn, known, err := s.known(ctx, f.it.Address)
	if err != nil {
		return err
	}
	key, wrong := s.op.Key(s.scope(f.it))
	switch {
	case wrong != nil:
		s.fail(f, wrong)
	case !known:
		s.leave(f)
	default:
		s.went(f, goesOn, key)
	}
	return nil
}

// known tells whether an item went on, as the journal says it.
func (s *sieve) known(ctx context.Context, a item.Address) (goesOn, known bool, err error) {
	if s.read == nil {
		if err := s.readFate(ctx); err != nil {
			return false, false, err
		}
	}
	if goesOn, known = s.read[a]; !known && s.rest != nil {
		return *s.rest, true, nil
	}
	return goesOn, known, nil
}

func (s *sieve) readFate(ctx context.Context) error {
	known, err := s.standing(ctx, PartSeal, "")
	if err != nil {
		return err
	}
	if known[""] == nil {
		return errWide
	}
	list, err := readSeal(known[""].Result)
	if err != nil {
		return err
	}
	if len(list.ends) != 2 || list.ends[1] > len(list.members) {
		return errTorn
	}
	s.read = make(map[item.Address]bool, len(list.members))
	for i, a := range list.members {
		s.read[a] = i < list.ends[1]
	}
	if mode := list.ends[0]; mode != namesBoth {
		others := mode == namesThoseHeld
		s.rest = &others
	}
	return nil
}

// seen counts what came to lists, by key, over all passes.
type seen struct {
	x     *execution
	mu    sync.Mutex // protects the following field
	lists map[listKey]map[[16]byte]int
}

// seenBytes is about what a key costs in memory.
const seenBytes = 64

func newSeen(x *execution) *seen { return &seen{x: x, lists: map[listKey]map[[16]byte]int{}} }

// before tells how many of the key came before, and counts one more.
func (s *seen) before(step uint16, rounds item.Rounds, key any) (int, error) {
	name, err := item.Key(key)
	if err != nil {
		return 0, err
	}
	sum := sha256.Sum256([]byte(name))
	s.mu.Lock()
	defer s.mu.Unlock()
	at := listKey{step, rounds}
	if s.lists[at] == nil {
		s.lists[at] = map[[16]byte]int{}
	}
	short := [16]byte(sum[:16])
	n, ok := s.lists[at][short]
	if !ok {
		s.x.carry(seenBytes)
	}
	s.lists[at][short] = n + 1
	return n, nil
}

// drop forgets a list to which nothing comes any more.
func (s *seen) drop(step uint16, rounds item.Rounds) {
	s.mu.Lock()
	defer s.mu.Unlock()
	at := listKey{step, rounds}
	s.x.let(seenBytes * len(s.lists[at]))
	delete(s.lists, at)
}
