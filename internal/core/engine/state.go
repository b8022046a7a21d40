package engine

import (
	"fmt"

	"youngtrellis/internal/core/item"
)

// state is where an item stands.
type state uint8

const (
	moving   state = iota // it goes on, from the step at which it enters
	ended                 // it goes no further, and that is well: held back, gave nothing
	joined                // it went into a group, which goes on
	through               // it had passed every step in an earlier pass
	left                  // nothing is known to be final of it at the step where it stands
	parked                // it waits there
	failed                // it stopped the run there
	aside                 // it was set aside there
	doubtful              // what was to happen there may have happened
)

// open tells whether a later pass may take the item up.
func (s state) open() bool { return s >= left }

// blocks tells whether a list in which the item would stand cannot be closed yet.
func (s state) blocks() bool { return s == left || s == parked || s == failed }

// next are the states that may follow: a moving item comes to any; an open one
// moves again when it is taken up, and one that is over stays so.
var next = map[state][]state{
	moving:   {ended, joined, through, left, parked, failed, aside, doubtful},
	left:     {moving, left, ended},
	parked:   {moving, left, parked, ended},
	failed:   {moving, ended},
	aside:    {moving, ended},
	doubtful: {moving, ended},
	ended:    {ended},
	joined:   {joined},
	through:  {through},
}

// become is the only way in which an item changes its state; at says where it
// stands now.
func (f *flow) become(s state, at uint16, rounds item.Rounds) {
	for _, n := range next[f.state] {
		if n == s {
			f.state, f.at, f.rounds = s, at, rounds
			f.entering = s == moving
			return
		}
	}
	panic(fmt.Sprintf("engine: item %s cannot become %d, being %d", f.it.Address, s, f.state))
}

// outcome is what the journal calls an open state.
func (s state) outcome() Outcome {
	for o, x := range stateOf {
		if x == s {
			return o
		}
	}
	return ""
}

var (
	stateOf = map[Outcome]state{Failed: failed, SetAside: aside, Unknown: doubtful}
	fateOf  = map[state]Fate{failed: Stopped, aside: Aside, doubtful: MayBeSent, parked: Waiting}
)
