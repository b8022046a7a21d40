package steps

import (
	"iter"
	"time"

	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/reply"
)

// Operator is what a step does. It stands on one of the bases that the engine
// knows, by what it can:
//
//	Each    one item in, none or more out
//	Sieve   lets an item go on or not, by how many of its key came before
//	Holder  takes many items in and makes one of each group
//	Picker  takes the whole list in and lets some of its items go on, in its order
//	Call    one journaled effect for one item
//	Parker  an item waits for a time
//	Branch  each item goes through the steps of some cases
//	Loop    the steps are done in rounds
//	Ender   ends the run
//	Answerer says what whoever set the run off is answered
//
// An operator is never changed and is used by many runs at once.
type Operator any

// Each works on one item at a time.
type Each interface {
	// Apply gives what the step makes of the item in scope.
	Apply(*expr.Scope) (Result, error)
}

// Spreads is an Each that can give several items for one.
type Spreads interface {
	Each
	Spreads()
}

// Result is what becomes of an item.
type Result struct {
	Fields map[string]any   // nil: the item goes on as it is
	Many   []map[string]any // of one that Spreads: the items that go on
	Held   bool             // it does not go on
	Text   string           // for the cell: why it was held, or what was made
}

// Holder takes many items in and makes one item of each group.
type Holder interface {
	// Take gives what the holder keeps of an item.
	Take(*expr.Scope) (Member, error)
	// Streams tells whether a group is made as soon as it is full; otherwise all
	// of them are when the list has ended, in the order of their first members.
	Streams() bool
	// Fits tells whether one more fits into a group that is as large.
	Fits(Filling, Member) bool
	// Full tells whether a group takes no more.
	Full(Filling) bool
	// Make makes the group's item of what was kept of its members, in order.
	Make(key any, members iter.Seq2[any, error]) (Result, error)
	// OfNothing tells whether a list without items gives one all the same.
	OfNothing() bool
}

// Member is what a holder keeps of an item.
type Member struct {
	Key   any // items of one key make a group
	Value any // a JSON value
	Size  int // of what it counts besides items: bytes
}

// Filling is how full a group is.
type Filling struct{ Count, Size int }

// Sieve lets an item go on or holds it back by how many items of its key came
// before it in the list.
type Sieve interface {
	// Key is what is counted apart.
	Key(*expr.Scope) (any, error)
	// Lets tells whether an item goes on before which so many of its key came.
	Lets(before int) bool
	// Why says so in words.
	Why(passes bool, key any) string
}

// Picker takes the whole list in and lets some of its items go on, each as it
// came, in an order of its own.
type Picker interface {
	// Take gives what is kept of an item to decide by. Its key counts for nothing.
	Take(*expr.Scope) (Member, error)
	// Pick gives the members that go on, in order, by their places in the list,
	// and those that failed.
	Pick(members []Candidate) (order []int, failed map[int]error)
	// Took and Held say in words what became of a member.
	Took() string
	Held() string
}

// Candidate is a member of a list of which some go on.
type Candidate struct {
	Value any    // what was kept of it
	Seed  string // from which chance is made: the run, the step and the item's address
}

// Ender ends the run with the item in scope.
type Ender interface {
	// Ends gives the message with which it ends.
	Ends(*expr.Scope) (message string, err error)
	// Fails tells whether the run has failed then.
	Fails() bool
}

// Answerer says what whoever set the run off is answered.
type Answerer interface {
	// Answer gives what the item in scope answers.
	Answer(*expr.Scope) (*reply.Reply, error)
}

// Call is a call that the step makes for each item.
type Call struct {
	Action *connector.Action
	Input  *expr.Value
	Tree   map[string]any // what Input was made of
}

// Parker lets each item wait.
type Parker interface {
	// Due is until when the item in scope waits, from now on.
	Due(s *expr.Scope, now time.Time) (time.Time, error)
}

// Branch sends each item through the steps of cases.
type Branch interface {
	// Route gives the numbers of the blocks that the item goes through, in order;
	// none: it goes on past them.
	Route(*expr.Scope) (blocks []int, text string, err error)
	// Every tells whether an item can go through several.
	Every() bool
	// Way is what a cell says of an item that goes through a block.
	Way(block int) string
}

// Loop does its steps in rounds: over the items, some at a time, or again and
// again for the same.
type Loop interface {
	// Rounds gives the groups of items of which each is a round; nil where the
	// rounds are repeated for each item.
	Rounds() Holder
	// Most is how often a round is repeated at most.
	Most() int
	// Until tells whether the item in scope, the first of the round, needs no
	// further one.
	Until(*expr.Scope) (bool, error)
}
